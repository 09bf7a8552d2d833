"""Private access: tunnels and their peers."""

__all__ = ("logins", "meeting", "peers", "revoking", "tunnel_conditions", "tunnels")
