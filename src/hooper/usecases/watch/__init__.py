"""How everything stands over time, and who is told."""
