"""What changed, and when something was not as it should be."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from hooper.chosen import chosen
from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.places import HERE, Place
from hooper.report.figures import Drawn, Strip
from hooper.store.kept import DayOfLooks, Happening, Level, Subject
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import KINDS
from hooper.words.said import Said


@dataclass(frozen=True, slots=True)
class EventRow:
    """One change.

    at: RFC 3339. kind: of what. subject: which. aspect: the place, type, gateway, family or service that it is about.
    before: null: it was not known. after: how it was from then on. level: fact: neither good nor bad. cause: the code
    of what made it so; null: not known. seconds: how long it took, such as until a name showed; null: it says nothing.
    """

    at: str
    kind: Subject
    subject: str
    aspect: str
    before: str | None
    after: str
    level: Level
    detail: Said
    cause: str | None
    seconds: float | None


@dataclass(frozen=True, slots=True)
class OutageRow:
    """A time in which something was not as it should be.

    kind: of what. subject: which. aspect: as in the events. begin, end: RFC 3339; end: null: it lasts. seconds: how
    long it was, until now where it lasts. cause: the code; null: not known.
    """

    kind: Subject
    subject: str
    aspect: str
    begin: str
    end: str | None
    seconds: float
    cause: str | None
    detail: Said


@dataclass(frozen=True, slots=True)
class LooksRow:
    """The looks at a service.

    place: from where. looks: how many. well: of them. took_ms: the mean of those; null: there were none.
    """

    service: str
    place: str
    looks: int
    well: int
    took_ms: float | None


@dataclass(frozen=True, slots=True)
class HistoryDocument:
    """`hooper history`.

    since: from when on. events: what changed, in its order. outages: in their order. looks: at each service, from each
    place. earlier: how many further changes there were since then, that are not shown.
    """

    since: str
    events: tuple[EventRow, ...]
    outages: tuple[OutageRow, ...]
    looks: tuple[LooksRow, ...]
    earlier: int


@dataclass(frozen=True)
class WholePast:
    """All that the figures and the report are made of."""

    since: datetime
    now: datetime
    events: Sequence[Happening]
    outages: Sequence[OutageRow]
    days: Sequence[DayOfLooks]

    def figures(self) -> Drawn:
        """As figures are drawn."""
        services = [one for one in self.events if one.kind == "service"]
        outside = {one.subject for one in services if one.aspect != str(HERE)}
        keys = dict.fromkeys((one.subject, one.aspect) for one in services)
        chosen = [(s, place) for s, place in keys if place != str(HERE) or s not in outside]
        several = len({place for _, place in chosen}) > 1
        strips = [
            Strip(f"{service}, {Place.read(place).shown}" if several else service, self._strip(service, place))
            for service, place in chosen
        ]
        took = [
            (one.at, one.subject, one.seconds) for one in self.events if one.kind == "name" and one.seconds is not None
        ]
        delays = [(day.day, day.service, day.took_ms) for day in self.days if day.took_ms is not None]
        begin = max(self.since, min((one.at for one in self.events), default=self.since))
        return Drawn(
            begin, self.now, tuple(strips),
            tuple((one.at, one.subject, one.after) for one in self.events if one.kind == "address"),
            tuple(took), tuple(delays),
        )  # fmt: skip

    def _strip(self, service: str, place: str) -> tuple[tuple[datetime, datetime, bool | None], ...]:
        mine = [one for one in self.events if (one.kind, one.subject, one.aspect) == ("service", service, place)]
        ends = [one.at for one in mine[1:]] + [self.now]
        parts = [
            (one.at, end, {"well": True, "wrong": False}.get(one.level)) for one, end in zip(mine, ends, strict=True)
        ]
        return tuple(part for part in parts if part[1] > part[0])


def gather(run: Run, since: datetime) -> WholePast:
    """Everything since a moment. Raises: StateError."""
    if run.state is None:
        return WholePast(since, run.at, (), (), ())
    history = run.state.history
    events, days = history.events(since=since), history.days(since)
    return WholePast(since, run.at, events, tuple(outages(events, run.at)), days)


def history(
    run: Run, since: datetime, subjects: tuple[str, ...] = (), kinds: tuple[Subject, ...] = (), most: int = 200
) -> tuple[HistoryDocument, list[HooperError]]:
    """What changed since a moment.

    since: from when on. subjects: only these; empty: all. kinds: only these; empty: all. most: the newest. Raises:
    StateError.
    """
    if subjects:
        chosen(subjects, _known(run), "service, name, line or other thing")
    past = gather(run, since)

    def wanted(kind: str, subject: str) -> bool:
        return (not kinds or kind in kinds) and (not subjects or subject in subjects)

    events = [one for one in past.events if wanted(one.kind, one.subject)]
    shown = events[-most:]
    looks = [row for row in _looks(past.days) if wanted("service", row.service)]
    return HistoryDocument(
        rfc3339(since),
        tuple(map(event_row, shown)),
        tuple(row for row in past.outages if wanted(row.kind, row.subject)),
        tuple(looks),
        len(events) - len(shown),
    ), []


def _known(run: Run) -> list[str]:
    """What may be asked for: all of the site file that has a past, and what had one before it was taken out."""
    site = run.site
    tables = (site.services, site.names, site.lines, site.gateways, site.certificates, site.tunnels, site.peers)
    keys = dict.fromkeys([*(key for table in tables for key in table), *site.hosts])
    return list(keys | dict.fromkeys(run.state.history.subjects() if run.state is not None else ()))


def event_row(one: Happening) -> EventRow:
    return EventRow(
        rfc3339(one.at), one.kind, one.subject, one.aspect, one.before, one.after, one.level, one.detail, one.cause,
        one.seconds,
    )  # fmt: skip


def outages(events: Sequence[Happening], now: datetime) -> Iterator[OutageRow]:
    """When each thing was not as it should be, by what changed. How it was before the first event is not known."""
    begun: dict[tuple[Subject, str, str], Happening] = {}
    found: list[tuple[datetime, OutageRow]] = []

    def row(first: Happening, end: datetime | None) -> None:
        lasted = max((end or now) - first.at, timedelta(0)).total_seconds()
        ended = rfc3339(end) if end is not None else None
        found.append((first.at, OutageRow(
            first.kind, first.subject, first.aspect, rfc3339(first.at), ended, lasted, first.cause, first.detail
        )))  # fmt: skip

    for event in events:
        key = (event.kind, event.subject, event.aspect)
        if not KINDS[event.kind].watched:
            continue
        if event.level == "wrong":
            begun.setdefault(key, event)
        elif (first := begun.pop(key, None)) is not None:
            row(first, event.at)
    for first in begun.values():
        row(first, None)
    return (one for _, one in sorted(found, key=lambda pair: pair[0]))


def _looks(days: Sequence[DayOfLooks]) -> Iterator[LooksRow]:
    for service, place in dict.fromkeys((day.service, day.place) for day in days):
        mine = [day for day in days if (day.service, day.place) == (service, place)]
        timed = [(day.took_ms, day.well) for day in mine if day.took_ms is not None and day.well]
        total = sum(count for _, count in timed)
        took = round(sum(took * count for took, count in timed) / total, 1) if total else None
        yield LooksRow(service, place, sum(day.looks for day in mine), sum(day.well for day in mine), took)
