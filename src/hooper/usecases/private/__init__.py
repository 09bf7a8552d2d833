"""Private access: tunnels and their peers."""
