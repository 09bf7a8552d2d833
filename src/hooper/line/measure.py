"""Measuring a line in depth, all side by side on one deadline: who outside sees what, which routers stand in between
and what they say, how the NAT behaves, what the resolvers answer.

Asks only what the site file names, what the system gives as gateway or resolver, and what reveals itself on the path.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Coroutine, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime
from ipaddress import IPv4Address, IPv6Address
from typing import Any, TypeVar

import anyio

from hooper.addresses import IPAddress, classify, parse_address
from hooper.errors import HooperError, LabGone, MachineError, WireError
from hooper.gateways.asking import natpmp_address, pcp_announce
from hooper.gateways.find import search_routers
from hooper.gateways.igd import Igd
from hooper.line.facts import BoxSaid, Hops, LineFacts, Measured, NatBehaviour, ResolverSaid, between
from hooper.line.hops import PATIENCE, confirm, trace
from hooper.line.nat import nat_behaviour
from hooper.line.sources import GIVEN, Candidates, Given, PublicAddress, belongs, choose, told_for
from hooper.net.standing import connected_surroundings, standing
from hooper.net.stun import stun_answer
from hooper.net.types import Door, Endpoint, Interface, Refused
from hooper.site.model import Site
from hooper.site.references import chain_of, first_line, names_of_line
from hooper.sourced import Sourced, SourcedAddress
from hooper.wire import natpmp, pcp, stun

INTERNET = IPv4Address("192.0.2.1")  # anywhere outside, to look up a route; nothing is sent there (RFC 5737)
ASIDE = 0.15  # seconds of the deadline that are kept for what comes after an answer
ROUTER_PATIENCE, RESOLVER_PATIENCE = 2.5, 2.0  # seconds
FIRST = 0.5  # seconds that PCP waits for what NAT-PMP says, of this router and the inner one
SHORTEST = 0.2  # seconds in which an answer can be expected at all
HOPS_SHARE = 0.16  # of the deadline, for the hops that come first
RESOLVERS_ASKED = 6

T = TypeVar("T")
Progress = Callable[[tuple[str, ...]], None]


@dataclass
class Measuring:
    """One survey of one line. deadline: seconds for all of it. progress: called with what is still running."""

    here: Door
    site: Site
    known: Given
    deadline: float
    now: datetime
    progress: Progress | None = None
    # what comes of it
    answers: dict[Endpoint, stun.Message] = field(default_factory=dict)
    silent: list[str] = field(default_factory=list)
    boxes: dict[str, BoxSaid] = field(default_factory=dict)
    revealed: dict[IPAddress, BoxSaid] = field(default_factory=dict)
    to_self: Hops | None = None
    outward: Hops | None = None
    counted: bool = False
    nat: NatBehaviour | None = None
    resolvers: dict[tuple[IPAddress, int], ResolverSaid] = field(default_factory=dict)
    looked_up: dict[str, SourcedAddress] = field(default_factory=dict)
    public6: SourcedAddress = field(default_factory=lambda: Sourced(None, "not measured"))
    tunnel_shows: SourcedAddress | None = None
    running: list[str] = field(default_factory=list)
    trouble: list[HooperError] = field(default_factory=list)

    async def run(self) -> LineFacts:
        """Raises: NoNetwork: this machine is on no network."""
        self.end = self.here.clock.monotonic() + self.deadline
        self.around = await connected_surroundings(self.here)
        await self._stand()
        self._first_answer, self._hops_read = anyio.Event(), anyio.Event()
        jobs: dict[str, Callable[[], Awaitable[None]]] = {
            "the public address, by STUN": self._ask_stun,
            "the hops": self._read_hops,
            "IPv6": self._ask_stun6,
            "what the tunnel shows": self._ask_through_tunnel,
            "the names, by the resolvers": self._after_hops(self._ask_resolvers),
            "the routers, by UPnP": self._after_hops(self._ask_upnp),
            "the routers, by NAT-PMP and PCP": self._after_hops(self._ask_port_control),
            "routers further out": self._after_hops(self._ask_revealed),
            "how the NAT behaves": self._after_hops(self._ask_nat),
        }
        with anyio.move_on_after(max(self.end - self.here.clock.monotonic(), 0)):
            async with anyio.create_task_group() as tasks:
                for label, job in jobs.items():
                    self.running.append(label)
                    tasks.start_soon(self._one, label, job)
        return self._facts()

    async def _one(self, label: str, job: Callable[[], Awaitable[None]]) -> None:
        """One job; what goes wrong in it does not end the others, unless the lab itself is gone."""
        if self.progress is not None:
            self.progress(tuple(self.running))
        try:
            await job()
        except LabGone:
            raise
        except HooperError as exc:
            self.trouble.append(exc)
        except BaseExceptionGroup as group:
            gone, rest = group.split(lambda exc: isinstance(exc, LabGone) or not isinstance(exc, HooperError))
            if gone is not None:
                raise gone from None
            self.trouble += _leaves(rest)
        self.running.remove(label)
        if self.progress is not None:
            self.progress(tuple(self.running))

    def _after_hops(self, job: Callable[[], Awaitable[None]]) -> Callable[[], Awaitable[None]]:
        """Routers send few ICMP errors a second, and what else is asked uses them up: the hops come first."""

        async def later() -> None:
            await self._hops_read.wait()
            if self._left() < SHORTEST:
                await anyio.sleep_forever()  # until the deadline: nobody's silence would mean anything
            await job()

        return later

    def _left(self, at_most: float = 60.0) -> float:
        """Seconds that one request may take, so that its silence is still told in time."""
        return max(min(self.end - self.here.clock.monotonic() - ASIDE, at_most), 0.01)

    # --- where this machine stands

    async def _stand(self) -> None:
        interface, self.at, self.own = standing(self.site, self.around)
        way = await self.here.source_towards(INTERNET)
        by = self.around.holder(way) if way is not None else None
        self.tunnel: Interface | None = by if by is not None and by.tunnel else None
        if interface is None and by is not None and not by.tunnel:
            interface, self.own = by.name, by.ipv4
        self.interface = interface
        self.door = self.here
        if interface is not None and (by is None or by.name != interface or await self._can_be_bound(interface)):
            self.door = self.here.through(interface)
        chains = [chain_of(self.site, key) for key in ([self.at] if self.at is not None else self.site.gateways)]
        self.chain = max(chains, key=len, default=())
        self.line = first_line(self.site, self.chain)
        self.default_gateway = self.around.default_gateway(interface)

    async def _can_be_bound(self, interface: str) -> bool:
        """Whether this system lets programs choose the interface; where it is the usual way out, it does without."""
        try:
            await (await self.here.through(interface).datagrams()).aclose()
        except MachineError:
            return False
        return True

    def _servers(self, version: int) -> list[Endpoint]:
        return [Endpoint(address, port) for address, port in self.site.measure.stun if address.version == version]

    # --- the public address

    async def _ask_stun(self) -> None:
        async def one(server: Endpoint) -> None:
            try:
                self.answers[server] = await stun_answer(self.door, server, self._left())
            except HooperError:
                self.silent.append(str(server))
                return
            self._first_answer.set()

        await _all(one, self._servers(4))
        self._first_answer.set()

    def _seen(self) -> tuple[SourcedAddress, ...]:
        """What each server sees, in the order of the file."""
        out = []
        for server in self._servers(4):
            mapped = self.answers[server].mapped_address() if server in self.answers else None
            if mapped is not None and mapped[0].version == 4:
                out.append(Sourced(mapped[0], f"STUN server {server}"))
        return tuple(out)

    async def _ask_stun6(self) -> None:
        own = self._own6()
        if own.value is None:
            self.public6 = Sourced(None, "this machine has no IPv6 address that can be reached")
            return
        self.public6 = Sourced(None, "no STUN server in [measure] has an IPv6 address")
        for server in self._servers(6):
            try:
                mapped = (await stun_answer(self.door, server, self._left(2.0))).mapped_address()
            except HooperError:
                self.public6 = Sourced(None, f"STUN server {server} did not answer")
                continue
            if mapped is not None:
                self.public6 = Sourced(mapped[0], f"STUN server {server}")
                return

    def _own6(self) -> SourcedAddress:
        used = self.around.interface(self.interface) if self.interface is not None else None
        address = used.ipv6 if used is not None else None
        seen = self.public6.value  # of several, such as temporary ones, the one that is used outward
        if used is not None and any(one.ip == seen for one in used.addresses) and isinstance(seen, IPv6Address):
            address = seen
        return Sourced(address, f"interface {used.name}" if used is not None and address else "no interface has one")

    async def _ask_through_tunnel(self) -> None:
        """What the world sees of this machine as it is, where that is not by the line."""
        if self.tunnel is None:
            return
        for server in self._servers(4):
            try:
                mapped = (await stun_answer(self.here, server, self._left())).mapped_address()
            except HooperError:
                continue
            if mapped is not None:
                self.tunnel_shows = Sourced(mapped[0], f"STUN server {server}, through {self.tunnel.name}")
                return

    # --- names

    async def _ask_resolvers(self) -> None:
        names = names_of_line(self.site, self.line)
        wanted = dict.fromkeys(self.site.measure.resolvers, "site")
        for address in self.around.resolvers[:RESOLVERS_ASKED]:
            wanted.setdefault((address, 53), "machine")

        async def one(key: tuple[IPAddress, int]) -> None:
            self.resolvers[key] = await self._resolver(*key, wanted[key], names)

        await _all(one, wanted)
        self.resolvers = {key: self.resolvers[key] for key in wanted}
        if not any(said.state == "answers" for said in self.resolvers.values()):
            await _all(self._look_up, names)

    async def _look_up(self, name: str) -> None:
        """By the system itself, which may know more ways than its list of resolvers."""
        with anyio.move_on_after(self._left(RESOLVER_PATIENCE)):
            try:
                found = await self.here.lookup(name, "ipv4")
            except HooperError:
                return
            self.looked_up[name] = Sourced(found[0] if found else None, "this machine's resolver", absent=not found)

    async def _resolver(self, address: IPAddress, port: int, told_by: str, names: list[str]) -> ResolverSaid:
        from hooper.net.dns import addresses_by, records

        said = ResolverSaid(address, port, "site" if told_by == "site" else "machine", "unusable")
        kind = classify(address)
        if not kind.reachable and kind.key not in ("private", "carrier", "loopback", "link-local"):
            return said
        server, answers = Endpoint(address, port), {}
        try:
            for name in names:
                answers[name] = tuple(await addresses_by(self.here, server, name, self._left(RESOLVER_PATIENCE)))
            if not names:
                await records(self.here, server, ".", "NS", self._left(RESOLVER_PATIENCE))
        except WireError:
            return replace(said, state="failing")
        except HooperError:
            return replace(said, state="silent")
        return replace(said, state="answers", answers=answers)

    def _names(self) -> dict[str, SourcedAddress]:
        """Each name's address by the first resolver that answers, those of the site file first."""
        answering = [said for said in self.resolvers.values() if said.state == "answers"]
        out: dict[str, SourcedAddress] = {}
        for name, entry in self.site.names.items():
            if entry.line != self.line or "*" in name:
                continue
            said = next((one for one in answering if name in one.answers), None)
            if said is None:
                out[name] = self.looked_up.get(name, Sourced(None, "no resolver answered"))
                continue
            found = [address for address in said.answers[name] if address.version == 4]
            whose = "resolver" if said.told_by == "site" else "this machine's resolver"
            source = f"{whose} {Endpoint(said.address, said.port) if said.port != 53 else said.address}"
            out[name] = Sourced(found[0] if found else None, source, absent=not found)
        return out

    # --- the routers

    def _routers(self) -> dict[str, IPv4Address]:
        """The gateways on the way out from here, nearest first, and the one of the system, where that is another.

        None where this machine is not at the site: those of another network say nothing of this line.
        """
        if self.at is None:
            return {}
        known = {key: self.site.gateways[key].lan.ip for key in reversed(self.chain)}
        if isinstance(self.default_gateway, IPv4Address) and self.default_gateway not in known.values():
            known[str(self.default_gateway)] = self.default_gateway
        return known

    async def _ask_upnp(self) -> None:
        if isinstance(self.own, IPv4Address):
            await self._by_upnp(self._routers(), around=True)

    async def _by_upnp(self, routers: Mapping[str, IPv4Address], *, around: bool) -> None:
        assert isinstance(self.own, IPv4Address)
        left = self._left(2 * ROUTER_PATIENCE) / 2  # one half for the search, the other for what it finds
        found = await search_routers(self.door, self.own, routers, left, around=around, patience=left)

        async def one(key: str) -> None:
            igd = found.routers[key]
            self._said(key, routers[key], "igd")
            wan, down = await _by_igd(igd)
            self._said(key, routers[key], "igd", wan, down=down)

        await _all(one, found.routers)

    async def _ask_port_control(self) -> None:
        await self._by_port_control(self._routers())

    async def _by_port_control(self, routers: Mapping[str, IPv4Address]) -> None:
        """NAT-PMP first, since PCP through an inner NAT needs what that has outside."""
        told = {key: anyio.Event() for key in routers}
        closed: set[str] = set()

        async def by_natpmp(key: str) -> None:
            try:
                got = await natpmp_address(self.door, routers[key], self._left(ROUTER_PATIENCE))
            except Refused:
                closed.add(key)
                return
            except HooperError:
                return
            finally:
                told[key].set()
            wan = got.address if got.result == natpmp.SUCCESS and got.address and int(got.address) else None
            self._said(key, routers[key], "natpmp", wan, down=got.result == natpmp.NETWORK_FAILURE)

        async def by_pcp(key: str) -> None:
            inner = self._inner_of(key)
            with anyio.move_on_after(FIRST):
                await told[key].wait()
                if inner in told:
                    await told[inner].wait()
            if key in closed:
                return  # both listen at one port
            client = self._client_of(key)
            if client is None:
                return
            try:
                got = await pcp_announce(self.door, routers[key], client, self._left(ROUTER_PATIENCE))
            except HooperError:
                return
            if got is not None and got.result != pcp.UNSUPP_VERSION:
                self._said(key, routers[key], "pcp", between=got.result == pcp.ADDRESS_MISMATCH)

        async with anyio.create_task_group() as tasks:
            for key in routers:
                tasks.start_soon(by_natpmp, key)
                tasks.start_soon(by_pcp, key)

    def _client_of(self, key: str) -> IPAddress | None:
        """This machine's address as the router sees it: behind an inner router, that one's outer address."""
        inner = self._inner_of(key)
        if inner is None:
            return self.own
        said, told = self.boxes.get(inner), self.known.told.get(f"wan:{inner}")
        if said is not None and said.wan is not None:
            return said.wan
        planned = self.site.gateways[inner].wan_behind(key) if key in self.site.gateways else None
        return parse_address(told.value) if told is not None else planned or self.own

    def _inner_of(self, key: str) -> str | None:
        """The gateway of the file that stands just inside of a router; None: this machine itself does."""
        if key in self.chain:
            place = self.chain.index(key) + 1
            return self.chain[place] if place < len(self.chain) else None
        return self.chain[0] if self.chain and self.at is not None and key not in self._routers() else None

    def _said(
        self,
        key: str,
        address: IPv4Address,
        protocol: str,
        wan: IPAddress | None = None,
        *,
        down: bool = False,
        between: bool = False,
    ) -> None:
        """Add what a router says by one protocol to what it said by others."""
        table: dict[str, BoxSaid] | None = self.boxes if key in self.site.gateways else None
        old = (self.boxes.get(key) if table is not None else self.revealed.get(address)) or BoxSaid(address)
        control = old.control if protocol in old.control else (*old.control, protocol)
        words = {"igd": "it says so by UPnP", "natpmp": "it says so by NAT-PMP"}
        fresh = replace(old, control=control, down=old.down or down, between=old.between or between)
        if wan is not None and old.wan is None:
            fresh = replace(fresh, wan=wan, by=words[protocol])
        if table is not None:
            table[key] = fresh
        else:
            self.revealed[address] = fresh

    # --- the way out

    async def _read_hops(self) -> None:
        servers = self._servers(4)
        try:
            if servers and self.at is not None:
                async with anyio.create_task_group() as tasks:
                    tasks.start_soon(self._trace_outward, servers[0].address)
                    tasks.start_soon(self._trace_self)
            if self.to_self is not None:
                self.counted = self.to_self.arrived is not None
                if self.outward is not None:
                    self.to_self, self.counted = await confirm(self.door, self.to_self, self.outward)
        finally:
            self._hops_read.set()

    async def _trace_outward(self, to: IPAddress) -> None:
        self.outward = await trace(self.door, to, self._hops_patience)

    async def _trace_self(self) -> None:
        with anyio.move_on_after(self._hops_patience):
            await self._first_answer.wait()
        seen = self._seen()
        if seen and seen[0].value is not None:
            self.to_self = await trace(self.door, seen[0].value, self._hops_patience)

    @property
    def _hops_patience(self) -> float:
        return self._left(min(PATIENCE, HOPS_SHARE * self.deadline))

    def _near(self) -> list[IPv4Address]:
        """Routers on this side of the public address that the site file does not have, as far as the path tells.

        Those with public addresses are the provider's and are left alone.
        """
        reach = len(self.outward.seen) if self.outward is not None else 0
        if self.to_self is not None:
            least, most = between(self.to_self, self.outward if self.counted else None)
            reach = most if most is not None else least
        known = {gateway.lan.ip for gateway in self.site.gateways.values()}
        out: list[IPv4Address] = []
        for hops in (self.outward, self.to_self):
            for one in hops.seen[:reach] if hops is not None else ():
                if one is not None and classify(one).reachable:
                    break
                if isinstance(one, IPv4Address) and one not in known and one not in out:
                    out.append(one)
        return out

    async def _ask_revealed(self) -> None:
        for address in self._near():
            self.revealed.setdefault(address, BoxSaid(address))
        asked = self._routers().values()
        new = {str(one): one for one in self.revealed if isinstance(one, IPv4Address) and one not in asked}
        if not new or not isinstance(self.own, IPv4Address):
            return
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self._by_port_control, new)
            tasks.start_soon(lambda: self._by_upnp(new, around=False))

    async def _ask_nat(self) -> None:
        await self._first_answer.wait()
        servers = [server for server in self._servers(4) if server in self.answers]
        if not servers or self.own is None:
            return
        telling = next((one for one in servers if _names_another(one, self.answers[one])), servers[0])
        mapped = self.answers[telling].mapped_address()
        if mapped is not None and mapped[0] == self.own:
            return  # no NAT at all
        self.nat = await nat_behaviour(self.door, telling, self.answers[telling], self._servers(4))

    # --- what came of it

    def _facts(self) -> LineFacts:
        seen, interface = self._seen(), self.interface
        outside = f"interface {interface}" if interface is not None else "this machine has no way out"
        at_line = self.at is not None or self._is_the_line()
        own = self.own if at_line else None
        wan = {key: said for key in self.site.gateways if (said := self.known.told.get(f"wan:{key}")) is not None}
        for key, said_so in self.boxes.items():
            if said_so.wan is not None:
                wan[key] = Sourced(str(said_so.wan), said_so.by, self.now)
        way = f"route by {interface}" if interface is not None else "its route"
        measured = Measured(
            seen=seen,
            silent=tuple(self.silent),
            boxes=self.boxes,
            revealed=self._revealed_in_order(),
            to_self=self.to_self,
            outward=self.outward,
            counted=self.counted,
            nat=self.nat,
            resolvers=tuple(self.resolvers.values()),
            tunnel=self.tunnel.name if self.tunnel is not None else None,
            tunnel_shows=self.tunnel_shows,
            outstanding=tuple(self.running),
            trouble=tuple({problem.message: problem for problem in self.trouble}.values()),
        )
        public = self._public(seen, at_line=at_line)
        return LineFacts(
            now=self.now,
            line=self.line,
            chain=self.chain,
            at=self.at,
            own=Sourced(own, outside if at_line else "this machine is on none of the site's networks"),
            default_gateway=Sourced(self.default_gateway, way),
            public=public.address,
            differs=public.differs,
            wan=wan,
            names=self._names(),
            stun_silent=bool(self._servers(4)) and not seen,
            own6=self._own6(),
            public6=self.public6,
            measured=measured,
        )

    def _is_the_line(self) -> bool:
        """Whether this machine, on none of the site's networks, has the line's address itself."""
        if self.own is not None and not self.site.gateways:
            return True  # a line without a router: this machine is on it
        if self.own is None or not classify(self.own).reachable:
            return False
        line = self.site.lines.get(self.line)
        fixed = line.address if line is not None else ()
        named = [known.value for known in self._names().values()]
        return self.own in (*fixed, *named)

    def _public(self, seen: tuple[SourcedAddress, ...], *, at_line: bool) -> PublicAddress:
        """By the one order of sources: what a router says and what is seen outside are held against each other."""
        outermost = self.chain[0] if self.chain else ""
        said = self.boxes.get(outermost)
        router: SourcedAddress | None = None
        if said is not None and said.wan is not None and classify(said.wan).reachable:
            router = Sourced(said.wan, f"{outermost}: {said.by}")
        stun = seen[0] if seen and at_line else None
        near = None
        if router is not None and stun is not None and self.nats_are(len(self.chain)):
            near = stun.value  # the hops end at the outermost gateway
        tried = "no STUN server is named in [measure]"
        if self._servers(4):
            tried = "no STUN server answered" if at_line else "this machine is not at the site"
        given = self.known.given.get(self.line)
        line = self.site.lines.get(self.line)
        found = Candidates(
            Sourced(given, GIVEN, how="given") if given is not None else None,
            router,
            stun if stun is not None and (not self.at or belongs(self.site, self.line, self.at, stun.value)) else None,
            told_for(self.site, self.line, self.known.told),
            line.address if line is not None else (),
            None,
            (tried,),
        )
        return choose(self.line, found, by_hops=near)

    def nats_are(self, count: int) -> bool:
        """Whether the hops say that exactly so many NATs stand before what is seen outside."""
        if self.to_self is None or not self.counted:
            return False
        return between(self.to_self, self.outward) == (count, count)

    def _revealed_in_order(self) -> tuple[BoxSaid, ...]:
        """Nearest first, as they stand on the path; those that the hops do not show come first, being the nearest."""
        order = [one for hops in (self.outward, self.to_self) if hops is not None for one in hops.seen]
        place = {address: number for number, address in reversed(list(enumerate(order)))}
        return tuple(sorted(self.revealed.values(), key=lambda said: place.get(said.address, -1)))


async def measure_line(
    here: Door,
    site: Site,
    known: Given,
    deadline: float,
    *,
    now: datetime,
    progress: Progress | None = None,
) -> LineFacts:
    """What is known of the line that this machine is on, measured in depth.

    Args: known: before anything is asked. deadline: seconds for all of it. progress: called with what is still running.
    Raises: NoNetwork.
    """
    return await Measuring(here, site, known, deadline, now, progress).run()


async def _all(work: Callable[[T], Coroutine[Any, Any, None]], things: Iterable[T]) -> None:
    """One task for each."""
    async with anyio.create_task_group() as tasks:
        for thing in list(things):
            tasks.start_soon(work, thing)


def _leaves(group: BaseExceptionGroup[BaseException] | None) -> list[HooperError]:
    """The errors in a group, whatever groups are inside it."""
    out: list[HooperError] = []
    for one in group.exceptions if group is not None else ():
        if isinstance(one, BaseExceptionGroup):
            out += _leaves(one)
        elif isinstance(one, HooperError):
            out.append(one)
    return out


def _names_another(server: Endpoint, answer: stun.Message) -> bool:
    """Whether a server says by which other address it could be asked; some name the one that was asked."""
    try:
        other = answer.other_address()
    except WireError:
        return False
    return other is not None and other[0] != server.address and other[1] != server.port


async def _by_igd(igd: Igd) -> tuple[IPAddress | None, bool]:
    """A router's outer address, and whether it says that its line is down."""
    try:
        wan = await igd.external_address()
        return wan, wan is None and not await igd.connected()
    except HooperError:
        return None, False
