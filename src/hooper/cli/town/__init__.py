"""The simulated town, and the demo in it."""
