"""The journal of the rules that were entered into routers' own tables, and of those that stand there for a test:
written before each deed, so that a run that was killed leaves nothing unknown.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from hooper.clock import read_moment, rfc3339
from hooper.jsonform import plain, read_as
from hooper.store.database import Database
from hooper.store.entries import Entered, Key, Lent, LiveRule

_WRITE = "INSERT OR REPLACE INTO rules VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)"
_FORGET = "DELETE FROM rules WHERE gateway = ? AND transport = ? AND outside_port = ? AND source = ?"


def _rules(text: str | None) -> tuple[LiveRule, ...]:
    """One entry, as it was kept once, or several."""
    if text is None:
        return ()
    value = json.loads(text)
    return read_as(tuple[LiveRule, ...], value if isinstance(value, list) else [value])


def _entered(row: tuple[Any, ...]) -> Entered:
    """Raises: ValueError, TypeError: the row is damaged."""
    gateway, service, state, rule, before, until = row
    (mine,) = _rules(rule)
    if state not in ("opening", "open", "closing"):
        raise ValueError(f"no such state: {state!r}")
    return Entered(gateway, service, mine, state, _rules(before), read_moment(until) if until else None)


def _row(entry: Entered) -> tuple[Any, ...]:
    rule, before = json.dumps(plain(entry.rule)), json.dumps(plain(entry.before)) if entry.before else None
    until = rfc3339(entry.until) if entry.until else None
    return (entry.gateway, *entry.key, entry.service, entry.state, rule, before, until)


class Journal:
    """Our entries in routers' tables. Each call is on the disk when it returns."""

    def __init__(self, database: Database) -> None:
        self._db = database

    def entries(self, gateway: str) -> dict[Key, Entered]:
        """Our entries in a router's table, those half done too. Raises: StateError."""
        return {entry.key: entry for entry in self.all() if entry.gateway == gateway}

    def all(self) -> list[Entered]:
        """Our entries in all routers' tables. What cannot be read is set aside. Raises: StateError."""
        question = "SELECT gateway, service, state, rule, before, until FROM rules ORDER BY gateway, outside_port"
        return self._db.readable("rules", question, _entered)

    def write(self, *entries: Entered) -> None:
        """Keep entries before or after the deed. Raises: StateError; then none is kept."""
        with self._db.writing():
            self._db.many(_WRITE, [_row(entry) for entry in entries])

    def forget(self, gateway: str, keys: Iterable[Key]) -> None:
        """These are ours no more. Raises: StateError; then none is forgotten."""
        with self._db.writing():
            self._db.many(_FORGET, [(gateway, *key) for key in keys])


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
