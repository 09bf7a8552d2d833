"""What came of the last update of each name."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from hooper.clock import rfc3339
from hooper.secret import redact
from hooper.store.database import Database


@dataclass(frozen=True, slots=True)
class LastUpdate:
    """What came of the last update of a name. mark: of the updater's table in the site file as it then was."""

    value: str
    at: datetime
    outcome: Literal["done", "wait", "never", "failed"]
    said: str
    not_before: datetime | None
    mark: str


class Updates:
    def __init__(self, database: Database) -> None:
        self._db = database

    def last_update(self, name: str, kind: str) -> LastUpdate | None:
        """What came of the last update of a name. Raises: StateError."""
        question = "SELECT value, at, outcome, said, not_before, mark FROM updates WHERE name = ? AND type = ?"
        row = self._db.row(question, name, kind)
        if row is None:
            return None
        not_before = datetime.fromisoformat(row[4]) if row[4] else None
        return LastUpdate(row[0], datetime.fromisoformat(row[1]), row[2], row[3], not_before, row[5])

    def save_update(self, name: str, kind: str, last: LastUpdate) -> None:
        """Remember what came of an update. Raises: StateError."""
        not_before = rfc3339(last.not_before) if last.not_before else None
        row = (name, kind, last.value, rfc3339(last.at), last.outcome, redact(last.said), not_before, last.mark)
        self._db.write("INSERT OR REPLACE INTO updates VALUES (?, ?, ?, ?, ?, ?, ?, ?)", *row)
