"""How everything stands, from what is kept: nobody is asked."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import TYPE_CHECKING, Literal

from hooper.clock import rfc3339
from hooper.comparison import Comparison, Side
from hooper.errors import MachineError, StateError
from hooper.places import Place
from hooper.planning.openers import driven_gateways, ticked_sheets
from hooper.planning.values import EVERYTHING, Finding
from hooper.site.references import made_gateways
from hooper.store.kept import Level, Subject
from hooper.usecases.watch.condition_kinds import KINDS, ORDER, freshness_of, level_of, meant_by, of_services, proof_of
from hooper.usecases.watch.conditions import how_all_stands
from hooper.words.said import NOTHING, Said, quoted, say

if TYPE_CHECKING:
    from hooper.errors import HooperError
    from hooper.site.model import Site
    from hooper.store.kept import Condition, Stood
    from hooper.usecases.run import Run
    from hooper.usecases.watch.condition_kinds import Judgement

CHECK = "check "  # how the tasks of a keeper begin that look from a place
Freshness = Literal["fresh", "fading", "old", "never"]


@dataclass(frozen=True, slots=True)
class StatusRow:
    """How one thing stands.

    kind: what it is: a service, name, certificate, rule, router, address, line, clock, risk, tunnel, peer,
    authority. subject: which. aspect: the place, type, gateway, family or service that it is about; empty: none.
    state: in a word; of an address the address. level: well, wrong, unknown, or fact: neither good nor bad. since:
    when it came to be so; null: it was never looked at. seen: when that was last looked at; null: never. freshness:
    of that look. proof: of what kind it was, and from where. detail: what was seen. cause: the code of what made it
    so; null: not known. next: when a keeper looks again; null: no keeper runs. needs: what a person should do;
    empty: nothing.
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


def status(run: Run) -> tuple[StatusDocument, list[HooperError]]:
    """How everything stands. Raises: StateError."""
    stood: list[Stood] = []
    dues: Mapping[str, datetime] = {}
    keeper = False
    if run.state is not None:
        stood = how_all_stands(run)
        keeper = keeper_runs(run)
        turns = run.state.turns.all() if keeper else {}
        dues = {task: turn.due for task, turn in turns.items() if turn.due is not None}
    rows = sorted(_rows(run, stood, dues), key=lambda row: (ORDER.index(row.level), not row.needs))
    findings = tuple(finding for finding in run.plan.findings if finding.severity == "error")
    needs = sum(bool(row.needs) for row in rows) + len(findings)
    return StatusDocument(keeper, needs, tuple(rows), tuple(_numbers(run.site, stood)), findings), []


def keeper_runs(run: Run) -> bool:
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
    by_subject: dict[tuple[str, str], list[Stood]] = {}
    for one in stood:
        by_kind.setdefault(one.condition.kind, []).append(one)
        by_subject.setdefault((one.condition.kind, one.condition.subject), []).append(one)
    judged = of_services(site, by_kind.get("service", ()), run.at)
    for key, one_service in judged.items():
        yield _service(run, key, one_service, dues)
    for name, entry in site.names.items():
        for record in entry.types:
            found = next((one for one in by_subject.get(("name", name), ()) if one.condition.aspect == record), None)
            yield _row(run, found, dues) if found else _never("name", name, record)
    for key in site.certificates:
        own = by_subject.get(("certificate", key), ())
        yield from (_row(run, one, dues) for one in own if one.condition.aspect != "given")
        if not own:
            yield _never("certificate", key, "")
    yield from _by_hand(run, judged)
    for kind in KINDS:
        if kind not in ("service", "name", "certificate", "keeper"):
            yield from (_row(run, one, dues) for one in by_kind.get(kind, ()))


def _service(run: Run, key: str, judged: Judgement, dues: Mapping[str, datetime]) -> StatusRow:
    if judged.because is None:
        return _never("service", key, "")
    row = _row(run, judged.because, dues)
    if judged.level != row.level:  # well, and not seen from where it counts
        tunnel = run.site.services[key].reach == "tunnel"
        words = say("not-by-its-tunnel" if tunnel else "nobody-from-outside")
        return replace(row, level=judged.level, needs=NOTHING, detail=row.detail + words)
    return row


BY_HAND = "by-hand"  # the aspect of a router whose rules people enter


def _by_hand(run: Run, judged: Mapping[str, Judgement]) -> Iterator[StatusRow]:
    """The routers whose rules people enter: proven by what comes in through them, ticked off, or not checked."""
    site, rules = run.site, [rule for rule in run.plan.forwards if rule.kind == "forward"]
    others = {*driven_gateways(site), *made_gateways(site)}  # Hooper enters them, or they come with a tunnel's files
    keys = [key for key in dict.fromkeys(rule.gateway for rule in rules) if key not in others]
    ticked = ticked_sheets(site, run.plan, keys, run.told())
    for key in keys:
        led = {rule.service for rule in rules if rule.gateway == key and rule.service != EVERYTHING}
        well = {one: why for one in led if judged[one].level == "well" and (why := judged[one].because) is not None}
        left = sorted(led - well.keys())
        if key in ticked and left:
            at = rfc3339(ticked[key].at or run.at)
            yield StatusRow(
                "router", key, BY_HAND, "ticked", "fact", at, at, "fresh", say("proof.router.ticked"), NOTHING, None,
                None, NOTHING,
            )  # fmt: skip
        elif well:
            oldest = min(well.values(), key=lambda one: one.at)
            yield StatusRow(
                "router", key, BY_HAND, "partly-proven" if left else "proven", "unknown" if left else "well",
                rfc3339(oldest.since), rfc3339(oldest.at), freshness_of(oldest, run.at), say("proof.router.by-hand"),
                say("rules-not-proven", services=tuple(left)) if left else NOTHING, None, None, NOTHING,
            )  # fmt: skip
        else:
            yield _never("router", key, BY_HAND)


def _never(kind: Subject, subject: str, aspect: str) -> StatusRow:
    return StatusRow(
        kind, subject, aspect, "not-looked-at", "unknown", None, None, "never", say("proof.never"), NOTHING, None, None,
        NOTHING,
    )  # fmt: skip


def _row(run: Run, one: Stood, dues: Mapping[str, datetime]) -> StatusRow:
    now, what = run.at, one.condition
    level = level_of(one, now)
    due = _due(what, dues)
    return StatusRow(
        kind=what.kind,
        subject=what.subject,
        aspect=what.aspect,
        state=what.state,
        level=level,
        since=rfc3339(one.since),
        seen=rfc3339(one.at),
        freshness=freshness_of(one, now),
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
