"""The way of every public service through its chain of gateways: line, outside port, and the port on each link.

First come the services whose outside port is written down, then the others, both by key: so a plan does not depend
on the order of the file, and what is written down never moves. What cannot be had is refused, with the reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper.addresses import classify
from hooper.planning.model import EVERYTHING, Forward, PortPair
from hooper.planning.ports import LAST, Side, covers, transports
from hooper.site.references import Chain, chains_to, gateways_for

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from hooper.site.model import Gateway, Host, Service, Site

RULES_FOR_A_RANGE = 32  # single-port rules that a person may be asked to type for one range
CANNOT_FORWARD = ("carrier-nat", "shared-ports", "no-ipv4")  # situations of a line


@dataclass(frozen=True, slots=True)
class Refused:
    """Why a service gets no rule. code: of the finding. gateway: where. ports: which. by: the service in the way."""

    code: str
    gateway: str = ""
    transport: str = ""
    port: int = 0
    by: str = ""


@dataclass(frozen=True, slots=True)
class Way:
    """How a public service is reached from its line over IPv4.

    ports: on the line, then on each link between two gateways, last on the host: one more than there are gateways;
    empty for an IP protocol without ports, and where it is refused. chosen: the outside port is not the service's
    own, and nobody wrote it down. passed: lines that would come first, but cannot be forwarded to.
    """

    chain: Chain
    outside_address: IPv4Address | None
    ports: tuple[PortPair, ...]
    refused: Refused | None = None
    chosen: bool = False
    passed: tuple[str, ...] = ()

    @property
    def line(self) -> str:
        return self.chain.line

    @property
    def gateways(self) -> tuple[str, ...]:
        return self.chain.gateways


def ways_in(site: Site) -> dict[str, tuple[Chain, ...]]:
    """All ways in to each host, in the order of preference."""
    of_gateway = {key: chains_to(site, key) for key in site.gateways}
    return {key: of_gateway[gateway_of(site, host)] for key, host in site.hosts.items()}


def gateway_of(site: Site, host: Host) -> str:
    """The gateway whose LAN a host is on. The references have been checked."""
    return host.behind if host.behind is not None else gateways_for(site, host.address)[0]


def chains(site: Site) -> dict[str, tuple[str, ...]]:
    """The first chain of each host, outermost gateway first."""
    return {key: ways[0].gateways for key, ways in ways_in(site).items()}


def can_forward(site: Site, line: str) -> bool:
    """Whether an IPv4 packet from outside can reach the outermost gateway of a line, as far as the file says."""
    entry = site.lines[line]
    if entry.situation in CANNOT_FORWARD:
        return False
    return not entry.address or any(classify(address).reachable for address in entry.address)


def way_chosen(site: Site, service: Service, ways: tuple[Chain, ...]) -> tuple[Chain, tuple[str, ...]]:
    """The way in that a service takes: by its line, else by the first that can be forwarded to; and those passed."""
    fitting = tuple(way for way in ways if way.line == service.line) if service.line is not None else ways
    if service.outside_address is not None:
        fitting = tuple(w for w in fitting if service.outside_address in site.lines[w.line].address) or fitting
    passed: list[str] = []
    for way in fitting:
        if can_forward(site, way.line):
            return way, tuple(dict.fromkeys(passed))
        passed.append(way.line)
    return fitting[0], ()


def public_services(site: Site) -> list[str]:
    """Their keys, in the order in which they are served: those with a written port first."""
    keys = [key for key, service in site.services.items() if service.reach == "public"]
    return sorted(keys, key=lambda key: (site.services[key].outside_port is None, key))


def make_ways(site: Site, hosts: dict[str, tuple[Chain, ...]] | None = None) -> dict[str, Way]:
    """The way of each public service that IPv4 is planned for. hosts: as `ways_in` gives it."""
    hosts = hosts if hosts is not None else ways_in(site)
    streets = _Streets(site)
    out: dict[str, Way] = {}
    for key in public_services(site):
        service = site.services[key]
        if service.family == "ipv6":
            continue
        chain, passed = way_chosen(site, service, hosts[service.host])
        out[key] = streets.place(key, service, chain, passed)
    return dict(sorted(out.items()))


class _Streets:
    """The outer sides of all gateways, filled service by service."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.sides: dict[tuple[str, str, str], Side] = {}
        self._translates: dict[Chain, list[bool]] = {}

    def side(self, gateway: str, outer: str, address: str) -> Side:
        """The outer side of a gateway towards a line or an outer gateway."""
        found = self.sides.get((gateway, outer, address))
        if found is None:
            found = self.sides[gateway, outer, address] = Side()
            for kept in self.site.gateways[gateway].form.own_ports:
                found.close(kept.transport, kept.ports.first, kept.ports.last)
            if outer in self.site.lines and not self.site.gateways[gateway].behind:
                for blocked in self.site.lines[outer].blocked:
                    found.close(blocked.transport, blocked.ports.first, blocked.ports.last)
        return found

    def translates(self, chain: Chain) -> list[bool]:
        """Which gateways of a chain can turn a port into another one."""
        if chain not in self._translates:
            self._translates[chain] = [
                self.site.gateways[gateway].form.translate and not hands_on(self.site, chain.gateways, at)
                for at, gateway in enumerate(chain.gateways)
            ]
        return self._translates[chain]

    def place(self, key: str, service: Service, chain: Chain, passed: tuple[str, ...]) -> Way:
        site, transport = self.site, service.used_transport
        fixed = site.lines[chain.line].address
        address = service.outside_address or (fixed[0] if fixed else None)
        sides = [
            self.side(gateway, chain.gateways[at - 1] if at else chain.line, str(address) if not at else "")
            for at, gateway in enumerate(chain.gateways)
        ]
        refused = _never(site, service, chain)
        if refused is not None:
            return Way(chain, address, (), refused, passed=passed)
        if not service.has_ports:
            for gateway, side in zip(chain.gateways, sides, strict=True):
                if (taken := side.owner(transport, None)) is not None:
                    return Way(
                        chain, address, (), Refused("port-clash", gateway, transport, 0, taken[0]), passed=passed
                    )
            for side in sides:
                side.take(key, transport, None)
            return Way(chain, address, (), passed=passed)
        inside = (service.used_ports.first, service.used_ports.last)
        translates = self.translates(chain)
        written = service.outside_port
        wanted = (written.first, written.last) if written is not None else inside
        links, refused = self._street(wanted, inside, transport, translates, sides, chain)
        chosen = False
        if written is None and any(translates) and (refused is not None or not sides[0].is_open(transport, wanted)):
            for choice in sides[0].choices(transport, wanted):
                links, refused = self._street(choice, inside, transport, translates, sides, chain)
                if refused is None:
                    chosen = True
                    break
            else:
                refused = Refused("no-port-left", chain.gateways[0], transport)
        if refused is not None:
            return Way(chain, address, (), refused, passed=passed)
        for side, ports in zip(sides, links, strict=False):
            side.take(key, transport, ports)
        return Way(chain, address, tuple(links), chosen=chosen, passed=passed)

    def _street(
        self,
        outside: PortPair,
        inside: PortPair,
        transport: str,
        translates: list[bool],
        sides: list[Side],
        chain: Chain,
    ) -> tuple[list[PortPair], Refused | None]:
        """The ports on each link, and why they cannot be had."""
        links, failed = _links(outside, inside, transport, translates, sides)
        if failed is None:
            return links, self._kept(chain, links, transport)
        if failed == len(sides):
            return links, Refused("cannot-translate")
        taken = sides[failed].owner(transport, links[failed])
        assert taken is not None, "that is why it failed"
        by, one, port = taken
        return links, Refused("port-clash", chain.gateways[failed], one, port, by)

    def _kept(self, chain: Chain, links: list[PortPair], transport: str) -> Refused | None:
        """The first gateway that keeps a port of these links for itself."""
        for gateway, ports in zip(chain.gateways, links, strict=False):
            blocks = self.site.gateways[gateway].form.own_ports
            if blocks and (
                met := covers(((b.transport, b.ports.first, b.ports.last) for b in blocks), transport, ports)
            ):
                return Refused("port-kept", gateway, met[0], max(met[1], ports[0]))
        return None


def _never(site: Site, service: Service, chain: Chain) -> Refused | None:
    """Why no port would help."""
    lists = site.lines[chain.line].address
    if service.outside_address is not None and service.outside_address not in lists:
        return Refused("address-not-on-line")
    if service.sources:
        if not any(source.version == 4 for source in service.sources):
            return Refused("")  # meant for IPv6 alone
        if not any(site.gateways[gateway].form.sources for gateway in chain.gateways):
            return Refused("sources-not-kept")
    return _no_rule(site, service, chain)


def _no_rule(site: Site, service: Service, chain: Chain) -> Refused | None:
    """Why a page on the way has no rule for this, over IPv4 or IPv6."""
    if not service.has_ports:
        closed = next((g for g in chain.gateways if not site.gateways[g].form.protocols), None)
        return Refused("protocol-not-passed", closed, service.used_transport) if closed is not None else None
    length = len(service.used_ports)
    for gateway in chain.gateways:
        if length > RULES_FOR_A_RANGE and needs_splitting(length, site.gateways[gateway]):
            return Refused("too-many-rules", gateway)
    return None


def _links(
    outside: PortPair, inside: PortPair, transport: str, translates: list[bool], sides: list[Side]
) -> tuple[list[PortPair], int | None]:
    """The ports on each link, and the number of the gateway at which it fails; past the last: not translated.

    The port stays the one that people type as far in as it can: the innermost gateway that can translates. Where a
    gateway further in has that port for another service, the next one out takes the inside port or one near by.
    """
    ports, links = outside, [outside]
    last = len(translates) - 1
    for at, can in enumerate(translates):
        if sides[at].owner(transport, ports) is not None:
            return links, at
        if at == last:
            following = inside if can else ports
        elif not can:
            following = ports
        elif not any(translates[at + 1 :]):
            following = inside
        elif sides[at + 1].is_open(transport, ports):
            following = ports
        elif sides[at + 1].is_open(transport, inside):
            following = inside
        else:
            following = next(sides[at + 1].choices(transport, ports), ports)
        links.append(following)
        ports = following
    return links, (None if ports == inside else last + 1)


# --- rules


def hands_on(site: Site, gateways: tuple[str, ...], at: int) -> bool:
    """Whether the gateway at this place of a chain hands everything to the next one, by a single entry."""
    gateway = site.gateways[gateways[at]]
    inner = gateways[at + 1] if at + 1 < len(gateways) else None
    return inner is not None and gateway.everything_to == inner and gateway.form.everything


@dataclass(frozen=True, slots=True)
class Hop:
    """One gateway of a chain, with what its rules have in common.

    address: of its outer side, None for the outermost. target: the next gateway's outer address, None for the last.
    hands_on: it needs no rule of its own for TCP and UDP.
    """

    key: str
    gateway: Gateway
    address: str | None
    target: str | None
    hands_on: bool


class Rules:
    """Makes the rules of ways; what the ways of one chain share is looked up once."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._hops: dict[Chain, tuple[Hop, ...]] = {}
        self._hosts = {key: str(host.address) for key, host in site.hosts.items()}

    def hops(self, chain: Chain) -> tuple[Hop, ...]:
        """The gateways of a chain, outermost first."""
        if chain not in self._hops:
            keys = chain.gateways
            self._hops[chain] = tuple(
                Hop(
                    key,
                    self.site.gateways[key],
                    str(self.site.gateways[key].wan_behind(keys[at - 1])) if at else None,
                    str(self.site.gateways[keys[at + 1]].wan_behind(key)) if at + 1 < len(keys) else None,
                    hands_on(self.site, keys, at),
                )
                for at, key in enumerate(keys)
            )
        return self._hops[chain]

    def forwards(self, key: str, way: Way) -> Iterator[Forward]:
        """One entry per rule as it is entered, outermost gateway first."""
        if way.refused is not None:
            return
        service = self.site.services[key]
        sources = tuple(str(source) for source in service.sources if source.version == 4)
        outermost = str(way.outside_address) if way.outside_address is not None else None
        transport, ports = service.used_transport, way.ports
        for at, hop in enumerate(self.hops(way.chain)):
            if ports and hop.hands_on:
                continue  # it hands on what nobody else has; see `everything_of`
            form = hop.gateway.form
            pieces: Iterable[tuple[PortPair | None, PortPair | None]] = ((None, None),)
            if ports:
                pieces = _pieces(ports[at], ports[at + 1], hop.gateway)
            for one in (transport,) if form.both else transports(transport):
                for outside, inside in pieces:
                    yield Forward(
                        hop.key,
                        way.chain.line,
                        "forward",
                        key,
                        one,
                        hop.address if at else outermost,
                        outside,
                        hop.target or self._hosts[service.host],
                        inside,
                        sources if form.sources else (),
                        hop.gateway.control,
                    )


def everything_of(ways: Iterable[Way], rules: Rules) -> Iterator[Forward]:
    """The one entry of each gateway that hands all inward, for each of its addresses that services come by."""
    seen: set[tuple[str, str, str | None]] = set()
    for way in ways:
        if way.refused is not None or not way.ports:
            continue
        for hop in rules.hops(way.chain):
            address = hop.address or (str(way.outside_address) if way.outside_address is not None else None)
            if hop.hands_on and (hop.key, way.line, address) not in seen:
                seen.add((hop.key, way.line, address))
                ports = (1, LAST)
                target = hop.target or ""
                yield Forward(
                    hop.key, way.line, "forward", EVERYTHING, "both", address, ports, target, ports, (), "hand"
                )


def pinholes_of(site: Site, key: str, chain: Chain) -> list[Forward] | Refused:
    """An opening in each IPv6 firewall on the way: the address is the host's own, and no port changes."""
    service = site.services[key]
    address = site.hosts[service.host].address6
    sources = tuple(str(source) for source in service.sources if source.version == 6)
    if service.family == "ipv4" or address is None or (service.sources and not sources):
        return []
    closed = next((g for g in chain.gateways if not site.gateways[g].form.pinholes), None)
    if closed is not None:
        return Refused("no-pinhole", closed)
    if sources and not any(site.gateways[gateway].form.sources for gateway in chain.gateways):
        return Refused("sources-not-kept")
    if (refused := _no_rule(site, service, chain)) is not None:
        return refused
    ports = (service.used_ports.first, service.used_ports.last) if service.has_ports else None
    out: list[Forward] = []
    for gateway_key in chain.gateways:
        gateway = site.gateways[gateway_key]
        pieces = _pieces(ports, ports, gateway) if ports is not None else [(None, None)]
        for transport in _transports(service.used_transport, gateway):
            for one, other in pieces:
                out.append(
                    Forward(
                        gateway=gateway_key,
                        line=chain.line,
                        kind="pinhole",
                        service=key,
                        transport=transport,
                        outside_address=str(address),
                        outside_ports=one,
                        target_address=str(address),
                        target_ports=other,
                        sources=sources if gateway.form.sources else (),
                        by=gateway.control,
                    )
                )
    return out


def _transports(transport: str, gateway: Gateway) -> tuple[str, ...]:
    return transports(transport) if not gateway.form.both else (transport,)


def needs_splitting(ports: int, gateway: Gateway) -> bool:
    """Whether a range of that many ports takes a rule each on this gateway's page."""
    return ports > 1 and not gateway.form.ranges


def _pieces(outside: PortPair, target: PortPair, gateway: Gateway) -> list[tuple[PortPair | None, PortPair | None]]:
    length = outside[1] - outside[0] + 1
    if not needs_splitting(length, gateway):
        return [(outside, target)]
    return [((outside[0] + n, outside[0] + n), (target[0] + n, target[0] + n)) for n in range(length)]


# --- what others ask


def lines_of(site: Site) -> dict[str, str]:
    """The line by which each service is reached; for one that is not public, the first that leads to its host."""
    hosts = ways_in(site)
    return {key: way_chosen(site, service, hosts[service.host])[0].line for key, service in site.services.items()}


def outside_ports(site: Site) -> dict[str, PortPair]:
    """The ports on the public address of each public service that IPv4 is planned for, and that has ports."""
    out: dict[str, PortPair] = {}
    for key, way in make_ways(site).items():
        service = site.services[key]
        if way.ports:
            out[key] = way.ports[0]
        elif service.has_ports:
            wanted = service.outside_port or service.used_ports
            out[key] = wanted.first, wanted.last
    return out
