"""What is kept of things over time, as plain values. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

Subject = Literal[
    "service", "name", "rule", "certificate", "address", "line", "router", "clock", "risk", "tunnel", "peer", "keeper"
]
Level = Literal["well", "wrong", "unknown", "fact"]


@dataclass(frozen=True, slots=True)
class Condition:
    """How one thing stands now.

    aspect: which side of it: the place that a service was looked at from, the type of a name's record, the gateway of a
    rule, the family of an address; else empty. state: in one word; of an address the address itself. level: fact: it is
    neither good nor bad. cause: the code of what made it so, where that is known. seconds: what it took, such as until
    a name showed. steady: where this says nothing new about a thing whose state is known, that stays.
    """

    kind: Subject
    subject: str
    aspect: str
    state: str
    level: Level
    detail: str = ""
    cause: str | None = None
    seconds: float | None = None
    steady: bool = False


@dataclass(frozen=True, slots=True)
class Stood:
    """A condition as it is kept. since: when it came to be so. at: when that was last seen."""

    condition: Condition
    since: datetime
    at: datetime


@dataclass(frozen=True, slots=True)
class Happening:
    """A change of how something stands. number: they only grow. before: None: it was not known."""

    number: int
    at: datetime
    kind: Subject
    subject: str
    aspect: str
    before: str | None
    after: str
    level: Level
    detail: str
    cause: str | None
    seconds: float | None


@dataclass(frozen=True, slots=True)
class DayOfLooks:
    """The looks at a service from one place on one day (UTC). took_ms: the mean of those that were well."""

    service: str
    place: str
    day: str
    looks: int
    well: int
    took_ms: float | None


@dataclass(frozen=True, slots=True)
class Turn:
    """Where a task stands; it can be kept over a restart.

    due: the next run; None: stopped, until what it goes by has changed. last: the last run. failures: in a row. hold:
    nothing makes it run before that, such as what a provider said. runs: how many there were.
    """

    due: datetime | None
    last: datetime | None = None
    failures: int = 0
    hold: datetime | None = None
    runs: int = 0
