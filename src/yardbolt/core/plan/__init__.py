"""From a target to a rehearsed sheet: differences, precedence, belief, rehearsal, arrangement."""
