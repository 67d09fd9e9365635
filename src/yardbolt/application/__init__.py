"""The use cases. They reach the outside only through `core.ports`; wiring gives them the adapters."""
