"""The report for whoever asks: what is exposed, to whom, since when, proven when, which risks were taken until when."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.places import HERE
from hooper.planning.audit import AcceptedRisk, Exposed
from hooper.usecases.prepare.lists import audit
from hooper.usecases.run import Run
from hooper.usecases.watch.history import OutageRow, WholePast, gather
from hooper.usecases.watch.status import StatusRow, status
from hooper.words.said import Said, say


@dataclass(frozen=True, slots=True)
class ExposedRow:
    """A service that can be reached from outside by the plan.

    what: it in words. outside: as transport and port, one for each address. open_to: the sources; empty: everyone.
    risk: how bad it is if somebody finds it. accepted: all that speaks against it was. state: how it was seen. since:
    when it came to be so, RFC 3339; null: nobody has looked. proven: when that was last seen; null: never. proof: of
    what kind, and from where. available: the share of looks from outside that were well; null: there were none.
    """

    service: str
    host: str
    what: Said
    outside: tuple[Said, ...]
    open_to: tuple[str, ...]
    risk: str
    accepted: bool
    state: str
    since: str | None
    proven: str | None
    proof: Said
    available: float | None


@dataclass(frozen=True, slots=True)
class ReportDocument:
    """`hooper report`.

    title: what the site is called. since: from when on. exposed: what can be reached from outside. not_exposed: the
    services that nobody reaches from outside. accepted: the risks that were taken. names, certificates: how they stand.
    outages: of public services, in their order. addresses: how often a line got another public address. looked: how
    often a public service was looked at from outside, since then.
    """

    title: str
    since: str
    exposed: tuple[ExposedRow, ...]
    not_exposed: tuple[str, ...]
    accepted: tuple[AcceptedRisk, ...]
    names: tuple[StatusRow, ...]
    certificates: tuple[StatusRow, ...]
    outages: tuple[OutageRow, ...]
    addresses: int
    looked: int


def report(run: Run, since: datetime) -> tuple[ReportDocument, list[HooperError]]:
    """Everything for whoever asks.

    since: from when on things are told. Raises: StateError.
    """
    seen, _ = audit(run)
    stands, trouble = status(run)
    past = gather(run, since)
    rows = {row.subject: row for row in stands.rows if row.kind == "service"}
    exposed = tuple(_exposed(one, rows.get(one.service), past) for one in seen.exposed)
    changes = [one for one in past.events if one.kind == "address" and one.before is not None]
    public = {one.service for one in seen.exposed}
    return ReportDocument(
        run.site.site.title or run.path.stem,
        rfc3339(since),
        exposed,
        seen.not_exposed,
        seen.accepted,
        tuple(row for row in stands.rows if row.kind == "name"),
        tuple(row for row in stands.rows if row.kind == "certificate"),
        tuple(_of_public(past, public)),
        len(changes),
        sum(day.looks for day in past.days if day.service in public and day.place != str(HERE)),
    ), trouble


def _of_public(past: WholePast, public: set[str]) -> Iterator[OutageRow]:
    return (one for one in past.outages if one.kind == "service" and one.subject in public and one.aspect != str(HERE))


def _exposed(one: Exposed, row: StatusRow | None, past: WholePast) -> ExposedRow:
    days = [day for day in past.days if day.service == one.service and day.place != str(HERE)]
    looks = sum(day.looks for day in days)
    return ExposedRow(
        one.service, one.host, one.what, one.outside, one.open_to, one.risk, one.accepted,
        row.state if row is not None else "not-looked-at",
        row.since if row is not None else None,
        row.seen if row is not None else None,
        row.proof if row is not None else say("proof.never"),
        round(sum(day.well for day in days) / looks, 5) if looks else None,
    )  # fmt: skip
