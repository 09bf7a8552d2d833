"""What came of the last update of each name; accounts and orders of certificates; where each task of a keeper stands;
what a state keeps of itself by name.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from hooper.clock import later, read_moment, rfc3339
from hooper.jsonform import read_as
from hooper.secret import redact
from hooper.store.database import Database
from hooper.store.kept import Turn


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


@dataclass(frozen=True)
class Started:
    """An order that is under way. url: None while the authority has not given one."""

    directory: str
    url: str | None
    names: tuple[str, ...]


class Orders:
    def __init__(self, database: Database) -> None:
        self._db = database

    def account(self, directory: str) -> str | None:
        """The URL of our account at an authority. Raises: StateError."""
        row = self._db.row("SELECT url FROM accounts WHERE directory = ?", directory)
        return str(row[0]) if row else None

    def save_account(self, directory: str, url: str) -> None:
        """Raises: StateError."""
        self._db.write("INSERT OR REPLACE INTO accounts VALUES (?, ?)", directory, url)

    def started(self, certificate: str) -> Started | None:
        """The order for a certificate that has not come to its end. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> Started:
            return Started(row[0], row[1], read_as(tuple[str, ...], json.loads(row[2])))

        question = "SELECT directory, url, names FROM orders WHERE certificate = ?"
        return next(iter(self._db.readable("orders", question, read, certificate)), None)

    def save_started(self, certificate: str, started: Started | None, at: datetime) -> None:
        """Keep an order that is under way; None: there is none any more. Raises: StateError."""
        if started is None:
            self._db.write("DELETE FROM orders WHERE certificate = ?", certificate)
            return
        row = (certificate, started.directory, started.url, json.dumps(started.names), rfc3339(at))
        self._db.write("INSERT OR REPLACE INTO orders VALUES (?, ?, ?, ?, ?)", *row)

    def hold(self, certificate: str) -> datetime | None:
        """Until when the authority asked to wait; None: it did not. Raises: StateError."""
        row = self._db.row("SELECT value FROM told WHERE key = ?", f"hold:{certificate}")
        with suppress(ValueError, TypeError):
            return read_moment(row[0]) if row is not None else None
        return None

    def save_hold(self, certificate: str, until: datetime | None, at: datetime) -> None:
        """Keep, or forget, until when to wait. Raises: StateError."""
        if until is not None:
            row = (f"hold:{certificate}", rfc3339(until), rfc3339(at))
            self._db.write("INSERT OR REPLACE INTO told VALUES (?, ?, ?)", *row)
        elif self.hold(certificate) is not None:
            self._db.write("DELETE FROM told WHERE key = ?", f"hold:{certificate}")

    def texts(self) -> list[tuple[str, str]]:
        """The proofs, by name and text, whose TXT records may still be published. Raises: StateError."""
        return [(name, text) for name, text in self._db.rows("SELECT name, text FROM texts")]

    def save_text(self, name: str, text: str, *, there: bool) -> None:
        """Keep, or forget, that a TXT record is published. Raises: StateError."""
        if there:
            self._db.write("INSERT OR REPLACE INTO texts VALUES (?, ?)", name, text)
        else:
            self._db.write("DELETE FROM texts WHERE name = ? AND text = ?", name, text)


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
