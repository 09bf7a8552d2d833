"""The ledger: all that was seen, read or told, and nothing else is evidence."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from datetime import datetime
from typing import Any, get_args

from hooper.addresses import parse_address
from hooper.clock import later, read_moment, rfc3339
from hooper.evidence.identity import Identity
from hooper.evidence.observations import (
    ADDRESS,
    HANDSHAKE,
    REACH,
    By,
    Observation,
    inside_aspect,
    page_aspect,
    service_subject,
    split_key,
)
from hooper.places import Place
from hooper.sourced import Sourced, SourcedAddress, as_told
from hooper.store.database import Database
from hooper.store.kept import Heard, PageKnown, StoredInside
from hooper.words.said import Said

LOOKS_KEPT = 50_000
_COLUMNS = "subject, aspect, value, at, by, place, strength, basis, run"
_SELECT, _DELETE = f"SELECT {_COLUMNS} FROM observations WHERE", "DELETE FROM observations WHERE"  # noqa: S608 - ours
_KINDS, _STRENGTHS = frozenset(get_args(By)), frozenset((*get_args(Identity), ""))


class Ledger:
    def __init__(self, database: Database, run: str) -> None:
        """run: by which the observations of one run are known."""
        self._db, self._id = database, run

    def write(
        self,
        observations: Iterable[Observation],
        *,
        instead: Iterable[tuple[str, str]] = (),
        until: datetime | None = None,
    ) -> None:
        """Keep observations, each in the place of the older one of its aspect, place and source; of looks at a service
        from outside the older ones are kept too.

        instead: subjects and aspects (with * as a pattern) of what does not count any more. until: what of these was
        seen later still does. Raises: StateError; then nothing is kept.
        """
        rows = [
            (one.subject, one.aspect, json.dumps(one.value), rfc3339(one.at), one.by, one.place, one.strength,
             one.basis, self._id)
            for one in observations
        ]  # fmt: skip
        older = [(row[0], row[1], row[5], row[4]) for row in rows if not row[1].startswith(REACH)]
        looks = [(f"{REACH}*", LOOKS_KEPT)] if len(older) < len(rows) else []
        with self._db.writing():
            last = rfc3339(until) if until is not None else "Z"
            gone = [(*one, last) for one in instead]
            self._db.many(f"{_DELETE} subject = ? AND aspect GLOB ? AND at <= ?", gone)
            self._db.many(f"{_DELETE} subject = ? AND aspect = ? AND place = ? AND by = ?", older)
            self._db.many(f"INSERT INTO observations ({_COLUMNS}) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)", rows)  # noqa: S608
            self._db.many(f"{_DELETE} aspect GLOB ? AND id <= (SELECT max(id) FROM observations) - ?", looks)  # noqa: S608

    def tell(
        self, at: datetime, told: Mapping[str, str], by: By = "told", basis: Callable[[str], str] = lambda subject: ""
    ) -> None:
        """Remember what a person told, by SUBJECT/ASPECT.

        by: inferred: it follows from something else; read in a router's table. basis: of what it is about. Raises:
        StateError.
        """
        keys = ((split_key(key), value) for key, value in told.items())
        self.write(Observation(*key, value, at, by, basis=basis(key[0])) for key, value in keys)

    def forget(self, keys: Iterable[str]) -> None:
        """What was told under these keys, SUBJECT/ASPECT, counts no more. Raises: StateError."""
        self.write((), instead=map(split_key, keys))

    def told(self, now: datetime, counts: Callable[[Observation], bool] = lambda one: True) -> dict[str, Sourced[str]]:
        """All that people told, by SUBJECT/ASPECT, with its date. counts: whether it still does. Raises: StateError."""
        found = self._read("by IN ('told', 'inferred')", now)  # the newest first
        return {one.key: as_told(str(one.value), one.at) for one in reversed(found) if counts(one)}

    def rule(self, service: str, gateway: str) -> Observation | None:
        """What a router's table last said of a service's rule. Raises: StateError."""
        where, values = "subject = ? AND aspect = ? AND by = 'read'", (service_subject(service), f"rule@{gateway}")
        return next(iter(self._db.readable("observations", f"{_SELECT} {where}", _observation, *values)), None)

    def newest(self, subject: str, aspect: str, now: datetime, since: datetime | None = None) -> list[Observation]:
        """What was seen of a subject, newest first; * in it means all such. Raises: StateError."""
        begin, same = rfc3339(since) if since is not None else "", "GLOB" if "*" in subject else "="
        return self._read(f"subject {same} ? AND aspect = ? AND at >= ?", now, subject, aspect, begin)

    def addresses(self, now: datetime) -> dict[str, SourcedAddress]:
        """The public address of each line as it was last measured. Raises: StateError."""
        found = self._db.readable("observations", f"{_SELECT} subject GLOB 'lines.*' AND aspect = ?", _address, ADDRESS)
        return {line: said for line, said in found if said.at is not None and not later(said.at, now)}

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None:
        """What the service looked like from inside when it was last seen. Raises: StateError."""
        where, aspect = "subject = ? AND aspect = ?", inside_aspect(transport, port)
        return next(
            iter(self._db.readable("observations", f"{_SELECT} {where}", _inside, service_subject(service), aspect)),
            None,
        )

    def page(self, service: str, transport: str, port: int) -> PageKnown | None:
        """What was kept of its page as its own. Raises: StateError."""
        where, values = "subject = ? AND aspect = ?", (service_subject(service), page_aspect(transport, port))
        return next(iter(self._db.readable("observations", f"{_SELECT} {where}", _page, *values)), None)

    def showing(self, fingerprint: str) -> tuple[str, ...]:
        """The services that showed this certificate or host key from inside. Raises: StateError."""
        question = "SELECT subject FROM observations WHERE aspect GLOB 'inside@*' AND json_extract(value, '$[1]') = ?"
        return tuple(str(subject).partition(".")[2] for (subject,) in self._db.rows(question, fingerprint))

    def hear(self, tunnel: str, rows: Iterable[Heard]) -> None:
        """Remember what the server of a tunnel told; what it told before counts no more. Raises: StateError."""
        subject = f"tunnels.{tunnel}"

        def value(one: Heard) -> list[Any]:
            last = rfc3339(one.handshake) if one.handshake is not None else None
            return [one.server, last, one.came_from, one.received, one.sent]

        seen = (Observation(subject, f"{HANDSHAKE}{one.public_key}", value(one), one.at, "read") for one in rows)
        self.write(seen, instead=((subject, f"{HANDSHAKE}*"),))

    def heard(self) -> dict[str, Heard]:
        """By public key, what its server saw last. Raises: StateError."""
        where = f"{_SELECT} subject GLOB 'tunnels.*' AND aspect GLOB '{HANDSHAKE}*' ORDER BY id"
        return {one.public_key: one for one in self._db.readable("observations", where, _heard)}

    def _read(self, which: str, now: datetime, *values: Any) -> list[Observation]:
        found = self._db.readable("observations", f"{_SELECT} {which} ORDER BY id DESC", _observation, *values)
        return [one for one in found if not later(one.at, now)]


def _observation(row: tuple[Any, ...]) -> Observation:
    """Raises: ValueError, TypeError: the row is damaged."""
    subject, aspect, value, at, by, place, strength, basis, run = row
    if by not in _KINDS or strength not in _STRENGTHS:
        raise ValueError(f"no such source or strength: {by!r}, {strength!r}")
    if place:
        Place.read(place)
    value = json.loads(value)
    if aspect.startswith(REACH) and not isinstance(value, dict):
        raise ValueError("no result")
    return Observation(
        str(subject), str(aspect), value, read_moment(at), by, str(place), strength, str(basis), str(run)
    )


def _inside(row: tuple[Any, ...]) -> StoredInside:
    """Raises: ValueError, TypeError: the row is damaged."""
    one = _observation(row)
    verdict, fingerprint, greeting = one.value
    if verdict not in ("answered", "connected"):
        raise ValueError(f"no such verdict: {verdict!r}")
    return StoredInside(verdict, fingerprint, greeting, rfc3339(one.at))


def _page(row: tuple[Any, ...]) -> PageKnown:
    """Raises: ValueError, TypeError: the row is damaged."""
    title, pictures = _observation(row).value
    read = tuple((str(path), int(width), int(height)) for path, width, height in pictures)
    return PageKnown(title if title is None else str(title), read)


def _heard(row: tuple[Any, ...]) -> Heard:
    """Raises: ValueError, TypeError: the row is damaged."""
    one = _observation(row)
    server, handshake, came_from, received, sent = one.value
    last = read_moment(handshake) if handshake is not None else None
    key, tunnel = one.aspect.partition("@")[2], one.subject.partition(".")[2]
    return Heard(key, tunnel, server, last, came_from, int(received), int(sent), one.at)


def _address(row: tuple[Any, ...]) -> tuple[str, SourcedAddress]:
    """Raises: ValueError, TypeError: the row is damaged."""
    one = _observation(row)
    address, source = one.value
    return one.subject.partition(".")[2], Sourced(parse_address(address), Said.read(source), one.at)
