"""The rules that stand in routers' tables for a test: written before each deed, so that a kill leaves none behind."""

from __future__ import annotations

import json
from typing import Any

from hooper.clock import read_moment, rfc3339
from hooper.jsonform import plain, read_as
from hooper.store.database import Database
from hooper.store.entries import Lent, LiveRule


class LentRules:
    """Each call is on the disk when it returns."""

    def __init__(self, database: Database) -> None:
        self._db = database

    def all(self, gateway: str | None = None) -> list[Lent]:
        """Those that may still stand. gateway: only there; None: everywhere. Raises: StateError."""
        question = "SELECT gateway, rule, before, until FROM lent ORDER BY gateway, outside_port, transport"
        found = self._db.readable("lent", question, _lent)
        return [one for one in found if gateway in (None, one.gateway)]

    def write(self, one: Lent) -> None:
        """Raises: StateError."""
        rule, before = json.dumps(plain(one.rule)), json.dumps(plain(one.before))
        until = rfc3339(one.until) if one.until is not None else None
        self._db.write(
            "INSERT OR REPLACE INTO lent VALUES (?, ?, ?, ?, ?, ?)", one.gateway, *one.rule.key, rule, before, until
        )

    def forget(self, one: Lent) -> None:
        """Raises: StateError."""
        change = "DELETE FROM lent WHERE gateway = ? AND transport = ? AND outside_port = ?"
        self._db.write(change, one.gateway, *one.rule.key)


def _lent(row: tuple[Any, ...]) -> Lent:
    """Raises: ValueError, TypeError: the row is damaged."""
    gateway, rule, before, until = row
    return Lent(
        gateway,
        read_as(LiveRule, json.loads(rule)),
        read_as(tuple[LiveRule, ...], json.loads(before)),
        read_moment(until) if until is not None else None,
    )
