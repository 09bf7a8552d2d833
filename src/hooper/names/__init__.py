"""Where the public address comes from, publishing it, verifying it."""

__all__ = ("documents", "handing", "own_servers", "publish", "publishers", "update")
