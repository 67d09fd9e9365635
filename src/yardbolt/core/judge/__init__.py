"""Rules, baselines, demands, access, passwords: what is good, and who gets in."""
