"""The journal of the rules that were entered into routers' own tables: written before each deed, corrected after it."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from hooper.clock import rfc3339
from hooper.jsonform import plain
from hooper.store.database import Database

Key = tuple[str, int, str]  # transport, outside port, source


@dataclass(frozen=True, slots=True)
class LiveRule:
    """An entry of a router's own table. source: the one address it is limited to, empty: anyone. lease_s: 0: no end."""

    transport: Literal["tcp", "udp"]
    outside_port: int
    target_address: str
    target_port: int
    source: str
    label: str
    enabled: bool
    lease_s: int

    @property
    def key(self) -> tuple[str, int]:
        return self.transport, self.outside_port

    def leads_as(self, other: LiveRule) -> bool:
        """Whether both send the same packets to the same place."""
        mine = (self.key, self.target_address, self.target_port, self.source)
        return mine == (other.key, other.target_address, other.target_port, other.source)


@dataclass(frozen=True, slots=True)
class Entered:
    """An entry of ours as the journal keeps it.

    state: opening or closing while it is being done, so that a run that was killed is taken up; open when it is done.
    before: the entry of another hand that it took the place of. until: when it ends; None: not by itself.
    """

    gateway: str
    service: str
    rule: LiveRule
    state: Literal["opening", "open", "closing"]
    before: LiveRule | None
    until: datetime | None

    @property
    def key(self) -> Key:
        return key_of(self.rule)


def key_of(rule: LiveRule) -> Key:
    return rule.transport, rule.outside_port, rule.source


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
                LiveRule(**json.loads(rule)),
                state,
                LiveRule(**json.loads(before)) if before else None,
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
