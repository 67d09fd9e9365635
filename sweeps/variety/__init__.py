"""Units a program thinks up: features drawn by lot, pair by pair, and what came of each, judged by other means than
ours."""
