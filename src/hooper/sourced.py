"""A value with where it comes from and when: whatever was given, measured, told or written, it is kept like this."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Generic, Literal, TypeAlias, TypeVar

from hooper.addresses import IPAddress
from hooper.words.said import Said, say

T_co = TypeVar("T_co", covariant=True)
How = Literal["given", "measured", "surveyed", "told", "named", "written"]
FRESH = timedelta(hours=1)  # what was told longer ago is still evidence, but nothing is certain by it


@dataclass(frozen=True)
class Shown:
    """A value and its source, as documents show them.

    value: null where it is not known. source: where the value comes from, in words.
    """

    value: str | None
    source: Said


@dataclass(frozen=True)
class Sourced(Generic[T_co]):
    """A value with its source and its age.

    source: in words; where the value is None, what was tried. at: when it was told or seen; None: now. how: given on
    the command line, measured, measured by an earlier survey, told by a person, what a DNS name has, or written in the
    site file. absent: who was
    asked says that there is none.
    """

    value: T_co
    source: Said
    at: datetime | None = None
    how: How = "measured"
    absent: bool = False

    def fresh(self, now: datetime) -> bool:
        """Whether it is recent enough to be certain by it."""
        return self.at is None or now - self.at <= FRESH

    def now(self, now: datetime) -> bool:
        """Whether it was seen or told in this very run: what was told before may have changed since."""
        return self.at is None or self.at >= now

    def age(self, now: datetime) -> Said:
        """How long ago, in words."""
        return age_of(self.at, now) if self.at is not None else say("just-now")

    @property
    def measured(self) -> bool:
        return self.how == "measured"

    def words(self, now: datetime) -> Said:
        """Where it comes from, with its age where it has one."""
        return self.source if self.at is None or self.measured else self.source + " " + self.age(now)

    def shown(self, now: datetime) -> Shown:
        """As documents show it."""
        return Shown(str(self.value) if self.value is not None else None, self.words(now))


SourcedAddress: TypeAlias = Sourced[IPAddress | None]


def as_told(value: str, at: datetime) -> Sourced[str]:
    """What a person read off a page or a device."""
    return Sourced(value, say("told-by-a-person"), at, "told")


def age_of(moment: datetime, now: datetime) -> Said:
    """How long ago in words: just now, 5 min ago, 3 h ago, 2 days ago."""
    minutes = max(0, round((now - moment).total_seconds() / 60))
    if minutes < 1:
        return say("just-now")
    if minutes < 120:
        return say("min-ago", minutes=minutes)
    return say("h-ago", minutes=minutes // 60) if minutes < 48 * 60 else say("days-ago", minutes=minutes // 1440)
