"""State between runs: one SQLite file a site, private."""

__all__ = ("entries", "journal", "kept", "ledger", "locking", "place", "sealed", "sitefile", "state", "updates")
