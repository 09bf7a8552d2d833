"""Gathering the evidence for a diagnosis: inside, outside, neighbours, what was told, what was seen before."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import anyio

from hooper.addresses import parse_address
from hooper.certs.problems import EXPIRED, NOT_YET
from hooper.check.addressing import names_seen
from hooper.check.checking import check_services
from hooper.check.comparing import InsideMemory, judged
from hooper.check.hairpin import by_hairpin
from hooper.check.handshake_keys import TunnelKeys
from hooper.check.probes import probe
from hooper.check.results import Hairpin, Result, Verdict
from hooper.check.targets import inner_targets
from hooper.check.typed_names import NameSeen
from hooper.check.view import BEFORE, has_ipv6
from hooper.check.wish import Outcome, Wish
from hooper.clock import time_left
from hooper.gateways.reading import Tables
from hooper.line.facts import ClockRow, LineFacts, Measured
from hooper.line.gather import gather_line
from hooper.line.measure import measure_line
from hooper.line.right_time import clock_now, time_servers
from hooper.line.sources import Given, PublicAddress
from hooper.net.presence import neighbours_since
from hooper.net.types import Door, Neighbour
from hooper.planning.openers import ticked_sheets
from hooper.planning.topology import Topology
from hooper.planning.typed import six_for
from hooper.planning.values import Plan
from hooper.site.references import in_sight, seen_from
from hooper.sourced import Sourced, SourcedAddress
from hooper.why.facts import ServiceFacts, TunnelSeen
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.site.model import Host, Site

SEEN = say("seen-in-its-table")
LOOPBACK = IPv4Address("127.0.0.1")
FURTHER_S, NAMED_S, CLOCK_S = 0.7, 2.0, 1.5  # seconds for what may tell more, at most
HEARD = ("answered", "connected", "mismatched", "refused")  # whoever says so is there
STORED_FOR = timedelta(minutes=10)  # an older look from outside proves nothing any more


@dataclass(frozen=True)
class Past:
    """What earlier runs left.

    known: what was given and told. outside: the newest look from outside. entered: for each router, the
    services whose rules Hooper has entered there, and until when. keys: for the handshakes of tunnels. tunnels: by
    service, what their servers told. published: what Hooper last published under each name, where that was seen at its
    own servers. revoked: the site's certificates that were, by fingerprint. put_back: that the service's was taken back
    from its device, in words.
    """

    known: Given = field(default_factory=Given)
    outside: tuple[datetime, Result] | None = None
    entered: Mapping[str, Mapping[str, datetime | None]] = field(default_factory=dict)
    keys: Mapping[str, TunnelKeys] = field(default_factory=dict)
    tunnels: Mapping[str, TunnelSeen] = field(default_factory=dict)
    published: Mapping[str, Sourced[str]] = field(default_factory=dict)
    revoked: frozenset[str] = frozenset()
    put_back: Sourced[Said] | None = None


async def gather_service(
    here: Door,
    outside: Door | None,
    topology: Topology,
    plan: Plan,
    service: str,
    past: Past,
    memory: InsideMemory | None,
    deadline: float,
    *,
    now: datetime,
    base: Path = Path(),
) -> tuple[ServiceFacts, list[Outcome]]:
    """All evidence about one service, and the looks that it comes from.

    Args: outside: the place to look from, None: nobody looks from outside now. deadline: seconds for all of it.
    base: the site file's folder. Raises: NoNetwork, UsageError.
    """
    way, started = topology.chain(service), here.clock.monotonic()
    before = min(deadline * BEFORE, 2.0)
    line = await gather_line(here, topology.site, past.known, before, now=now, chain=way.gateways, line=way.line)
    work = _Gathering(here, topology, plan, service, past, memory, base, line, started, deadline)
    await work.run(outside)
    return work.facts(), list(work.looks.values())


@dataclass
class _Gathering:
    """One gathering, once the line is known.

    started: by the door's clock. deadline: seconds for all of it. well: ends what looks for reasons once there is
    nothing to explain.
    """

    here: Door
    topology: Topology
    plan: Plan
    service: str
    past: Past
    memory: InsideMemory | None
    base: Path
    line: LineFacts
    started: float
    deadline: float
    looks: dict[str, Outcome] = field(default_factory=dict)
    near: _Near = field(default_factory=lambda: _Near())
    more: _More = field(default_factory=lambda: _More())
    named: dict[str, NameSeen] = field(default_factory=dict)
    tables: dict[str, Sourced[str]] = field(default_factory=dict)
    measured: LineFacts | None = None
    clock: ClockRow | None = None
    routers: Tables = field(init=False)
    well: anyio.CancelScope = field(default_factory=anyio.CancelScope)

    def __post_init__(self) -> None:
        self.routers = Tables(self.here, self.site, self.line.chain, self.left(2.0))

    @property
    def site(self) -> Site:
        return self.topology.site

    def left(self, at_most: float | None = None) -> float:
        left = time_left(self.here.clock, self.started, self.deadline)
        return left if at_most is None else min(left, at_most)

    async def run(self, outside: Door | None) -> None:
        """All looks, side by side."""
        site, innermost = self.site, self.line.chain[-1]
        jobs = (
            (self.read_tables, self.line.chain),
            (self.measure, in_sight(site, self.line.at)),
            (self.inside, seen_from(site, self.line.at)),
        )
        async with anyio.create_task_group() as tasks:
            for job in (job for job, sight in jobs if innermost in sight):
                tasks.start_soon(job)
            if self.line.names:
                tasks.start_soon(self.ask_names)
            if outside is not None:
                tasks.start_soon(self.from_outside, outside)
        if any({EXPIRED, NOT_YET} & {*one.problems} for look in self.looks.values() for one in look.results):
            servers = await time_servers(self.here, self.site)
            self.clock = await clock_now(self.here, servers, self.left(CLOCK_S))

    async def inside(self) -> None:
        wish = Wish(self.topology, [self.service], self.left(), base=self.base, keys=self.past.keys,
                    revoked=self.past.revoked)  # fmt: skip
        self.looks["inside"] = await check_services(self.here, wish, memory=self.memory)
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self.look_around)
            tasks.start_soon(self.look_further, wish)

    async def look_around(self) -> None:
        inside = self.looks["inside"]
        self.near = await _near(self.here, self.site, self.service, self.line, inside, self.started, self.deadline)

    async def look_further(self, wish: Wish) -> None:
        inside = self.looks["inside"]
        self.more = await _more(self.here, wish, self.service, self.line, inside, self.left(FURTHER_S))

    async def ask_names(self) -> None:
        self.named.update(await names_seen(self.here, self.here, self.site, self.line.names, self.left(NAMED_S)))

    async def from_outside(self, door: Door) -> None:
        public = {self.line.line: PublicAddress(self.line.line, _known(self.line))}  # asked once, for both
        services = _side_by_side(self.site, self.service)  # of the others, those over TCP say whether the line is sound
        wish = Wish(
            self.topology, services, self.left(), self.past.known, public, self.base, ("tcp",), by_number=True,
            keys=self.past.keys, forwards=self.plan.forwards, tables=self.routers, revoked=self.past.revoked,
        )  # fmt: skip
        self.looks["outside"] = await check_services(self.here, wish, door, self.memory)
        own = [result for result in self.looks["outside"].results if result.service == self.service]
        if own and all(result.ok for result in own):
            self.well.cancel()

    async def read_tables(self) -> None:
        if self.site.services[self.service].reach != "public":
            return
        for key, table in (await self.routers.read()).items():
            entered = self.past.entered.get(key, {})
            by = self.topology.bearer(self.service)
            said = table.said(self.plan.forwards, by, entered, self.line.now)
            if said is not None:
                self.tables[key] = Sourced(said, SEEN, self.line.now)

    async def measure(self) -> None:
        with self.well:
            known, now = self.past.known, self.line.now
            self.measured = await measure_line(self.here, self.site, known, self.left(3.0), now=now)

    def facts(self) -> ServiceFacts:
        """All of it as one service's facts."""
        line = _with_measured(self.line, self.measured) if self.measured is not None else self.line
        facts = _facts(self.topology, self.plan, self.service, self.past, line, self.looks, self.near)
        more = self.more
        facts = replace(
            facts,
            clock=self.clock,
            named=self.named,
            at_loopback=more.at_loopback,
            hairpin=more.hairpin,
            inside6=more.inside6,
        )
        if self.site.services[self.service].family == "ipv6":
            facts = replace(facts, outside=facts.outside6 or facts.outside, outside6=None, inside=facts.inside6)
        seen = {key: said for key, said in self.tables.items() if said.value != "unseen" or key not in facts.rules}
        return replace(facts, rules={**facts.rules, **seen})


class _More(NamedTuple):
    """What this computer sees besides: of itself, where it is the host; at the public address, from inside."""

    at_loopback: Verdict | None = None
    hairpin: Hairpin | None = None
    inside6: Result | None = None


async def _more(here: Door, wish: Wish, service: str, line: LineFacts, look: Outcome, deadline: float) -> _More:
    """deadline: seconds for all of it."""
    found: dict[str, Any] = {}
    host = wish.site.devices[wish.site.services[service].host]
    own = [result for result in look.results if result.service == service]

    async def loopback() -> None:
        target = next(iter(inner_targets(wish.topology, [service])))
        seen = await probe(here, wish.keyed(replace(target, address=LOOPBACK)), deadline)
        found["at_loopback"] = seen.verdict

    async def hairpin(public: IPAddress) -> None:
        found["hairpin"] = await by_hairpin(here, wish, service, public, look.inside, deadline)

    async def inside6(address: IPAddress) -> None:
        target = wish.keyed(replace(next(iter(inner_targets(wish.topology, [service]))), address=address))
        found["inside6"] = judged(target, await probe(here, target, deadline))

    six, around = six_for(wish.topology, service), await here.surroundings()
    async with anyio.create_task_group() as tasks:
        if six is not None and line.at is not None and has_ipv6(around, None):
            tasks.start_soon(inside6, six)
        if line.own.value == host.address and any(result.verdict in ("refused", "silent") for result in own):
            tasks.start_soon(loopback)
        if line.outside is not None and line.at is not None and wish.site.services[service].reach == "public":
            tasks.start_soon(hairpin, line.outside)
    return _More(**found)


def _side_by_side(site: Site, service: str) -> list[str]:
    """The service, and the other public ones: if those answer, the line is sound."""
    others = [key for key, entry in site.services.items() if entry.reach == "public" and key != service]
    return [service, *others]


def _with_measured(line: LineFacts, measured: LineFacts) -> LineFacts:
    """What the routers say and the hops show, added to what was asked for quickly. What a router says now counts more
    than what a person said of it earlier.
    """
    assert measured.measured is not None
    own = measured.chain == line.chain and measured.line == line.line
    more = measured.measured if own else Measured(boxes=measured.measured.boxes)
    said = {key: wan for key, wan in measured.wan.items() if wan.measured}
    if own and measured.public.measured and line.public.how != "given":
        line = replace(line, public=measured.public, differs=measured.differs)
    no_way = line.no_way or measured.no_way if not measured.measured.seen else None
    return replace(line, wan={**line.wan, **said}, measured=more, no_way=no_way)


class _Near(NamedTuple):
    """Who is there on this computer's own network: all neighbours, and whether anything shows that the device is.

    tunnel: the interface of a tunnel that takes what is sent to it.
    """

    neighbours: tuple[Neighbour, ...] = ()
    doubtful: bool = False
    gone: bool = False
    tunnel: str | None = None


async def _near(
    here: Door, site: Site, service: str, line: LineFacts, look: Outcome, started: float, deadline: float
) -> _Near:
    """Neighbours are seen on one's own network only; those in question are asked again where the device is silent."""
    if line.at is None or line.at != line.chain[-1]:
        return _Near()
    host = site.devices[site.services[service].host]
    heard = any(result.verdict in HEARD for result in look.results if result.service == service)
    around = await here.surroundings()
    before, way = around.neighbours, around.interface(around.way_to(host.address) or "")
    others = [n.address for n in before if host.mac is not None and n.mac == host.mac and n.address != host.address]
    asked = others if heard else [host.address, *others]
    now = await neighbours_since(here, asked, started, time_left(here.clock, started, deadline)) if asked else before
    told = any(neighbour.silent_s is not None for neighbour in before)  # this system says how old its entries are
    there = heard or any(n.address == host.address for n in now)
    left = any(n.address == host.address for n in (await here.surroundings()).neighbours)
    tunnel = way.name if way is not None and way.tunnel else None
    return _Near(now, doubtful=not there, gone=not there and told and not left, tunnel=tunnel)


def _facts(
    topology: Topology, plan: Plan, service: str, past: Past, line: LineFacts, looks: Mapping[str, Outcome], near: _Near
) -> ServiceFacts:
    site = topology.site
    host_key = site.services[service].host
    host = site.devices[host_key]
    inside = _worst(looks["inside"].results if "inside" in looks else (), service)
    seen = looks.get("outside")
    outside, stored_at = _worst(seen.results if seen else (), service), None
    if seen is None and past.outside is not None:
        stored_at, outside = past.outside
    line = replace(line, public=_probed(line, outside, seen, stored_at))
    nobody = any(look.nobody for look in looks["inside"].inside.values()) if "inside" in looks else False
    return ServiceFacts(
        line=line,
        service=service,
        inside=inside,
        nobody_inside=nobody or near.gone,
        answers_by=_answers_by(looks["inside"].results if "inside" in looks else (), service),
        outside=outside,
        outside6=_worst(seen.results if seen else (), service, "ipv6"),
        others=_others(site, seen, service),
        host_reached=_host_reached(site, seen, service),
        stored_at=stored_at,
        mac_seen=next((n.mac for n in near.neighbours if n.address == host.address), None),
        elsewhere=_elsewhere(near.neighbours, host),
        doubtful=near.doubtful,
        rules=_told_rules(past, line.chain, (topology.bearer(service), service)),
        ticked=ticked_sheets(site, plan, line.chain, past.known.told),
        host_at=past.known.told.get(f"hosts.{host_key}/at"),
        saw=past.known.told.get(f"services.{service}/saw"),
        ways={kind: told for kind in ("tcp", "udp") if (told := past.known.told.get(f"services.{service}/way@{kind}"))},
        tunnel=past.tunnels.get(service),
        published=past.published,
        unfit=seen.unfit if seen is not None else None,
        tunnel_from=seen.tunnel_from if seen is not None else None,
        tunnel_in=near.tunnel,
        put_back=past.put_back,
        entered=tuple(key for key, services in past.entered.items() if topology.bearer(service) in services),
    )


def _told_rules(past: Past, chain: Iterable[str], services: Iterable[str]) -> dict[str, Sourced[str]]:
    """What was told of the routers' rules. services: the one whose rules they are, and itself, which counts more."""
    told = past.known.told
    rules = ((gateway, f"services.{service}/rule@{gateway}") for service in services for gateway in chain)
    return {gateway: told[key] for gateway, key in rules if key in told}


def _known(line: LineFacts) -> SourcedAddress:
    """The public address; where nothing else tells it, what a name of the line has."""
    named = ((name, said.value) for name, said in line.names.items() if said.value is not None)
    by_name = next((Sourced(value, say("the-name", name=name), how="named") for name, value in named), None)
    return line.public if line.public.value is not None or by_name is None else by_name


def _probed(
    line: LineFacts, outside: Result | None, seen: Outcome | None, stored_at: datetime | None
) -> SourcedAddress:
    """The public address; where nothing else tells it, the one that was looked at."""
    if line.public.value is not None:
        return line.public
    if seen is not None and line.line in seen.public:
        return seen.public[line.line].address
    found = outside.evidence.public_address if outside is not None else None
    if found is None or found.value is None:
        return line.public
    return Sourced(parse_address(found.value), found.source, stored_at, "surveyed")


def _elsewhere(neighbours: Iterable[Neighbour], host: Host) -> IPAddress | None:
    """Where the host's MAC answers instead, if it is one place only and not the host's own address."""
    places = [neighbour.address for neighbour in neighbours if neighbour.mac == host.mac]
    return places[0] if len(places) == 1 and places[0] != host.address else None


def _worst(results: Iterable[Result], service: str, family: str = "ipv4") -> Result | None:
    """Of several ports of one service the first that is not as it should be."""
    own = [result for result in results if result.service == service and result.family == family]
    return next((result for result in own if not result.ok), own[0] if own else None)


def _answers_by(results: Iterable[Result], service: str) -> tuple[str, ...]:
    there = [result for result in results if result.service == service and result.verdict in ("answered", "connected")]
    return tuple(dict.fromkeys(result.transport for result in there))


def _others(site: Site, seen: Outcome | None, service: str) -> bool | None:
    """Whether services of other devices answered from outside: those of this one share what may be wrong with it."""
    if seen is None or not seen.proves_outside:
        return None
    strange = {key for key, entry in site.services.items() if entry.host != site.services[service].host}
    others = [r for r in seen.results if r.service in strange and r.expected == "reachable" and r.transport == "tcp"]
    return any(r.verdict in ("answered", "connected") for r in others) if others else None


def _host_reached(site: Site, seen: Outcome | None, service: str) -> bool:
    """Whether another service of the same host answered from outside."""
    if seen is None or not seen.proves_outside:
        return False
    mates = {key for key, entry in site.services.items() if entry.host == site.services[service].host} - {service}
    return any(result.service in mates and result.verdict in ("answered", "connected") for result in seen.results)
