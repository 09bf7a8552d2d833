"""Private access: tunnels and their peers."""

__all__ = ("ends_meet", "logins", "peers", "revoking", "tunnel_conditions", "tunnels")
