"""How everything stands, from what is kept: nobody is asked."""

from __future__ import annotations

import shlex
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Literal

from hooper import deeds
from hooper.clock import rfc3339
from hooper.comparison import Comparison, Side
from hooper.errors import HooperError, MachineError, StateError
from hooper.planning.openers import driven_gateways
from hooper.planning.values import Finding
from hooper.store.kept import Level, Stood, Subject
from hooper.usecases.run import Run

FADES, GONE = timedelta(hours=1), timedelta(days=7)  # the age at which a proof fades, and that at which it is none
ORDER: tuple[Level, ...] = ("wrong", "unknown", "fact", "well")
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
    proof: str
    detail: str
    cause: str | None
    next: str | None
    needs: str


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
    return StatusDocument(keeper, needs, tuple(rows), tuple(_numbers(run, stood)), findings), []


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
    for one in stood:
        by_kind.setdefault(one.condition.kind, []).append(one)
    for key in site.services:
        mine = [one for one in by_kind.get("service", ()) if one.condition.subject == key]
        yield _service(run, key, mine, dues)
    for name, entry in site.names.items():
        for record in entry.types:
            found = _one(by_kind.get("name", ()), name, record)
            yield _row(run, found, dues.get("names")) if found else _never("name", name, record)
    for key in site.certificates:
        own = [one for one in by_kind.get("certificate", ()) if one.condition.subject == key]
        yield from (_row(run, one, dues.get("certificates")) for one in own if one.condition.aspect != "given")
        if not own:
            yield _never("certificate", key, "")
    driven = driven_gateways(site)
    for one in by_kind.get("rule", ()):
        if one.condition.subject in site.services and one.condition.aspect in driven:
            yield _row(run, one, dues.get("rules"))
    others = {"router": "rules", "address": "names", "line": "line", "risk": "risks", "clock": "clocks",
              "tunnel": "tunnels", "peer": "tunnels"}  # fmt: skip
    for kind, task in others.items():
        for one in by_kind.get(kind, ()):
            if kind != "router" or one.condition.subject in driven:
                yield _row(run, one, dues.get(task))


def _one(stood: Sequence[Stood], subject: str, aspect: str) -> Stood | None:
    found = (one for one in stood if (one.condition.subject, one.condition.aspect) == (subject, aspect))
    return next(found, None)


def _service(run: Run, key: str, stood: Sequence[Stood], dues: Mapping[str, datetime]) -> StatusRow:
    """A service by the places that count: those of the site file, else any outside, else what was seen from inside."""
    if not stood:
        return _never("service", key, "")
    kept = {place.name or str(place) for place in run.site.keep.places}
    outside = [one for one in stood if one.condition.aspect != "here"]
    counting = [one for one in outside if one.condition.aspect in kept]
    newest = max((one.at for one in counting), default=None)
    counting += [one for one in outside if one not in counting and (newest is None or one.at > newest)]
    chosen = min(counting or stood, key=lambda one: (ORDER.index(one.condition.level), -one.at.timestamp()))
    place = chosen.condition.aspect
    task = next((task for task in dues if task.startswith("check ") and place in task), None)
    row = _row(run, chosen, dues.get(task) if task is not None else None)
    public = run.site.services[key].reach == "public"
    if not counting and public and row.level == "well":
        return replace(row, level="unknown", needs="", detail=f"{row.detail}; nobody has looked from outside yet")
    return row


def _never(kind: Subject, subject: str, aspect: str) -> StatusRow:
    return StatusRow(
        kind, subject, aspect, "not looked at", "unknown", None, None, "never", "none", "", None, None, ""
    )  # fmt: skip


def _row(run: Run, one: Stood, due: datetime | None) -> StatusRow:
    now, what = run.at, one.condition
    age = max(now - one.at, timedelta(0))
    freshness: Freshness = "fresh" if age < FADES else "fading" if age < GONE else "old"
    level: Level = "unknown" if freshness == "old" and what.level == "well" else what.level
    return StatusRow(
        kind=what.kind,
        subject=what.subject,
        aspect=what.aspect,
        state=what.state,
        level=level,
        since=rfc3339(one.since),
        seen=rfc3339(one.at),
        freshness=freshness,
        proof=_proof(one),
        detail=what.detail,
        cause=what.cause,
        next=rfc3339(due) if due is not None else None,
        needs=_needs(one, origins(run).get(what.aspect)) if level == "wrong" else "",
    )


def origins(run: Run) -> dict[str, str]:
    """By the name of a place, the option that leads there again: of the site file's, and of those that were used.

    Where a visitor was, nobody here can go back to.
    """
    found = {place.name or str(place): str(place) for place in run.site.keep.places if place.kind != "here"}
    with run.keeping() as state:
        for kind, name in state.checks.places() if state is not None else ():
            if kind == "interface":
                found.setdefault(name, f"interface:{name}")
    return found


def _proof(one: Stood) -> str:
    """Of what kind it was, and from where."""
    what = one.condition
    if what.level == "unknown":
        return "not to be told"
    if what.state == "by-hand":
        return "by hand, not seen"
    if what.kind == "service":
        return "from inside" if what.aspect == "here" else f"from outside, {what.aspect}"
    words: dict[str, str] = {
        "name": "its own servers", "rule": "the router's table", "router": "on the network",
        "address": "measured", "line": "measured", "risk": "the site file", "clock": "on the network",
        "tunnel": "what was made", "peer": "what was handed" if what.aspect == "" else "the server",
    }  # fmt: skip
    if what.kind == "certificate":
        return "a handshake" if what.aspect.startswith("at ") else "the kept file"
    return words.get(what.kind, "kept")


def _needs(one: Stood, origin: str | None) -> str:
    """What a person should do about it. origin: of a service, the option that leads to the same place again."""
    what = one.condition
    if what.kind == "service":
        place = f" {deeds.FROM_ELSEWHERE} {shlex.quote(origin)}" if origin is not None else ""
        return f"Find the first broken link: `{deeds.WHY(what.subject)}{place}`."
    if what.kind == "name":
        return f"See what it says: `{deeds.PUBLISH(what.subject)}`."
    if what.kind == "rule":
        return f"See what it says: `{deeds.OPEN(what.subject)}`."
    if what.kind == "router":
        return f"Look whether it is on and its UPnP too: `{deeds.TABLES}`."
    if what.kind == "certificate":
        if what.aspect.startswith("at "):
            return f"Give it to the device; the files are named by `{deeds.CERTIFICATES}`."
        return f"See what it says: `{deeds.ORDER}`."
    if what.kind == "line":
        return f"See what the line is: `{deeds.SURVEY}`."
    if what.kind == "risk":
        return "Decide anew: remove what is exposed, or accept it until a later day in the site file."
    if what.kind == "tunnel":
        return f"See what it says: `{deeds.TUNNELS}`."
    if what.kind == "peer" and what.aspect == "out":
        return f"Shut it out at its server, then `{deeds.SHUT_OUT(what.subject)}`."
    if what.kind == "peer":
        return f"See what it says: `{deeds.PEERS}`."
    if what.kind == "clock":
        return "Set its clock right, best from the network."
    return "Look at it."


def _numbers(run: Run, stood: Sequence[Stood]) -> Iterator[Comparison]:
    """The address of each line beside what its names have."""
    by = {(one.condition.kind, one.condition.subject, one.condition.aspect): one for one in stood}
    for name, entry in run.site.names.items():
        address, known = by.get(("address", entry.line, "ipv4")), by.get(("name", name, "A"))
        if address is None or known is None or "A" not in entry.types:
            continue
        equal = {"current": True, "stale": False}.get(known.condition.state)
        had = known.condition.detail.partition(", says")[0] if equal is not None else None
        left = Side(f"{entry.line}, public", address.condition.state, address.condition.detail.removeprefix("says "))
        right = Side(name, had, "its own servers")
        meaning = "the name leads here" if equal else "the name leads elsewhere" if equal is False else "not known"
        yield Comparison(left, right, equal, meaning)
