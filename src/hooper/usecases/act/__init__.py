"""What is done outside: rules in routers, names, certificates."""

__all__ = ("authorities", "certificates", "companion", "names", "routers", "temporary", "updaters")
