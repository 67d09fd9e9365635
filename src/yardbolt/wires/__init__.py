"""Wires: how a conversation of the core reaches a unit, one file for each. Every await is bounded; what goes wrong is
an outcome."""
