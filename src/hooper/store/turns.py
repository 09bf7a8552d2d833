"""Where each task of a keeper stands, over a restart."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import Any

from hooper.clock import read_moment, rfc3339
from hooper.store.database import Database
from hooper.store.kept import Turn


class Turns:
    def __init__(self, database: Database) -> None:
        self._db = database

    def all(self) -> dict[str, Turn]:
        """The turns by their tasks. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, Turn]:
            task, due, last, failures, hold, runs = row
            moments = [read_moment(text) if text is not None else None for text in (due, last, hold)]
            return task, Turn(moments[0], moments[1], int(failures), moments[2], int(runs))

        return dict(self._db.readable("turns", "SELECT task, due, last, failures, hold, runs FROM turns", read))

    def save(self, turns: Mapping[str, Turn]) -> None:
        """Keep the turns of these tasks, and of no others. Raises: StateError."""

        def text(moment: datetime | None) -> str | None:
            return rfc3339(moment) if moment is not None else None

        rows = [
            (task, text(turn.due), text(turn.last), turn.failures, text(turn.hold), turn.runs)
            for task, turn in turns.items()
        ]
        with self._db.writing():
            self._db.many("DELETE FROM turns", [()])
            self._db.many("INSERT OR REPLACE INTO turns VALUES (?, ?, ?, ?, ?, ?)", rows)
