"""The journal of the rules that were entered into routers' own tables: written before each deed, corrected after it."""

from __future__ import annotations

import json
from datetime import datetime

from hooper.clock import rfc3339
from hooper.errors import StateError
from hooper.jsonform import plain, read_as
from hooper.store.database import Database
from hooper.store.entries import Entered, Key, LiveRule


def _rule(text: str) -> LiveRule:
    try:
        return read_as(LiveRule, json.loads(text))
    except ValueError:
        raise StateError(
            "a rule in the journal cannot be read", remedy="Bring the state file back from a copy."
        ) from None


class Journal:
    """Our entries in routers' tables. Each call is on the disk when it returns."""

    def __init__(self, database: Database) -> None:
        self._db = database

    def entries(self, gateway: str) -> dict[Key, Entered]:
        """Our entries in a router's table, those half done too. Raises: StateError."""
        rows = self._db.rows(
            "SELECT service, state, rule, before, until FROM rules WHERE gateway = ? ORDER BY outside_port", gateway
        )
        found = [
            Entered(
                gateway,
                service,
                _rule(rule),
                state,
                _rule(before) if before else None,
                datetime.fromisoformat(until) if until else None,
            )
            for service, state, rule, before, until in rows
        ]
        return {entry.key: entry for entry in found}

    def write(self, entry: Entered) -> None:
        """Keep an entry before or after the deed. Raises: StateError."""
        rule, before = json.dumps(plain(entry.rule)), json.dumps(plain(entry.before)) if entry.before else None
        until = rfc3339(entry.until) if entry.until else None
        row = (entry.gateway, *entry.key, entry.service, entry.state, rule, before, until)
        self._db.write("INSERT OR REPLACE INTO rules VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", *row)

    def forget(self, gateway: str, key: Key) -> None:
        """An entry is ours no more. Raises: StateError."""
        change = "DELETE FROM rules WHERE gateway = ? AND transport = ? AND outside_port = ? AND source = ?"
        self._db.write(change, gateway, *key)
