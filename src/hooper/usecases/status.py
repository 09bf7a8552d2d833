"""How everything stands, from what is kept: nobody is asked."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Literal

from hooper.clock import rfc3339
from hooper.comparison import Comparison, Side
from hooper.errors import HooperError, MachineError, StateError
from hooper.places import Place
from hooper.planning.values import Finding
from hooper.site.model import Site
from hooper.store.kept import Condition, Level, Stood, Subject
from hooper.usecases.condition_kinds import KINDS, meant_by, proof_of, standing
from hooper.usecases.run import Run
from hooper.words.said import NOTHING, Said, quoted, say

FADES, GONE = timedelta(hours=1), timedelta(days=7)  # the age at which a proof fades, and that at which it is none
ORDER: tuple[Level, ...] = ("wrong", "unknown", "fact", "well")
CHECK = "check "  # how the tasks of a keeper begin that look from a place
Freshness = Literal["fresh", "fading", "old", "never"]


@dataclass(frozen=True, slots=True)
class StatusRow:
    """How one thing stands.

    kind: what it is: a service, name, certificate, rule, router, address, line, clock, risk, tunnel or peer. subject:
    which. aspect: the place, type, gateway, family or service that it is about; empty: none. state: in a word; of an
    address the address. level: well, wrong, unknown, or fact: neither good nor bad. since: when it came to be so; null:
    it was never looked at. seen: when that was last looked at; null: never. freshness: of that look. proof: of what
    kind it was, and from where. detail: what was seen. cause: the code of what made it so; null: not known. next: when
    a keeper looks again; null: no keeper runs. needs: what a person should do; empty: nothing.
    """

    kind: Subject
    subject: str
    aspect: str
    state: str
    level: Level
    since: str | None
    seen: str | None
    freshness: Freshness
    proof: Said
    detail: Said
    cause: str | None
    next: str | None
    needs: Said


@dataclass(frozen=True, slots=True)
class StatusDocument:
    """`hooper status`.

    keeper: whether one runs for this site and this state. rows: the worst first. comparisons: the numbers that people
    compare. findings: of the plan, those of severity error. needs_person: how many things need one.
    """

    keeper: bool
    needs_person: int
    rows: tuple[StatusRow, ...]
    comparisons: tuple[Comparison, ...]
    findings: tuple[Finding, ...]


def status(run: Run, request: None = None) -> tuple[StatusDocument, list[HooperError]]:
    """How everything stands. Raises: StateError."""
    del request
    stood: list[Stood] = []
    dues: Mapping[str, datetime] = {}
    keeper = False
    if run.state is not None:
        stood = run.state.history.conditions()
        keeper = _keeper_runs(run)
        turns = run.state.turns.all() if keeper else {}
        dues = {task: turn.due for task, turn in turns.items() if turn.due is not None}
    rows = sorted(_rows(run, stood, dues), key=lambda row: (ORDER.index(row.level), not row.needs))
    findings = tuple(finding for finding in run.plan.findings if finding.severity == "error")
    needs = sum(bool(row.needs) for row in rows) + len(findings)
    return StatusDocument(keeper, needs, tuple(rows), tuple(_numbers(run.site, stood)), findings), []


def _keeper_runs(run: Run) -> bool:
    assert run.state is not None
    lock = run.state.lock("keeper")
    try:
        free = lock.take()
    except MachineError as exc:
        raise StateError(exc.message) from None
    lock.free()
    return not free


def _rows(run: Run, stood: Sequence[Stood], dues: Mapping[str, datetime]) -> Iterator[StatusRow]:
    site = run.site
    by_kind: dict[str, list[Stood]] = {}
    for one in standing(site, stood):
        by_kind.setdefault(one.condition.kind, []).append(one)
    for key in site.services:
        mine = [one for one in by_kind.get("service", ()) if one.condition.subject == key]
        yield _service(run, key, mine, dues)
    for name, entry in site.names.items():
        for record in entry.types:
            found = next((one for one in by_kind.get("name", ()) if one.condition.subject == name
                          and one.condition.aspect == record), None)  # fmt: skip
            yield _row(run, found, dues) if found else _never("name", name, record)
    for key in site.certificates:
        own = [one for one in by_kind.get("certificate", ()) if one.condition.subject == key]
        yield from (_row(run, one, dues) for one in own if one.condition.aspect != "given")
        if not own:
            yield _never("certificate", key, "")
    for kind in KINDS:
        if kind not in ("service", "name", "certificate", "keeper"):
            yield from (_row(run, one, dues) for one in by_kind.get(kind, ()))


def _service(run: Run, key: str, stood: Sequence[Stood], dues: Mapping[str, datetime]) -> StatusRow:
    """A service by the places that count: those of the site file, else any outside, else what was seen from inside."""
    if not stood:
        return _never("service", key, "")
    places = {id(one): Place.read(one.condition.aspect) for one in stood}
    kept = [place for place in run.site.keep.places if place.kind != "here"]
    outside = [one for one in stood if places[id(one)].kind != "here"]
    counting = [one for one in outside if any(meant_by(places[id(one)], place) for place in kept)]
    newest = max((one.at for one in counting), default=None)
    counting += [one for one in outside if one not in counting and (newest is None or one.at > newest)]
    chosen = _weightiest(counting or stood)
    row = _row(run, chosen, dues)
    public = run.site.services[key].reach == "public"
    if not counting and public and row.level == "well":
        return replace(row, level="unknown", needs=NOTHING, detail=row.detail + say("nobody-from-outside"))
    return row


def _weightiest(stood: Sequence[Stood]) -> Stood:
    """What counts among places: what could not be told from one takes nothing from what was told from another, and what
    is long ago nothing from what was seen since.
    """
    told = [one for one in stood if one.condition.level != "unknown"] or stood
    newest = max(one.at for one in told)
    lately = [one for one in told if newest - one.at < GONE]
    return min(lately, key=lambda one: (ORDER.index(one.condition.level), -one.at.timestamp()))


def _never(kind: Subject, subject: str, aspect: str) -> StatusRow:
    return StatusRow(
        kind, subject, aspect, "not-looked-at", "unknown", None, None, "never", say("proof.never"), NOTHING, None, None,
        NOTHING,
    )  # fmt: skip


def _row(run: Run, one: Stood, dues: Mapping[str, datetime]) -> StatusRow:
    now, what = run.at, one.condition
    age = max(now - one.at, timedelta(0))
    freshness: Freshness = "fresh" if age < FADES else "fading" if age < GONE else "old"
    level: Level = "unknown" if freshness == "old" and what.level == "well" else what.level
    due = _due(what, dues)
    return StatusRow(
        kind=what.kind,
        subject=what.subject,
        aspect=what.aspect,
        state=what.state,
        level=level,
        since=rfc3339(one.since),
        seen=rfc3339(one.at),
        freshness=freshness,
        proof=proof_of(what),
        detail=what.detail,
        cause=what.cause,
        next=rfc3339(due) if due is not None else None,
        needs=KINDS[what.kind].need(what) if level == "wrong" else NOTHING,
    )


def _due(what: Condition, dues: Mapping[str, datetime]) -> datetime | None:
    """When a keeper looks at it again."""
    if what.kind != "service":
        return dues.get(KINDS[what.kind].task)
    place = Place.read(what.aspect)
    tasks = (task for task in dues if task.startswith(CHECK) and meant_by(place, Place.read(task[len(CHECK) :])))
    return next((dues[task] for task in tasks), None)


def _numbers(site: Site, stood: Sequence[Stood]) -> Iterator[Comparison]:
    """The address of each line beside what its names have."""
    by = {(one.condition.kind, one.condition.subject, one.condition.aspect): one.condition for one in stood}
    for name, entry in site.names.items():
        address, known = by.get(("address", entry.line, "ipv4")), by.get(("name", name, "A"))
        if address is None or known is None or "A" not in entry.types:
            continue
        equal = {"current": True, "stale": False}.get(known.state)
        shown = next((part for part in known.detail.parts if part.code == "name-has"), None)
        had = ", ".join(shown["published"]) or None if equal is not None and shown is not None else None
        by_whom = next((part["source"] for part in address.detail.parts if part.code == "address-by"), NOTHING)
        left = Side(say("line-public", line=entry.line), address.state, by_whom)
        right = Side(quoted(name), had, say("its-own-servers-themselves"))
        meaning = "name-leads-here" if equal else "name-leads-away" if equal is False else "not-known-yet"
        yield Comparison(left, right, equal, say(meaning))
