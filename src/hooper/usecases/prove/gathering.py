"""What a diagnosis is made from: looked at now, and what earlier runs left."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from hooper.addresses import IPAddress
from hooper.check.results import Result
from hooper.check.typed_names import PROBLEMS
from hooper.clock import time_left
from hooper.errors import CounterpartError, HooperError
from hooper.evidence.observations import service_subject
from hooper.jsonform import read_if
from hooper.line.sources import Given
from hooper.net.types import Door
from hooper.places import Place
from hooper.site.references import planned_for
from hooper.sourced import Sourced
from hooper.usecases.origins import open_place
from hooper.usecases.prove.keeping_looks import keep_address, keep_look, keep_tables, remember
from hooper.usecases.prove.probing import probe_keys, revoked_certificates
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import PUT_BACK
from hooper.why.evidence import STORED_FOR, Past, gather_service
from hooper.why.facts import ServiceFacts, TunnelSeen
from hooper.why.questions import SiteQuestion
from hooper.words.said import Said, say

HEARD_FOR = timedelta(hours=1)  # what a server or a person told is then asked again


@dataclass(frozen=True)
class WhyRequest:
    """origin: the place to look from; None: nobody looks from outside. public: addresses by line
    that were given. told: by the keys of the store, these included. peer: whose way through its tunnel is asked for.

    deadline: seconds for all of it. keep: what was seen is kept. ask: puts a question to a person, and gives yes, no or
    unknown, None where nobody answers any more; None: nobody is asked. answers: that were given along, by the keys of
    the questions; None: nothing is asked at all.
    """

    service: str
    origin: Place | None = None
    peer: str | None = None
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    told: Mapping[str, str] = field(default_factory=dict)
    deadline: float = 5.0
    keep: bool = True
    ask: Callable[[SiteQuestion], str | None] | None = None
    answers: Mapping[str, str] | None = None


async def gathered(
    run: Run, request: WhyRequest, outside: Door | None = None
) -> tuple[ServiceFacts, list[HooperError]]:
    """What is known of a service. outside: the place to look from, where it is open already. Raises: as `why`."""
    told = remember(run, request.told)
    past, started = Past(Given(request.public, told)), run.here.clock.monotonic()
    with run.keeping() as state:
        if state is not None:
            past = _past(run, request, told)
    trouble: list[HooperError] = []
    if request.origin is not None and outside is None:
        try:
            outside = await open_place(run, request.origin, request.deadline)
        except CounterpartError as exc:  # a proxy that cannot be reached: what is seen from here may tell why
            trouble.append(exc)
    left = time_left(run.here.clock, started, request.deadline)
    facts, looks = await gather_service(
        run.here, outside, run.topology, run.plan, request.service, past, run.memory, left, now=run.at, base=run.base
    )  # fmt: skip
    for look in looks:
        trouble += look.errors
        if request.keep:
            keep_look(run, look)
    if request.keep:
        keep_address(run, facts.line.line, facts.line.public)
        read = {
            f"{service_subject(request.service)}/rule@{key}": one.value
            for key, one in facts.rules.items()
            if one.measured and one.now(run.at) and one.value != "unseen"
        }
        keep_tables(run, read)
    return facts, trouble


def _past(run: Run, request: WhyRequest, told: Mapping[str, Sourced[str]]) -> Past:
    """What earlier runs left. Raises: StateError."""
    rows = run.seen_outside(request.service, STORED_FOR + timedelta(seconds=1))
    looks = [(row.at, look) for row in rows if (look := read_if(Result, row.value)) is not None]
    family = "ipv6" if run.site.services[request.service].family == "ipv6" else "ipv4"
    looks = [look for look in looks if look[1].family == family]
    newest = next((look for look in looks if not set(look[1].problems) & set(PROBLEMS)), None)  # of the line itself
    journal = run.kept.journal
    entered = {
        key: {entry.service: entry.until for entry in journal.entries(key).values()} for key in run.site.gateways
    }
    known, keys = run.given(request.public, told), probe_keys(run)
    return Past(known, newest, entered, keys, tunnels_seen(run), _published(run), revoked_certificates(run),
                _put_back(run, request.service))  # fmt: skip


def _put_back(run: Run, service: str) -> Sourced[Said] | None:
    """That the newest certificate of a service was given to its device and taken back. Raises: StateError."""
    planned = planned_for(run.site, service)
    for one in run.kept.history.conditions() if planned is not None else ():
        what = one.condition
        if (what.kind, what.subject, what.aspect) == ("certificate", planned, "given"):
            return Sourced(what.detail, say("as-it-was-given"), one.at) if what.state.startswith(PUT_BACK) else None
    return None


def _published(run: Run) -> dict[str, Sourced[str]]:
    """What Hooper last published under each name, where the name's own servers showed it. Raises: StateError."""
    found = {name: run.kept.updates.last_update(name, "A", run.at) for name in run.site.names}
    shown = {name: last for name, last in found.items() if last is not None and last.outcome == "done" and last.shown}
    return {name: Sourced(last.value, say("published"), last.at) for name, last in shown.items()}


def tunnels_seen(run: Run) -> dict[str, TunnelSeen]:
    """By service, what the server of its tunnel told within the hour. Raises: StateError."""
    found: dict[str, TunnelSeen] = {}
    heard, made = list(run.kept.ledger.heard().values()), run.kept.tunnelling.made()
    for key, tunnel in run.site.tunnels.items():
        if tunnel.public_key is None or tunnel.probe_key is None:
            continue
        since = max(
            run.at - HEARD_FOR, made[key].at if key in made else run.at - HEARD_FOR
        )  # before that it was another
        told = [one for one in heard if one.tunnel == key and one.at >= since]
        rows, right = {one.public_key for one in told}, {one.server for one in told}
        found[tunnel.service] = TunnelSeen(
            key, tunnel.public_key in right if right else None, tunnel.probe_key in rows if rows else None
        )
    return found
