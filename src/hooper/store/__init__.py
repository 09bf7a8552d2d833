"""State between runs: one SQLite file a site, private."""

__all__ = (
    "earlier", "entries", "journal", "kept", "ledger", "locking", "place", "preferences", "renaming", "sealed",
    "sitefile", "state", "updates",
)  # fmt: skip
