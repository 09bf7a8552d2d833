"""What keeps a site as it should be: when something is looked at, what is done then, and what is told."""

__all__ = ("keeping", "notices", "witnessing")
