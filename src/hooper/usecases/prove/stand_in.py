"""Hooper listens in place of a service, so that the way in is proven apart from the device."""

from __future__ import annotations

import secrets
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import AsyncExitStack, asynccontextmanager
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Literal

import anyio

from hooper.addresses import IPAddress
from hooper.check.browser_visit import Came, VisitGround, judge_visit
from hooper.check.checking import check_services
from hooper.check.handshake_keys import StandInKey
from hooper.check.results import From, Result, Seen
from hooper.check.stand_in import ask_datagram, ask_stream, stand_in_tcp, stand_in_udp
from hooper.check.targets import spoken
from hooper.check.wish import Outcome, Wish
from hooper.clock import rfc3339
from hooper.errors import HooperError, UsageError
from hooper.net.proxy import close_quietly
from hooper.net.types import Endpoint
from hooper.places import Place
from hooper.usecases.act.temporary import Borrow, LetIn, let_in, outside_address, own_place
from hooper.usecases.origins import open_place
from hooper.usecases.run import Run

OWN_S = 2.0  # seconds for this computer's own look at the public address
Event = Literal["ready", "came", "result", "ended"]


@dataclass(frozen=True, slots=True)
class Caller:
    """Who came to the listener.

    at: when. transport: tcp or udp. address: where it came from. came: from outside, from home, through a tunnel, or
    that cannot be told. said: what it said, in words.
    """

    at: str
    transport: str
    address: str
    came: Came
    said: str


@dataclass(frozen=True, slots=True)
class StandInLine:
    """`hooper stand-in`: one line.

    event: ready: the listener is there; came: somebody; result: of the look from the place that was named; ended.
    address: outside, where it is asked. ports: outside, as transport and number. rules: by which they come in here.
    caller: who came; null: this is about nobody. result: of one port; null: this is about none. from: where it was
    looked from; null: from nowhere. proven: whether the way in is proven by now.
    """

    event: Event
    service: str
    address: str
    ports: tuple[str, ...]
    rules: tuple[LetIn, ...]
    caller: Caller | None
    result: Result | None
    from_: From | None
    proven: bool


@dataclass(frozen=True)
class StandInRequest:
    """origin: where it is looked from; None: it waits for whoever comes. hold: seconds to wait.

    public: addresses by line that were given. deadline: seconds for the look. heard: is told each line.
    """

    service: str
    origin: Place | None
    public: Mapping[str, IPAddress]
    hold: float
    deadline: float
    take_over: bool = False
    heard: Callable[[StandInLine], None] = lambda line: None


@dataclass
class _Stand:
    """The listener while it stands there."""

    run: Run
    request: StandInRequest
    address: IPAddress
    ports: tuple[str, ...]
    rules: tuple[LetIn, ...]
    ground: VisitGround
    own_look: bool = True
    proven: bool = False
    outside: anyio.Event = field(default_factory=anyio.Event)

    def line(
        self, event: Event, caller: Caller | None = None, result: Result | None = None, origin: From | None = None
    ) -> StandInLine:
        """As it is printed."""
        return StandInLine(
            event, self.request.service, str(self.address), self.ports, self.rules, caller, result, origin, self.proven
        )

    def came(self, transport: str, peer: Endpoint, said: str) -> None:
        """Somebody came."""
        if self.own_look:  # that is we ourselves
            self.ground = VisitGround(self.ground.site, self.ground.public, peer.address)
            return
        came, _ = judge_visit(self.ground, peer.address)
        now = rfc3339(self.run.here.clock.now())
        if came == "outside" and self.request.origin is None:
            self.proven = True
            self.outside.set()
        self.request.heard(self.line("came", Caller(now, transport, str(peer.address), came, said)))


async def stand_in(run: Run, request: StandInRequest) -> tuple[StandInLine, list[HooperError]]:
    """Stand in for a service, and look from outside, or wait for somebody.

    Raises: as `let_in`, `check_services`; UsageError: it has no port, or nothing is to lead to it.
    """
    entry = run.site.services[request.service]
    if not entry.has_ports or entry.reach != "public":
        why = "has no port" if not entry.has_ports else "is not public, so nothing is to lead to it from outside"
        raise UsageError(f"{request.service} {why}", remedy="Name a public service.")
    _, own = await own_place(run)
    line = run.topology.lines[request.service]
    address, public = await outside_address(run, line, request.service, request.public, request.deadline)
    key = secrets.token_bytes(16)
    async with _listening(run, request, own, key) as (stand, borrows, tasks):
        stand.address, stand.ground = address, VisitGround(run.site, {address, *public.values()}, None)
        async with let_in(run, borrows) as way:
            stand.ports = tuple(f"{port.borrow.transport} {port.outside}" for port in way.ports)
            stand.rules = way.rules
            tasks.start_soon(way.keep_open)
            await _own_look(run, stand, key, [(port.borrow.transport, port.outside) for port in way.ports])
            request.heard(stand.line("ready"))
            outcome = None
            if request.origin is not None:
                outcome = await _look(run, request, StandInKey(key), public)
                _told(stand, outcome)
            else:
                with anyio.move_on_after(request.hold):
                    await stand.outside.wait()
            tasks.cancel_scope.cancel()
    _keep(run, stand, outcome)
    ended = stand.line("ended", origin=outcome.origin if outcome is not None else None)
    request.heard(ended)
    return ended, outcome.errors if outcome is not None else []


@asynccontextmanager
async def _listening(
    run: Run, request: StandInRequest, own: IPv4Address, key: bytes
) -> AsyncIterator[tuple[_Stand, list[Borrow], anyio.abc.TaskGroup]]:
    """The listeners: at the service's own port where this computer is its host, else at free ones."""
    entry = run.site.services[request.service]
    at_home = run.site.devices[entry.host].address == own
    outside = run.topology.outside_ports[request.service]
    stand = _Stand(run, request, own, (), (), VisitGround(run.site, (), None))
    borrows: list[Borrow] = []
    problem: HooperError | None = None
    async with AsyncExitStack() as opened, anyio.create_task_group() as tasks:
        for transport in spoken(entry):
            for step in sorted({0, outside.size - 1}):
                port = entry.used_ports.first + step if at_home else 0
                local = Endpoint(own, port)
                if transport == "tcp":
                    listener = await opened.enter_async_context(await run.here.listen(local))
                    inside = listener.local.port
                    tasks.start_soon(stand_in_tcp, listener, key, stand.came)
                else:
                    socket = await opened.enter_async_context(await run.here.datagrams(local=local))
                    inside = socket.local.port
                    tasks.start_soon(stand_in_udp, socket, key, stand.came)
                first = outside.first + step
                borrows.append(Borrow(request.service, transport, inside, first, take_over=request.take_over))
        try:
            yield stand, borrows, tasks
        except HooperError as exc:  # kept, since the task group would wrap it up
            problem = exc
        tasks.cancel_scope.cancel()
    if problem is not None:
        raise problem


async def _own_look(run: Run, stand: _Stand, key: bytes, ports: list[tuple[str, int]]) -> None:
    """How a visit from home looks, where the public address leads back in at all."""
    with anyio.move_on_after(OWN_S):
        transport, port = ports[0]
        seen, secret = Seen(), StandInKey(key)
        try:
            if transport == "udp":
                await ask_datagram(run.here, Endpoint(stand.address, port), secret, seen)
            else:
                stream = await run.here.connect(stand.address, port)
                try:
                    await ask_stream(stream, secret, seen)
                finally:
                    await close_quietly(stream)
        except (HooperError, anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError):
            pass
    stand.own_look = False


async def _look(run: Run, request: StandInRequest, key: StandInKey, public: Mapping[str, IPAddress]) -> Outcome:
    assert request.origin is not None
    outside = await open_place(run, request.origin, request.deadline)
    known = run.given({**public, **request.public})
    wish = Wish(run.topology, (request.service,), request.deadline, known, base=run.base, by_number=True,
                keys={request.service: key}, heard=run.progress)  # fmt: skip
    return await check_services(run.here, wish, outside)


def _told(stand: _Stand, outcome: Outcome) -> None:
    stand.proven = outcome.proves_outside and bool(outcome.results) and all(one.ok for one in outcome.results)
    for result in outcome.results:
        stand.request.heard(stand.line("result", result=result, origin=outcome.origin))


def _keep(run: Run, stand: _Stand, outcome: Outcome | None) -> None:
    """Keep what it says of the way in: it is no look at the service itself."""
    told: dict[str, str] = {}
    if outcome is not None:
        for result in outcome.results:
            if result.verdict in ("answered", "silent", "refused", "mismatched"):
                told[f"services.{stand.request.service}/way@{result.transport}"] = result.verdict
    elif stand.proven:
        told = {f"services.{stand.request.service}/way@tcp": "answered"}
    if told:
        with run.keeping() as state:
            if state is not None:
                state.ledger.tell(run.at, told, "inferred", run.basis)
