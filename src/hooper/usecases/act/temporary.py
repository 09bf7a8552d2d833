"""A port that is let in to this computer while a test runs, and taken back whatever ends it."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import AsyncIterator, Iterable, Iterator, Mapping, Sequence
from contextlib import ExitStack, asynccontextmanager, contextmanager, suppress
from dataclasses import dataclass, field
from ipaddress import IPv4Address
from typing import Literal

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.check.addressing import public_address_unknown
from hooper.errors import HooperError, MachineError, UsageError
from hooper.gateways.driver import Driver, RouterLied, RouterRefuses
from hooper.gateways.find import NotAtTheSite, find_routers
from hooper.gateways.lending import LENT_S, RENEWED_EVERY, Lending, LentRuleLeft, PortNotLent
from hooper.gateways.rules import LABEL
from hooper.line.public import public_addresses
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.planning.openers import not_driven
from hooper.planning.temporary import Temporary, free_ports, temporary
from hooper.planning.typed import address_for
from hooper.planning.values import Forward
from hooper.site.references import chains_to
from hooper.store.entries import Lent, LiveRule
from hooper.store.locking import alone
from hooper.usecases.run import Run

SEARCH_S = 3.0  # seconds to find the routers
GUARDED_S = 10.0  # seconds for another try at what could not be taken back
GUARDIAN = "hooper.usecases.act.guardian"
OWNER = "letting-in"  # the lock of the run that has lent a port
How = Literal["standing", "entered", "by-hand"]


@dataclass(frozen=True, slots=True)
class LetIn:
    """A rule by which a port comes in here.

    gateway: where. how: it stands there already; it was entered for the test; a person enters it. transport: tcp or
    udp. outside_port: at that gateway. target_address: where it leads to. target_port: and to which port there. reason:
    why a person enters it.
    """

    gateway: str
    how: How
    transport: str
    outside_port: int
    target_address: str
    target_port: int
    reason: str = ""


@dataclass(frozen=True)
class Borrow:
    """A port that is to come in. service: whose outside port is borrowed; None: a port that is free.

    inside: the port here. outside: the port outside; None: the service's, or a free one. take_over: borrow it also from
    somebody else's rule that has no end. lenient: where a router does not lend it, it is left out, with the problem.
    """

    service: str | None
    transport: str
    inside: int
    outside: int | None = None
    take_over: bool = False
    lenient: bool = False


@dataclass(frozen=True)
class PortIn:
    """A port while it comes in. line: by which. outside: on the public address. rules: by which it comes in here.

    problem: why it does not come in; None: it does, as far as is known.
    """

    borrow: Borrow
    line: str
    outside: int
    rules: tuple[LetIn, ...]
    problem: HooperError | None = None

    @property
    def by_hand(self) -> tuple[LetIn, ...]:
        return tuple(rule for rule in self.rules if rule.how == "by-hand")


@dataclass
class OpenedWay:
    """The ways in to this computer while they are open."""

    run: Run
    ports: list[PortIn] = field(default_factory=list)
    entered: list[tuple[Lending, LiveRule, bool]] = field(default_factory=list)  # and whether it may take over
    away: bool = False  # what was entered is given back for a while

    @property
    def rules(self) -> tuple[LetIn, ...]:
        return tuple(rule for port in self.ports for rule in port.rules)

    async def keep_open(self) -> None:
        """Renew what was entered, until it is cancelled."""
        while True:
            await self.run.here.clock.sleep(RENEWED_EVERY)
            for lending, rule, _ in () if self.away else tuple(self.entered):
                with suppress(HooperError):  # it still lasts for two such whiles
                    await lending.renew(rule)

    async def give_back(self) -> None:
        """Let the ports lead where they led before, until `take_again`. What could not be given back is trouble."""
        self.away = True
        await _tidied(self.run, {lending.gateway: lending for lending, _, _ in self.entered}.values())

    async def take_again(self) -> None:
        """Let them come in here once more. Raises: as `let_in`."""
        for lending, rule, take_over in self.entered:
            await _under_lock(self.run, lending, lending.put(rule, take_over=take_over))
        self.away = False


async def own_place(run: Run) -> tuple[str, IPv4Address]:
    """The gateway whose LAN this computer is on, and its address there. Raises: NoNetwork, NotAtTheSite."""
    place = standing(run.site, await connected_surroundings(run.here))
    if place.gateway is None or place.address is None:
        raise NotAtTheSite("this computer is on none of the site's networks, so nothing can be let in to it")
    return place.gateway, place.address


def line_from_here(run: Run, at: str, service: str | None) -> str:
    """By which line something comes in to a machine on the LAN of `at`."""
    if service is not None:
        return run.topology.lines[service]
    return next(chain.line for chain in chains_to(run.site, at))


async def outside_address(
    run: Run, line: str, service: str | None, given: Mapping[str, IPAddress], deadline: float
) -> tuple[IPAddress, dict[str, IPAddress]]:
    """Where a service is reached from outside, None: the line itself; and the line's address, where that is known.

    given: addresses by line. deadline: seconds. Raises: NoNetwork; UsageError, CounterpartError: nothing tells it.
    """
    found = (await public_addresses(run.here, run.site, (line,), run.given(given), deadline))[line].address.value
    public = {line: found} if found is not None else {}
    address = address_for(run.topology, service, public) if service is not None else found
    if address is None:
        raise public_address_unknown(run.site, [line])
    return address, public


@contextmanager
def only_one(run: Run) -> Iterator[None]:
    """The one run that lends a port at this site. Raises: MachineError: another does, or there is no state."""
    if run.state is None:
        raise MachineError("without its state, Hooper could not take back what it enters", remedy="Mend the state.")
    lock = run.state.lock(OWNER)
    if not lock.take():
        raise MachineError(
            "another run of Hooper has let a port in to this computer",
            code="busy",
            remedy="End it, or wait until it has ended, then run the command again.",
        )
    try:
        yield
    finally:
        lock.free()


@asynccontextmanager
async def let_in(run: Run, borrows: Sequence[Borrow]) -> AsyncIterator[OpenedWay]:
    """While this is open, these ports come in here; afterwards what was there is there again.

    Raises: NoNetwork, NotAtTheSite; UsageError: there is no way in to this computer; MachineError; PortNotLent,
    NoAnswer, ConnectFailed, WireError: a router does not do its part.
    """
    with only_one(run), ExitStack() as opened:
        at, own = await own_place(run)
        planned = [(borrow, _planned(run, own, borrow, at)) for borrow in borrows]
        gateways = {rule.gateway for _, one in planned for rule in (*one.standing, *one.new)}
        gateways |= {one.gateway for one in _lent(run)}
        lendings = await _lendings(run, [key for key in run.site.gateways if key in gateways])
        await _tidied(run, lendings.values())
        if lendings:
            opened.enter_context(_guarded(run))
        way = OpenedWay(run)
        try:
            for borrow, one in planned:
                way.ports.append(await _open(run, borrow, one, lendings, way))
            yield way
        finally:
            with anyio.CancelScope(shield=True):  # as long as it takes: a router that is gone ends it
                await _tidied(run, lendings.values())


def _planned(run: Run, own: IPv4Address, borrow: Borrow, at: str) -> Temporary:
    """The rules for it. Raises: UsageError."""
    outside = borrow.outside
    if outside is None and borrow.service is None:
        line = line_from_here(run, at, None)
        outside = free_ports(run.site, line, borrow.transport, run.plan.forwards)[0]
    found = temporary(
        run.file, run.at.date(), own, service=borrow.service, transport=borrow.transport, inside=borrow.inside,
        outside=outside, planned=run.plan.forwards,
    )  # fmt: skip
    if found is None:
        raise UsageError(
            "no line leads in to this computer, so nothing can be let in to it",
            remedy=f"See `{deeds.SURVEY}` for what this line is.",
        )
    return found


def _lent(run: Run) -> list[Lent]:
    return run.state.lent.all() if run.state is not None else []


async def _lendings(run: Run, gateways: Iterable[str]) -> dict[str, Lending]:
    """The routers that answer. What does not answer is trouble only where something of ours stands there."""
    wanted = tuple(key for key in gateways if not_driven(run.site, key) is None)
    if not wanted or run.state is None:
        return {}
    found = await find_routers(run.here, run.site, wanted, SEARCH_S)
    return {key: lending(run, key, router) for key, router in found.routers.items()}


def lending(run: Run, gateway: str, router: Driver) -> Lending:
    """What lends ports of one router."""
    return Lending(gateway, router, run.kept.lent, run.kept.journal, run.here.clock)


async def _under_lock(run: Run, one: Lending, deed: object) -> object:
    """A deed on a router while no other run changes it."""
    async with alone(run.kept.lock(f"router-{one.gateway}"), run.here.clock, f"is changing {one.gateway}"):
        return await deed  # type: ignore[misc]


async def _open(run: Run, borrow: Borrow, one: Temporary, lendings: Mapping[str, Lending], way: OpenedWay) -> PortIn:
    rules: list[LetIn] = []
    problem: HooperError | None = None
    for forward in (*one.standing, *one.new):
        router = lendings.get(forward.gateway)
        if await _stands(forward, router, planned=forward in one.standing):
            rules.append(_as_let_in(forward, borrow.transport, "standing"))
            continue
        try:
            reason = await _entered(run, forward, router, way, borrow)
        except PortNotLent as exc:
            if not borrow.lenient:
                raise
            problem = exc
            break
        rules.append(_as_let_in(forward, borrow.transport, "by-hand" if reason else "entered", reason))
    return PortIn(borrow, one.line, one.outside_port, tuple(rules), problem)


async def _stands(forward: Forward, router: Lending | None, *, planned: bool) -> bool:
    """Whether a rule is there already. What is planned and cannot be looked up is taken to be there."""
    if router is None or router.driver.cannot(forward) is not None:
        return planned
    rules = list(router.driver.entries(forward, LABEL, LENT_S))
    return all([await router.stands(rule) for rule in rules])


async def _entered(run: Run, forward: Forward, router: Lending | None, way: OpenedWay, borrow: Borrow) -> str:
    """Enter one rule; why it is for a person to enter, empty: it is done. Raises: as `let_in`."""
    if router is None:
        return not_driven(run.site, forward.gateway) or f"{forward.gateway} does not answer"
    if (reason := router.driver.cannot(forward)) is not None:
        return reason
    for rule in router.driver.entries(forward, f"{LABEL}test", LENT_S):
        try:
            await _under_lock(run, router, router.put(rule, take_over=borrow.take_over))
        except (RouterRefuses, RouterLied) as exc:  # there is nothing of ours, and what was there is there
            return exc.message
        way.entered.append((router, rule, borrow.take_over))
    return ""


def _as_let_in(forward: Forward, transport: str, how: How, reason: str = "") -> LetIn:
    assert forward.outside_ports is not None
    assert forward.target_ports is not None
    target = forward.target_ports.first
    return LetIn(forward.gateway, how, transport, forward.outside_ports.first, forward.target_address, target, reason)


async def _tidied(run: Run, lendings: Iterable[Lending]) -> None:
    """Take back what was lent; what could not be is trouble."""
    for one in lendings:
        try:
            async with alone(run.kept.lock(f"router-{one.gateway}"), run.here.clock, f"is changing {one.gateway}"):
                run.trouble += await one.tidy()
        except HooperError as exc:
            run.trouble.append(LentRuleLeft(f"{one.gateway} may still have what was entered for a test: {exc.message}"))


async def take_back_left(run: Run, routers: Mapping[str, Driver]) -> frozenset[tuple[str, str, int]]:
    """Take back what a run that was killed has lent.

    Returns: gateway, transport and port of what a run that is at work has lent: nobody else is to touch it.
    """
    left = _lent(run)
    if not left or run.state is None:
        return frozenset()
    lock = run.state.lock(OWNER)
    if not lock.take():
        return frozenset((one.gateway, *one.rule.key) for one in left)
    try:
        for key in dict.fromkeys(one.gateway for one in left):
            if key in routers:
                await _tidied(run, [lending(run, key, routers[key])])
            elif key not in run.site.gateways:
                for one in left:
                    if one.gateway == key:
                        run.state.lent.forget(one)
    finally:
        lock.free()
    return frozenset()


def at_ports(lent: Iterable[tuple[str, str, int]], gateway: str) -> frozenset[tuple[str, int]]:
    """The ports that are lent at one gateway, by transport."""
    return frozenset((transport, port) for key, transport, port in lent if key == gateway)


async def tidy_up(run: Run) -> None:
    """Take back what a run that was killed has lent. Raises: NoNetwork, NotAtTheSite."""
    gateways = tuple(dict.fromkeys(one.gateway for one in _lent(run)))
    known = tuple(key for key in gateways if key in run.site.gateways)
    if known:
        found = await find_routers(run.here, run.site, known, SEARCH_S)
        await take_back_left(run, found.routers)


@contextmanager
def _guarded(run: Run) -> Iterator[None]:
    """While this is open, a process waits that takes everything back should this one be killed.

    Raises: MachineError: no process can be started.
    """
    command = [sys.executable, "-m", GUARDIAN, str(run.path), str(run.kept.path.parent)]
    nothing = subprocess.DEVNULL
    try:
        guardian = subprocess.Popen(  # noqa: S603 - this very program
            command, stdin=subprocess.PIPE, stdout=nothing, stderr=nothing, start_new_session=True
        )
    except OSError as exc:
        remedy = "End other programs, or raise the limit of processes or memory."
        raise MachineError(f"no further process can be started: {exc.strerror}", remedy=remedy) from None
    try:
        yield
    finally:
        assert guardian.stdin is not None
        guardian.stdin.close()
        if _lent(run):  # it tries once more, as if this run had been killed
            with suppress(subprocess.TimeoutExpired):
                guardian.wait(GUARDED_S)
        guardian.kill()
        guardian.wait()
