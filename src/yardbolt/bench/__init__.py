"""The bench: simulated units with their own minds. Shares no parsing, grammar or family data with the rest of the
program."""
