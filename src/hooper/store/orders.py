"""Accounts and orders of certificates, and the proofs that may still be published."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from hooper.clock import rfc3339
from hooper.jsonform import read_as
from hooper.store.database import Database


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

    def texts(self) -> list[tuple[str, str]]:
        """The proofs, by name and text, whose TXT records may still be published. Raises: StateError."""
        return [(name, text) for name, text in self._db.rows("SELECT name, text FROM texts")]

    def save_text(self, name: str, text: str, *, there: bool) -> None:
        """Keep, or forget, that a TXT record is published. Raises: StateError."""
        if there:
            self._db.write("INSERT OR REPLACE INTO texts VALUES (?, ?)", name, text)
        else:
            self._db.write("DELETE FROM texts WHERE name = ? AND text = ?", name, text)
