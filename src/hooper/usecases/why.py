"""The first broken link of a service, with evidence and remedy."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import timedelta

from hooper.addresses import IPAddress
from hooper.check.named import PROBLEMS
from hooper.check.origin import open_origin
from hooper.check.results import Result
from hooper.clock import time_left
from hooper.errors import CounterpartError, HooperError
from hooper.evidence.observations import service_subject
from hooper.jsonform import read_if
from hooper.line.sources import Given
from hooper.net.types import Door
from hooper.places import Place
from hooper.site.words import chosen
from hooper.sourced import Sourced
from hooper.usecases.looking import keep_address, keep_look, keep_tables
from hooper.usecases.probing import probe_keys
from hooper.usecases.run import Run
from hooper.usecases.telling import remember
from hooper.why.case import AskedOnSite, Case, WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.evidence import STORED_FOR, Past, gather_service
from hooper.why.facts import ServiceFacts, TunnelSeen
from hooper.why.looks import footing
from hooper.why.questions import SiteQuestion, next_question, questions
from hooper.words.said import say

HEARD_FOR = timedelta(hours=1)  # what a server or a person told is then asked again
QUESTIONS = 5  # at most, in one go
ANSWER = "/answer@"  # of a service, in the keys of what was answered


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


async def why(run: Run, request: WhyRequest) -> tuple[WhyDocument, list[HooperError]]:
    """Diagnose, and keep what was seen and told. Raises: NoNetwork, UsageError, MachineError, ProxyFailed."""
    if request.peer is not None:
        from hooper.usecases.why_peer import why_peer

        return await why_peer(run, request, request.peer)
    facts, trouble = await gathered(run, request)
    document = diagnose(run.topology, run.plan, facts)
    if document.causes:  # which say why, so that it is no trouble of its own
        trouble = [problem for problem in trouble if problem.code != "public-address-unknown"]
    public = run.site.services[request.service].reach == "public"
    if request.answers is not None and public and document.ok is not True:
        document = asked_on_site(run, request, facts, request.answers)
    return document, trouble


def asked_on_site(run: Run, request: WhyRequest, facts: ServiceFacts, given: Mapping[str, str]) -> WhyDocument:
    """Put questions to somebody on site, each of which halves what is left. Raises: UsageError: no such question."""
    pool = tuple(questions(run.topology, run.plan, request.service))
    chosen(given, [question.key for question in pool], "question")
    before, mark = _answered(run, request.service), f"{service_subject(request.service)}{ANSWER}"
    answers, upcoming, count = {**before, **given}, None, 0
    on = footing(Case(run.topology, run.plan, facts), public=True)
    while True:
        document = diagnose(run.topology, run.plan, facts, answers)
        if any(cause.certainty == "certain" for cause in document.causes):
            break
        upcoming = next_question(on, pool, answers, {cause.code for cause in document.causes})
        said = request.ask(upcoming) if upcoming is not None and request.ask is not None and count < QUESTIONS else None
        if upcoming is None or said is None:
            break
        answers[upcoming.key], upcoming, count = said, None, count + 1
    with run.keeping() as state:
        if state is not None:
            new = {f"{mark}{key}": said for key, said in answers.items() if before.get(key) != said}
            state.ledger.tell(run.at, new, basis=run.basis)
    texts = {question.key: question.text for question in pool}
    rows = [AskedOnSite(key, texts[key], said) for key, said in answers.items() if key in texts]
    rows += [AskedOnSite(upcoming.key, upcoming.text, None)] if upcoming is not None else []
    return replace(document, asked=tuple(rows))


def _answered(run: Run, service: str) -> dict[str, str]:
    """What was answered within the hour. Raises: StateError."""
    mark = f"{service_subject(service)}{ANSWER}"
    told = {key: said for key, said in run.told().items() if key.startswith(mark)}
    return {
        key.removeprefix(mark): said.value
        for key, said in told.items()
        if said.at is not None and run.at - said.at <= HEARD_FOR
    }


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
            outside = await open_origin(run.here, request.origin, run.site, run.base, request.deadline)
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
        keep_tables(run, request.service, facts.rules)
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
    return Past(known, newest, entered, keys, tunnels_seen(run), _published(run))


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
