"""Finding and driving routers, with a journal."""

__all__ = ("asking", "documents", "driver", "find", "lending", "reading", "refusals", "rules", "subscribing", "work")
