"""Commands for how everything stands over time."""
