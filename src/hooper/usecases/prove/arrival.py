"""A page on this computer that a phone opens: whether it comes in from outside, and what its browser can reach."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable, Mapping
from contextlib import AbstractAsyncContextManager, suppress
from dataclasses import dataclass, field
from typing import Any, Literal

import anyio

from hooper.addresses import IPAddress
from hooper.check.browser_visit import (
    PATIENCE_MS,
    Came,
    PhoneWord,
    Try,
    Visit,
    VisitGround,
    browser_result,
    judge_told,
    judge_visit,
    read_told,
    traffic_words,
    tries,
)
from hooper.check.results import Result
from hooper.check.wish import Outcome
from hooper.clock import rfc3339
from hooper.errors import CounterpartError, HooperError, UsageError
from hooper.evidence.identity import Identity
from hooper.evidence.observations import Observation, service_subject
from hooper.jsonform import read_json
from hooper.net.serving import NOT_THERE, HttpAsked, HttpSaid, serve_http
from hooper.net.types import Endpoint
from hooper.places import Place
from hooper.planning.typed import name_for
from hooper.usecases.act.temporary import Borrow, LetIn, OpenedWay, let_in, line_from_here, outside_address, own_place
from hooper.usecases.origins import open_place
from hooper.usecases.prove.by_turns import PortTurns, can_be_given_back
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.run import Run
from hooper.words.said import quoted, say

LOOP_S, OPENED_S = 2.0, 8.0  # seconds for this computer's own visit, and for one from another place
GRACE_S = 45.0  # seconds for the page to try all, once somebody has come from outside
TURN_S = 40.0  # seconds that a borrowed port is its device's own, for the phone to open it
WORDS = {  # a verdict as the person at the phone reads it
    "answered": "works",
    "connected": "something is there",
    "mismatched": "another device answers",
    "silent": "nothing comes back",
    "unproven": "a browser cannot tell",
}
Event = Literal["ready", "visit", "tried", "given-back", "borrowed-again", "ended"]


@dataclass(frozen=True, slots=True)
class ArrivalLine:
    """`hooper arrival`: one line.

    event: ready: the page is there to be opened; visit: a browser came; tried: what a browser, or the person before it,
    could tell of a service; given-back: the port leads to its device, so that the phone can open it; borrowed-again: it
    leads here, to hear what was seen; ended. address: of the page. service: whose outside port is borrowed; null:
    nobody's. rules: by which the port comes in here. visit: who came; null: this is about no visit. result: of a
    service; null: this is about none. arrived: whether somebody has come from outside by now. proves: what it proves.
    proves_not: what it does not.
    """

    event: Event
    address: str
    service: str | None
    rules: tuple[LetIn, ...]
    visit: Visit | None
    result: Result | None
    arrived: bool
    proves: tuple[str, ...]
    proves_not: tuple[str, ...]


@dataclass(frozen=True)
class ArrivalRequest:
    """service: whose outside port is borrowed; None: a free one is taken. public: addresses by line that were given.

    hold: seconds to wait for somebody. deadline: seconds for finding the address. compare: wait until a person has
    compared all certificates. turn: seconds that the port is its device's own. origin: whence the page is opened, in
    the place of a phone. heard: is told each line.
    """

    service: str | None
    public: Mapping[str, IPAddress]
    hold: float
    deadline: float
    title: str
    lab: bool
    take_over: bool = False
    compare: bool = False
    turn: float = TURN_S
    origin: Place | None = None
    heard: Callable[[ArrivalLine], None] = lambda line: None


@dataclass
class _Page:
    """The page while it is shown."""

    run: Run
    request: ArrivalRequest
    address: str
    path: str
    way: OpenedWay
    ground: VisitGround
    tries: list[Try]
    reached: IPAddress
    turns: PortTurns | None = (
        None  # of the device whose port is borrowed; None: it is nobody's, or cannot be given back
    )
    visits: list[Visit] = field(default_factory=list)
    results: dict[str, Result] = field(default_factory=dict)
    words: dict[str, PhoneWord] = field(default_factory=dict)
    trouble: list[HooperError] = field(default_factory=list)
    tried: bool = False
    done: anyio.Event = field(default_factory=anyio.Event)
    came: anyio.Event = field(default_factory=anyio.Event)

    @property
    def arrived(self) -> bool:
        return any(visit.came == "outside" for visit in self.visits)

    def say(self, event: Event, visit: Visit | None = None, result: Result | None = None) -> None:
        self.request.heard(self.line(event, visit, result))

    def line(self, event: Event, visit: Visit | None = None, result: Result | None = None) -> ArrivalLine:
        """As it is printed."""
        proves = (self.proves(), self.proves_not()) if self.arrived else ((), ())
        service, rules = self.request.service, self.way.rules
        return ArrivalLine(event, self.address, service, rules, visit, result, self.arrived, *proves)

    def proves(self) -> tuple[str, ...]:
        """What a visit from outside proves."""
        port, service = self.way.ports[0].outside, self.request.service
        told = self.results.get(service) if service is not None else None
        return (
            *((f"{service} answers there: {told.detail}.",) if told is not None and told.ok else ()),
            f"The line has a public address, and what comes in at TCP {port} is led all the way to this computer.",
            f"The provider lets TCP {port} in from where {'this phone' if self.request.origin is None else 'that'} is.",
        )

    def proves_not(self) -> tuple[str, ...]:
        """What it does not."""
        service = self.request.service
        told = self.results.get(service) if service is not None else None
        lines = [] if told is not None and told.ok else [self._of_the_device()]
        return (*lines, "UDP: no browser speaks it.", "Other ports, unless a service in the list was loaded.")

    def _of_the_device(self) -> str:
        """That nothing is known of the device behind the port, and what would tell."""
        service = self.request.service
        if service is None:
            return "That any device answers: this page comes from the computer that runs Hooper."
        if (told := self.results.get(service)) is not None:
            return f"That {service} answers: {told.detail}."
        if self.turns is not None:
            return f"That {service} answers: this phone has said nothing of it yet."
        hand = ", ".join(dict.fromkeys(rule.gateway for rule in self.way.rules if rule.how == "by-hand"))
        return f"That {service} answers: have the rule on {hand or 'its router'} led to it again, and open it then."

    async def answer(self, asked: HttpAsked) -> HttpSaid:
        """One request."""
        path = asked.target.partition("?")[0]
        if path == f"{self.path}/own":
            return HttpSaid(200, str(asked.peer.address).encode())
        if path == f"{self.path}/told" and asked.method == "POST":
            return self._told(asked)
        if path != self.path or asked.method not in ("GET", "HEAD"):
            self.run.detail(f"{asked.peer.address} asked for another page: a stranger, or the browser's icon")
            return NOT_THERE
        return self._shown(asked)

    def _shown(self, asked: HttpAsked) -> HttpSaid:
        from hooper.report.arrival import as_page

        came, meaning = judge_visit(self.ground, asked.peer.address)
        browser = asked.fields.get("user-agent", "")[:200]
        traffic = traffic_words(self.ground, came, asked.peer.address)
        visit = Visit(rfc3339(self.run.here.clock.now()), str(asked.peer.address), came, meaning, browser, traffic)
        self.visits.append(visit)
        self.say("visit", visit=visit)
        if came == "outside":
            self.came.set()
            if not any(one.urls for one in self.tries) and self.turns is None:
                self.done.set()
        nonce = secrets.token_urlsafe(12)
        proves = self.proves() if came == "outside" else ("Nothing about outside.",)
        body = as_page(
            self.request.title, visit, self.tries, self.path, nonce, PATIENCE_MS, lab=self.request.lab, proves=proves,
            proves_not=self.proves_not() if came == "outside" else (), turns=self.turns,
        )  # fmt: skip
        policy = (
            f"default-src 'none'; style-src 'unsafe-inline'; script-src 'nonce-{nonce}'; img-src data: http: https:;"
            " connect-src http: https:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
        )
        return HttpSaid(200, body, "text/html; charset=utf-8", {"Content-Security-Policy": policy})

    def _told(self, asked: HttpAsked) -> HttpSaid:
        """What the page tells of a service; an empty object: it has tried all, but for the device behind this port."""
        outside = self._from_outside(asked.peer.address)
        try:
            body = read_json(dict[str, Any], asked.body)
            if body == {}:
                self.tried |= outside
                if outside and self.turns is not None:
                    self.turns.asked.set()
                return self._heard("")
            service, word = read_told(body)
            own = self.turns is not None and self.turns.own.service == service
            offered = [*self.tries, *([self.turns.own] if self.turns is not None else [])]
            one = next(one for one in offered if one.service == service)
        except (ValueError, StopIteration):
            return HttpSaid(400, b"not understood\n")
        if not outside:
            found = judge_told(self.run.topology, one, word, named=self._named(service))
            return self._heard(f"{WORDS[found.verdict]}: {found.detail}; this was not tried from outside")
        self.words[service] = word.after(self.words.get(service))
        result = judge_told(self.run.topology, one, self.words[service], named=self._named(service))
        if result != self.results.get(service):
            self.results[service] = result
            self.say("tried", result=result)
        if own and self.turns is not None:
            self.turns.hear(word, last=body.get("last") is True)
        return self._heard(f"{WORDS[result.verdict]}: {result.detail}")

    def _named(self, service: str) -> bool:
        return name_for(self.run.topology, service) is not None

    def _heard(self, words: str) -> HttpSaid:
        """That it was heard, by the sign that tells this computer from what else answers at the port."""
        body = json.dumps({"heard": self.path, "said": words}).encode()
        return HttpSaid(200, body, "application/json", once_said=self._end_if_done)

    def _end_if_done(self) -> None:
        """Once all was tried, and compared where that is waited for."""
        prints = {one.service for one in self.tries if one.print is not None} if self.request.compare else set()
        compared = {service for service, word in self.words.items() if word.saw.get("print")}
        if self.tried and prints <= compared and (self.turns is None or self.turns.over):
            self.done.set()

    def _from_outside(self, address: IPAddress) -> bool:
        return judge_visit(self.ground, address)[0] == "outside"


async def arrival(run: Run, request: ArrivalRequest) -> tuple[ArrivalLine, list[HooperError]]:
    """Show the page until somebody has come from outside and the browser has tried all, or `hold` has passed.

    Raises: as `let_in`; UsageError, CounterpartError: nothing tells the public address.
    """
    service = request.service
    if service is not None and run.site.services[service].used_transport == "udp":
        raise UsageError(f"{service} is reached over UDP, which no browser speaks", remedy="Leave the service out.")
    at, own = await own_place(run)
    line = line_from_here(run, at, service)
    address, public = await outside_address(run, line, service, request.public, request.deadline)
    every = tries(run.topology, public, list(run.site.services), run.memory)
    tried = [one for one in every if one.service != service]
    path = f"/{secrets.token_hex(5)}"
    listening = await run.here.listen(Endpoint(own, 0))
    async with listening as listener, _way(run, request, listening.local.port) as way:
        url = f"http://{Endpoint(address, way.ports[0].outside)}{path}"
        ground = VisitGround(run.site, {address, *public.values()}, None)
        turns = next((PortTurns(one, request.turn) for one in every if one.service == service), None)
        page = _Page(run, request, url, path, way, ground, tried, address, turns if can_be_given_back(way) else None)
        try:
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(serve_http, listener, page.answer)
                tasks.start_soon(way.keep_open)
                page.ground = VisitGround(run.site, page.ground.public, await _own_visit(run, page, address))
                page.say("ready")
                if request.origin is not None:
                    tasks.start_soon(_opened_from, page, request.origin)
                elif page.turns is not None:
                    tasks.start_soon(_by_turns, page, page.turns)
                waits = request.compare or page.turns is not None  # for a person
                await _until_done(page, request.hold, request.hold if waits else GRACE_S)
                tasks.cancel_scope.cancel()
        finally:  # whoever stops it early keeps what has been proven by then
            keep(run, page)
    page.say("ended")
    return page.line("ended"), page.trouble


def _way(run: Run, request: ArrivalRequest, port: int) -> AbstractAsyncContextManager[OpenedWay]:
    return let_in(run, [Borrow(request.service, "tcp", port, take_over=request.take_over)])


async def _by_turns(page: _Page, turns: PortTurns) -> None:
    await turns.take(page.run, page.way, lambda away: page.say("given-back" if away else "borrowed-again"))
    page.done.set()


async def _opened_from(page: _Page, origin: Place) -> None:
    """Open the page from another place; whoever opens it there is its visitor. While a hand may still be entering a
    rule, it is tried again.
    """
    from hooper.net.plain_http import Url, ask

    hands = " and ".join(rule.gateway for rule in page.way.ports[0].by_hand)
    until = page.run.here.clock.monotonic() + page.request.hold - OPENED_S
    try:
        door = await open_place(page.run, origin, page.request.deadline)
        while True:
            try:
                await ask(door, Url(page.reached, page.way.ports[0].outside, page.path), OPENED_S)
                break
            except HooperError as exc:
                if not hands or page.run.here.clock.monotonic() > until:
                    doubt = f"Look at the rule on {hands}." if hands else "See above what else it can be."
                    said = f"{origin} did not open the page: {exc.message}"
                    raise CounterpartError(said, remedy=doubt) from None
                await page.run.here.clock.sleep(LOOP_S)
    except HooperError as exc:
        page.trouble.append(exc)
    page.came.set()
    page.done.set()


async def _own_visit(run: Run, page: _Page, address: IPAddress) -> IPAddress | None:
    """Where this computer's own visit to the public address seems to come from; None: it does not arrive."""
    from hooper.addresses import parse_address
    from hooper.net.plain_http import Url, ask

    with suppress(HooperError, ValueError):
        url = Url(address, page.way.ports[0].outside, f"{page.path}/own")
        said = await ask(run.here, url, LOOP_S)
        return parse_address(said.body.decode("ascii", "replace"))
    return None


async def _until_done(page: _Page, hold: float, grace: float) -> None:
    """grace: seconds for the page, once somebody has come from outside."""
    with anyio.move_on_after(hold):
        await page.came.wait()
        with anyio.move_on_after(grace):
            await page.done.wait()


def keep(run: Run, page: _Page) -> None:
    """Keep what browsers outside could tell, and that the way to a service's port is open."""
    visitor = next((visit for visit in page.visits if visit.came == "outside"), None)
    if visitor is None:
        return
    results = list(page.results.values())
    unheard = [page.turns.own] if page.turns is not None and page.turns.asked.is_set() else []
    results += [
        browser_result(
            one,
            "unproven",
            quoted(one.unopened) if one.unopened else say("browser-told-nothing"),
            provable=bool(one.urls),
        )
        for one in (*page.tries, *unheard)
        if one.service not in page.results
    ]
    place = Place("arrival", visitor.address)
    keep_look(run, Outcome(place, True, results))
    with run.keeping() as state:
        if state is not None:
            state.ledger.write(
                Observation(
                    service_subject(service), f"seen@{asked}", said, run.at, "told", str(place), _strength(asked, said)
                )
                for service, word in page.words.items()
                for asked, said in word.saw.items()
            )


def _strength(asked: str, said: str) -> Identity:
    """How far one thing that a person saw tells a device."""
    strengths: dict[tuple[str, str], Identity] = {
        ("print", "same"): "proven", ("print", "other"): "other", ("page", "yes"): "kind", ("page", "other"): "other",
    }  # fmt: skip
    return strengths.get((asked, said), "none")


def came_words(came: Came) -> str:
    """A visit in a word or two."""
    return {"outside": "from outside", "home": "still at home", "tunnel": "by the tunnel", "unclear": "unclear"}[came]
