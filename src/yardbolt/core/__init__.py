"""The computation: pure values and functions. No I/O, clock, randomness, environment, logging or parser; imports only
itself."""
