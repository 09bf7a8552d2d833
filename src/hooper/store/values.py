"""What a state keeps of itself by name: of which file it is, and the packs that were made for visits."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from hooper.clock import rfc3339
from hooper.store.database import Database


class Values:
    def __init__(self, database: Database) -> None:
        self._db = database

    def keep(self, at: datetime, values: Mapping[str, str]) -> None:
        """Keys: visit:ID, site-file, site-mark. Raises: StateError."""
        with self._db.writing():
            rows = [(key, value, rfc3339(at)) for key, value in values.items()]
            self._db.many("INSERT OR REPLACE INTO told VALUES (?, ?, ?)", rows)

    def forget(self, key: str) -> None:
        """Raises: StateError."""
        self._db.write("DELETE FROM told WHERE key = ?", key)

    def value(self, key: str) -> str | None:
        """None: there is none. Raises: StateError."""
        row = self._db.row("SELECT value FROM told WHERE key = ?", key)
        return str(row[0]) if row is not None else None
