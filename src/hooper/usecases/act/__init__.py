"""What is done outside: rules in routers, names, certificates."""

__all__ = ("certificates", "companion", "names", "routers", "temporary", "updaters")
