"""What is done outside: rules in routers, names, certificates."""

__all__ = (
    "authorities", "bundling", "certificates", "companion", "giving", "names", "routers", "securing", "temporary",
    "updaters",
)  # fmt: skip
