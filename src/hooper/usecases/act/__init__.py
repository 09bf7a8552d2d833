"""What is done outside: rules in routers, names, certificates."""

__all__ = ("certificates", "names", "routers", "temporary", "updaters")
