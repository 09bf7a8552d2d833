"""Private access: tunnels and their peers."""

__all__ = ("logins", "peers", "revoking", "tunnel_conditions", "tunnels")
