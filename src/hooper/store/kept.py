"""What is kept of things over time, as plain values. Pure."""

from __future__ import annotations

from datetime import datetime
from typing import Literal, NamedTuple

from hooper.words.said import NOTHING, Said

Subject = Literal[
    "service",
    "name",
    "rule",
    "certificate",
    "address",
    "line",
    "router",
    "clock",
    "risk",
    "tunnel",
    "peer",
    "keeper",
    "authority",
    "witness",
    "meeting",
]
Level = Literal["well", "wrong", "unknown", "fact"]
KnownBy = Literal["said", "seen", "loaded"]  # by a person, at the server, by its files


class Condition(NamedTuple):
    """How one thing stands now.

    aspect: which side of it: the place that a service was looked at from, the type of a name's record, the gateway of a
    rule, the family of an address; else empty. state: in one word; of an address the address itself. level: fact: it is
    neither good nor bad. cause: the code of what made it so, where that is known. seconds: what it took, such as until
    a name showed. steady: where this says nothing new about a thing whose state is known, that stays. basis: what the
    site file then said of it; empty: it does not hang on that.
    """

    kind: Subject
    subject: str
    aspect: str
    state: str
    level: Level
    detail: Said = NOTHING
    cause: str | None = None
    seconds: float | None = None
    steady: bool = False
    basis: str = ""


class Stood(NamedTuple):
    """A condition as it is kept. since: when it came to be so. at: when that was last seen."""

    condition: Condition
    since: datetime
    at: datetime


class Happening(NamedTuple):
    """A change of how something stands. number: they only grow. before: None: it was not known."""

    number: int
    at: datetime
    kind: Subject
    subject: str
    aspect: str
    before: str | None
    after: str
    level: Level
    detail: Said
    cause: str | None
    seconds: float | None


class DayOfLooks(NamedTuple):
    """The looks at a service from one place on one day (UTC). took_ms: the mean of those that were well."""

    service: str
    place: str
    day: str
    looks: int
    well: int
    took_ms: float | None


class StoredInside(NamedTuple):
    """What a service looked like from inside. at: as RFC 3339 writes it."""

    verdict: Literal["answered", "connected"]
    fingerprint: str | None
    greeting: str | None
    at: str


class PageKnown(NamedTuple):
    """What tells a page again. pictures: path, width and height in pixels."""

    title: str | None
    pictures: tuple[tuple[str, int, int], ...]


class Turn(NamedTuple):
    """Where a task stands; it can be kept over a restart.

    due: the next run; None: stopped, until what it goes by has changed. last: the last run. failures: in a row. hold:
    nothing makes it run before that, such as what a provider said. runs: how many there were.
    """

    due: datetime | None
    last: datetime | None = None
    failures: int = 0
    hold: datetime | None = None
    runs: int = 0


class Handed(NamedTuple):
    """A profile that a peer was given. mark: of what it said. endpoint: where it leads, as host:port. kept: its private
    key is to stay here.
    """

    public_key: str
    mark: str
    endpoint: str
    kept: bool
    at: datetime


class Revoked(NamedTuple):
    """A peer from which its way in was taken. public_key: the one that it had; empty: none is known. out: since when
    the server does not let it in; None: nobody has said or seen that. how: by what that is known.
    """

    peer: str
    tunnel: str
    public_key: str
    at: datetime
    out: datetime | None = None
    how: KnownBy | Literal[""] = ""


class Made(NamedTuple):
    """A server's file. mark: of what it said."""

    mark: str
    at: datetime


class Heard(NamedTuple):
    """What a server has seen of one public key.

    server: its own public key. handshake: the last; None: never. came_from: as address:port. received, sent: bytes, as
    the server counts them. at: when the server was asked.
    """

    public_key: str
    tunnel: str
    server: str
    handshake: datetime | None
    came_from: str | None
    received: int
    sent: int
    at: datetime
