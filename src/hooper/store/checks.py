"""Results of checks, and what services looked like from inside."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal

from hooper.clock import later, read_moment, rfc3339
from hooper.store.database import Database

RESULTS_KEPT = 50_000
Inner = tuple[str, str, int]  # service, transport, port on the device


@dataclass(frozen=True)
class Looked:
    """One result. reached: as it should be, seen from outside. document: all of it, as JSON has it."""

    service: str
    transport: str
    port: int
    verdict: str
    ok: bool
    reached: bool
    document: Mapping[str, Any]


@dataclass(frozen=True)
class StoredInside:
    """What a service looked like from inside. at: as RFC 3339 writes it."""

    verdict: Literal["answered", "connected"]
    fingerprint: str | None
    greeting: str | None
    at: str


class Checks:
    def __init__(self, database: Database) -> None:
        self._db = database

    def save(
        self,
        at: datetime,
        place: tuple[str, str, bool],
        results: Sequence[Looked],
        inside: Mapping[Inner, StoredInside],
    ) -> None:
        """Keep the results of a check and what was seen from inside. Raises: StateError; then nothing is kept.

        place: its kind and name, and whether it proves anything about outside.
        """
        rows = [
            (
                rfc3339(at),
                *place,
                result.service,
                result.transport,
                result.port,
                result.verdict,
                result.ok,
                json.dumps(result.document),
            )
            for result in results
        ]
        seen = [(*key, one.verdict, one.fingerprint, one.greeting, one.at) for key, one in inside.items()]
        outdated = {result.service for result in results if result.reached}  # what was told of their rules before
        with self._db.writing():
            self._db.many(
                "INSERT INTO results (at, from_kind, from_name, proves_outside, service, transport, port, verdict, ok,"
                " document) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                rows,
            )
            self._db.many("INSERT OR REPLACE INTO inside VALUES (?, ?, ?, ?, ?, ?, ?)", seen)
            marks = [f"{what}:{service}:*" for service in outdated for what in ("rule", "answer", "way")]
            self._db.many("DELETE FROM told WHERE key GLOB ?", [(mark,) for mark in marks])
            limit = "DELETE FROM results WHERE id <= (SELECT max(id) FROM results) - ?"
            self._db.many(limit, [(RESULTS_KEPT,)])

    def places(self) -> list[tuple[str, str]]:
        """Kind and name of the places that were looked from. Raises: StateError."""
        return [
            (str(kind), str(name)) for kind, name in self._db.rows("SELECT DISTINCT from_kind, from_name FROM results")
        ]

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None:
        """What the service looked like from inside when it was last seen. Raises: StateError."""
        question = (
            "SELECT verdict, fingerprint, greeting, at FROM inside WHERE service = ? AND transport = ? AND port = ?"
        )
        return next(iter(self._db.readable("inside", question, _inside, service, transport, port)), None)

    def showing(self, fingerprint: str) -> tuple[str, ...]:
        """The services that showed this certificate or host key from inside. Raises: StateError."""
        return tuple(
            str(one) for (one,) in self._db.rows("SELECT service FROM inside WHERE fingerprint = ?", fingerprint)
        )

    def outside_since(self, moment: datetime, now: datetime, service: str) -> list[tuple[datetime, dict[str, Any]]]:
        """What was seen of `service` from outside since `moment`, newest first. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[datetime, dict[str, Any]]:
            return read_moment(row[0]), dict(json.loads(row[1]))

        question = "SELECT at, document FROM results WHERE service = ? AND at >= ? AND proves_outside ORDER BY id DESC"
        found = self._db.readable("results", question, read, service, rfc3339(moment))
        return [row for row in found if not later(row[0], now)]


def _inside(row: tuple[Any, ...]) -> StoredInside:
    """Raises: ValueError: the row is damaged."""
    verdict, fingerprint, greeting, at = row
    read_moment(at)
    if verdict not in ("answered", "connected"):
        raise ValueError(f"no such verdict: {verdict!r}")
    return StoredInside(verdict, fingerprint, greeting, at)
