"""What came of the last update of each name."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from hooper.clock import later, read_moment, rfc3339
from hooper.secret import redact
from hooper.store.database import Database


@dataclass(frozen=True, slots=True)
class LastUpdate:
    """What came of the last update of a name.

    not_before: the provider asked to wait until then, or it is left alone that long after failures. mark: of the
    updater's table in the site file as it then was. failures: in a row.
    shown: the name's own servers had it afterwards.
    """

    value: str
    at: datetime
    outcome: Literal["done", "wait", "never", "failed"]
    said: str
    not_before: datetime | None
    mark: str
    failures: int = 0
    shown: bool = False


class Updates:
    def __init__(self, database: Database) -> None:
        self._db = database

    def last_update(self, name: str, kind: str, now: datetime) -> LastUpdate | None:
        """What came of the last update of a name; None too where that is dated later than `now`. Raises: StateError."""
        question = "SELECT value, at, outcome, said, not_before, mark, failures, shown FROM updates"
        question += " WHERE name = ? AND type = ?"
        found = self._db.readable("updates", question, _last, name, kind)
        return next((last for last in found if not later(last.at, now)), None)

    def save_update(self, name: str, kind: str, last: LastUpdate) -> None:
        """Remember what came of an update. Raises: StateError."""
        not_before = rfc3339(last.not_before) if last.not_before else None
        row = (
            name, kind, last.value, rfc3339(last.at), last.outcome, redact(last.said), not_before, last.mark,
            last.failures, last.shown,
        )  # fmt: skip
        self._db.write("INSERT OR REPLACE INTO updates VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)", *row)


def _last(row: tuple[Any, ...]) -> LastUpdate:
    """Raises: ValueError, TypeError: the row is damaged."""
    value, at, outcome, said, not_before, mark, failures, shown = row
    if outcome not in ("done", "wait", "never", "failed"):
        raise ValueError(f"no such outcome: {outcome!r}")
    until = read_moment(not_before) if not_before else None
    return LastUpdate(value, read_moment(at), outcome, said, until, mark, int(failures), bool(shown))
