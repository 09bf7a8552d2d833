"""Private access: tunnels and their peers."""

__all__ = ("peers", "revoking", "tunnel_conditions", "tunnels")
