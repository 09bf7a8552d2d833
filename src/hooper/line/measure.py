"""Measuring a line in depth, all side by side on one deadline: who outside sees what, which routers stand in between
and what they say, how the NAT behaves, what the resolvers answer.

Asks only what the site file names, what the system gives as gateway or resolver, and what reveals itself on the path.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime

import anyio

from hooper.addresses import IPAddress, classify
from hooper.errors import HooperError, LabGone, WireError
from hooper.line.facts import BoxSaid, LineFacts, Measured, NatBehaviour
from hooper.line.ground import Ground, Job, stand
from hooper.line.lookup import Resolving
from hooper.line.nat import nat_behaviour
from hooper.line.nat_path import Path
from hooper.line.outside_view import SeenOutside
from hooper.line.public import on_interface
from hooper.line.router_words import RoutersSay
from hooper.line.sources import Given, PublicAddress, candidates, choose
from hooper.net.types import Door, Endpoint
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.wire import stun
from hooper.words.said import Said, say

SHORTEST = 0.2  # seconds in which an answer can be expected at all

STUN, ECHO = say("the-public-address-by"), say("the-public-address-by-an")
HOPS, UPNP, PORT_CONTROL = say("the-hops"), say("the-routers-by-upnp"), say("the-routers-by-nat")

Progress = Callable[[tuple[Said, ...]], None]
Settled = Callable[[LineFacts], bool]


@dataclass
class Measuring:
    """One survey of one line. progress: called with what is still running. settled: whether what is known is enough."""

    ground: Ground
    now: datetime
    progress: Progress | None = None
    settled: Settled | None = None
    nat: NatBehaviour | None = None
    running: list[Said] = field(default_factory=list)
    trouble: list[HooperError] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.outside = SeenOutside(self.ground)
        self.path = Path(self.ground, self.outside)
        self.routers = RoutersSay(self.ground, self.path)
        self.resolving = Resolving(self.ground)

    async def run(self) -> LineFacts:
        jobs: dict[Said, Job] = {
            STUN: self.outside.ask,
            **({ECHO: self.outside.ask_echoes} if self.ground.site.measure.echo else {}),
            HOPS: self.path.read,
            say("measuring-ipv6"): self.outside.ask6,
            say("what-the-tunnel-shows"): self.outside.ask_through_tunnel,
            say("names-by-resolvers"): self._after_hops(self.resolving.ask),
            UPNP: self._after_hops(self.routers.ask_upnp),
            PORT_CONTROL: self._after_hops(self.routers.ask_port_control),
            say("routers-further-out"): self._after_hops(self.routers.ask_revealed),
            say("how-the-nat-behaves"): self._after_hops(self._ask_nat),
        }
        self._enough = anyio.CancelScope()
        with self._enough, anyio.move_on_after(max(self.ground.end - self.ground.here.clock.monotonic(), 0)):
            async with anyio.create_task_group() as tasks:
                for label, job in jobs.items():
                    self.running.append(label)
                    tasks.start_soon(self._one, label, job)
        return self._facts()

    async def _one(self, label: Said, job: Job) -> None:
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
        if self.settled is not None and self.settled(self._facts()):
            self._enough.cancel()
        if self.progress is not None:
            self.progress(tuple(self.running))

    def _after_hops(self, job: Job) -> Job:
        """Routers send few ICMP errors a second, and what else is asked uses them up: the hops come first."""

        async def later() -> None:
            await self.path.done.wait()
            if self.ground.left() < SHORTEST:
                await anyio.sleep_forever()  # until the deadline: nobody's silence would mean anything
            await job()

        return later

    async def _ask_nat(self) -> None:
        await self.outside.first_answer.wait()
        servers = [server for server in self.ground.servers(4) if server in self.outside.answers]
        if not servers or self.ground.own is None:
            return
        telling = next(
            (server for server in servers if _names_another(server, self.outside.answers[server])), servers[0]
        )
        mapped = self.outside.answers[telling].mapped_address()
        if mapped is not None and mapped[0] == self.ground.own:
            return  # no NAT at all
        self.nat = await nat_behaviour(self.ground.door, telling, self.outside.answers[telling], self.ground.servers(4))

    def _facts(self) -> LineFacts:
        seen, interface = self.outside.seen(), self.ground.interface
        outside = say("interface", name=interface) if interface is not None else say("this-machine-has-no-way")
        at_line = self.ground.at is not None or self._is_the_line()
        own = self.ground.own if at_line else None
        wan = {
            key: said
            for key in self.ground.site.gateways
            if (said := self.ground.known.told.get(f"gateways.{key}/wan")) is not None
        }
        claims = {key: said_so for key, said_so in self.routers.boxes.items() if self._is_false(key, said_so)}
        for key, said_so in self.routers.boxes.items():
            if said_so.wan is not None and key not in claims:
                wan[key] = Sourced(str(said_so.wan), said_so.by, self.now)
        way = say("route-by", interface=interface) if interface is not None else say("its-route")
        measured = Measured(
            seen=seen,
            silent=tuple(self.outside.silent),
            boxes=self.routers.boxes,
            revealed=self.routers.revealed_in_order(),
            claims=claims,
            to_self=self.path.to_self,
            outward=self.path.outward,
            counted=self.path.counted,
            nat=self.nat,
            resolvers=tuple(self.resolving.resolvers.values()),
            tunnel=self.ground.tunnel.name if self.ground.tunnel is not None else None,
            tunnel_shows=self.outside.tunnel_shows,
            outstanding=tuple(self.running),
            trouble=tuple({problem.message: problem for problem in self.trouble}.values()),
        )
        public = self._public(seen, at_line=at_line)
        return LineFacts(
            now=self.now,
            line=self.ground.line,
            chain=self.ground.chain,
            at=self.ground.at,
            own=Sourced(own, outside if at_line else say("this-machine-is-on-none")),
            default_gateway=Sourced(self.ground.default_gateway, way),
            public=public.address,
            differs=public.differs,
            wan=wan,
            names=self.resolving.names(),
            stun_silent=bool(self.ground.servers(4)) and not seen,
            no_way=self.outside.no_way or (self.path.outward.no_way if self.path.outward is not None else None),
            own6=self.outside.own6(),
            public6=self.outside.public6,
            measured=measured,
        )

    def _is_false(self, key: str, said: BoxSaid) -> bool:
        """Whether a router tells a public address that it cannot have: people can set what it tells. What the hops show
        counts more; where they show nothing, an inner router's address is one of the LAN of the router before it.
        """
        chain = self.ground.chain
        if said.wan is None or key not in chain:
            return False
        count, nats, inner = len(chain) - chain.index(key), self.path.nats(), key != chain[0]
        if nats is not None and classify(said.wan).reachable:
            least, most = nats
            if least > count:
                return inner or self._shows(said.wan)
            if most is not None and most <= count:
                return False
        return inner and classify(said.wan).reachable

    def _shows(self, address: IPAddress) -> bool:
        """Whether it is the address that the hops were counted to."""
        return self.path.to_self is not None and self.path.to_self.to == address

    def _is_the_line(self) -> bool:
        """Whether this computer, on none of the site's networks, has the line's address itself."""
        if self.ground.own is not None and not self.ground.site.gateways:
            return True  # a line without a router: this computer is on it
        if self.ground.own is None or not classify(self.ground.own).reachable:
            return False
        line = self.ground.site.lines.get(self.ground.line)
        fixed = line.address if line is not None else ()
        named = [known.value for known in self.resolving.names().values()]
        return self.ground.own in (*fixed, *named)

    def _public(self, seen: tuple[SourcedAddress, ...], *, at_line: bool) -> PublicAddress:
        """By the one order of sources: what a router says and what is seen outside are held against each other."""
        ground = self.ground
        outermost = ground.chain[0] if ground.chain else ""
        said = self.routers.boxes.get(outermost)
        said = None if said is not None and self._is_false(outermost, said) else said
        tried = say("no-stun-server-is")
        if ground.servers(4):
            tried = say("no-stun-server-answered") if at_line else say("this-machine-is-not-at")
        found = candidates(
            ground.site,
            ground.line,
            ground.known,
            ground.at,
            router=Sourced(said.wan, say("of-a-service", name=outermost, what=said.by)) if said is not None else None,
            stun=seen[0] if seen and at_line else None,
            echo=self.outside.echoes[0] if self.outside.echoes and at_line else None,
            interface=on_interface(ground.around, ground.site, ground.line),
            tried=(tried,),
        )
        outside = found.outside
        ends_there = outside is not None and self.path.nats_are(len(ground.chain))  # at the outermost gateway
        return choose(ground.line, found, by_hops=outside.value if ends_there and outside is not None else None)


async def measure_line(
    here: Door,
    site: Site,
    known: Given,
    deadline: float,
    *,
    now: datetime,
    progress: Progress | None = None,
    settled: Settled | None = None,
) -> LineFacts:
    """What is known of the line that this computer is on, measured in depth.

    Args: known: before anything is asked. deadline: seconds for all of it. progress: called with what is still running.
    settled: whether what is known is enough; then it ends.
    Raises: NoNetwork.
    """
    return await Measuring(await stand(here, site, known, deadline), now, progress, settled).run()


def _leaves(group: BaseExceptionGroup[BaseException] | None) -> list[HooperError]:
    """The errors in a group, whatever groups are inside it."""
    out: list[HooperError] = []
    for exception in group.exceptions if group is not None else ():
        if isinstance(exception, BaseExceptionGroup):
            out += _leaves(exception)
        elif isinstance(exception, HooperError):
            out.append(exception)
    return out


def _names_another(server: Endpoint, answer: stun.Message) -> bool:
    """Whether a server says by which other address it could be asked; some name the one that was asked."""
    try:
        other = answer.other_address()
    except WireError:
        return False
    return other is not None and other[0] != server.address and other[1] != server.port
