"""The command line: the only place that prints, exits or reads argv. `wiring` alone knows the adapters and the
bench."""
