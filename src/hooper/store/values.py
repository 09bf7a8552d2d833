"""What people told, and what was measured of lines."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from hooper.addresses import IPAddress, parse_address
from hooper.clock import later, read_moment, rfc3339
from hooper.sourced import Sourced, SourcedAddress, as_told
from hooper.store.database import Database
from hooper.words.said import Said, as_text, from_text


class Values:
    def __init__(self, database: Database) -> None:
        self._db = database

    def tell(self, at: datetime, told: dict[str, str]) -> None:
        """Remember what the user told. Keys: wan:GATEWAY, public:LINE, rule:SERVICE:GATEWAY, at:HOST, sheet:GATEWAY,
        way:SERVICE:TRANSPORT, answer:SERVICE:QUESTION, saw:SERVICE,
        visit:ID, site-file, site-mark.

        Raises: StateError.
        """
        with self._db.writing():
            rows = [(key, value, rfc3339(at)) for key, value in told.items()]
            self._db.many("INSERT OR REPLACE INTO told VALUES (?, ?, ?)", rows)

    def forget(self, keys: Iterable[str]) -> None:
        """What was told under these keys counts no more. Raises: StateError."""
        with self._db.writing():
            self._db.many("DELETE FROM told WHERE key = ?", [(key,) for key in keys])

    def told(self, now: datetime) -> dict[str, Sourced[str]]:
        """All that the user told, with its date; what is dated later than `now` is not known. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, Sourced[str]]:
            return row[0], as_told(row[1], read_moment(row[2]))

        found = self._db.readable("told", "SELECT key, value, at FROM told", read)
        return {key: said for key, said in found if said.at is not None and not later(said.at, now)}

    def saw(self, at: datetime, line: str, address: IPAddress, source: Said) -> None:
        """Remember the public address of a line as it was measured. Raises: StateError."""
        self._db.write(
            "INSERT OR REPLACE INTO seen VALUES (?, ?, ?, ?)", line, str(address), as_text(source), rfc3339(at)
        )

    def surveyed(self, at: datetime, line: str, document: Mapping[str, Any]) -> None:
        """Keep what a survey measured of a line beside its public address. Raises: StateError."""
        self._db.write("INSERT OR REPLACE INTO surveys VALUES (?, ?, ?)", line, rfc3339(at), json.dumps(document))

    def surveys(self) -> dict[str, tuple[datetime, dict[str, Any]]]:
        """The last survey of each line, with its date. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, tuple[datetime, dict[str, Any]]]:
            return row[0], (read_moment(row[1]), dict(json.loads(row[2])))

        return dict(self._db.readable("surveys", "SELECT line, at, document FROM surveys", read))

    def seen(self, now: datetime) -> dict[str, SourcedAddress]:
        """The public address of each line as it was last measured, unless that is dated later than `now`.

        Raises: StateError.
        """

        def read(row: tuple[Any, ...]) -> tuple[str, SourcedAddress]:
            line, address, source, at = row
            return line, Sourced(parse_address(address), from_text(source), read_moment(at))

        found = self._db.readable("seen", "SELECT line, address, source, at FROM seen", read)
        return {line: said for line, said in found if said.at is not None and not later(said.at, now)}
