"""The way of every public service through its chain of gateways: line, outside port, and the port on each link.

First come the services whose outside port is written down, then the others, both by key: so a plan does not depend
on the order of the file, and what is written down never moves. What cannot be had is refused, with the reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from ipaddress import ip_network
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from hooper.addresses import classify
from hooper.planning.free_ports import LAST, STEP, OuterSide, transports
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import Blocked, Ports, blocking, single
from hooper.site.handed import bearers
from hooper.site.references import Chain, chains_to, gateways_for

if TYPE_CHECKING:
    from ipaddress import IPv4Address

    from hooper.site.model import Gateway, Host, Service, Site

RULES_FOR_A_RANGE = 32  # single-port rules that a person may be asked to type for one range
CHOICES_TRIED = 1000  # of outside ports; on the links further in, one choice is as good as another
CANNOT_FORWARD = ("carrier-nat", "shared-ports", "no-ipv4")  # situations of a line


class RefusedWay(NamedTuple):
    """Why a service gets no rule. code: of the finding. gateway: where. ports: which. by: the service in the way."""

    code: str
    gateway: str = ""
    transport: str = ""
    port: int = 0
    by: str = ""


class Way(NamedTuple):
    """How a public service is reached from its line over IPv4.

    ports: on the line, then on each link between two gateways, last on the host: one more than there are gateways;
    empty for an IP protocol without ports, and where it is refused. chosen: the outside port is not the service's
    own, and nobody wrote it down. passed: lines that would come first, but cannot be forwarded to.
    """

    chain: Chain
    outside_address: IPv4Address | None
    ports: tuple[Ports, ...]
    refused: RefusedWay | None = None
    chosen: bool = False
    passed: tuple[str, ...] = ()

    @property
    def line(self) -> str:
        return self.chain.line

    @property
    def gateways(self) -> tuple[str, ...]:
        return self.chain.gateways


def ways_in(site: Site) -> dict[str, tuple[Chain, ...]]:
    """All ways in to each host and gateway, in the order of preference; a gateway ends its own."""
    of_gateway = {key: chains_to(site, key) for key in site.gateways}
    return of_gateway | {key: of_gateway[gateway_of(site, host)] for key, host in site.hosts.items()}


def gateway_of(site: Site, host: Host) -> str:
    """The gateway whose LAN a host is on. The references have been checked."""
    return host.behind if host.behind is not None else gateways_for(site, host.address)[0]


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


def way_of_six(site: Site, service: Service, ways: tuple[Chain, ...], default: Chain) -> Chain:
    """The way in over IPv6: by the line whose prefix the host's address has, which need not be the one of IPv4."""
    address = site.devices[service.host].address6
    for way in ways:
        prefix, named = site.lines[way.line].prefix6, service.line in (None, way.line)
        if named and prefix is not None and address is not None and address in ip_network(prefix):
            return way
    return default


def passed_by(service: Service, chain: Chain) -> tuple[str, ...]:
    """The gateways of a chain that must hand a service on: all but the one that offers it itself."""
    return tuple(key for key in chain.gateways if key != service.host)


def public_services(site: Site) -> list[str]:
    """Their keys, in the order in which they are served: those with a written port first, then by public address."""
    keys = [key for key, service in site.services.items() if service.reach == "public"]
    services = site.services
    return sorted(keys, key=lambda key: (services[key].outside_port is None, _place(site, services[key]), key))


def _place(site: Site, service: Service) -> int:
    """Which of its line's addresses a service has, from 0; 0 too where it has none of its own."""
    chosen = service.outside_address
    lists = (line.address for line in site.lines.values())
    return next((addresses.index(chosen) for addresses in lists if chosen in addresses), 0) if chosen else 0


def make_ways(site: Site, hosts: dict[str, tuple[Chain, ...]] | None = None) -> dict[str, Way]:
    """The way of each public service that IPv4 is planned for. hosts: as `ways_in` gives it."""
    hosts = hosts if hosts is not None else ways_in(site)
    streets, borne = _Streets(site), bearers(site)
    out: dict[str, Way] = {}
    for key in public_services(site):
        service = site.services[key]
        if service.family == "ipv6" or key in borne:
            continue
        chain, passed = way_chosen(site, service, hosts[service.host])
        out[key] = streets.place(key, service, chain, passed)
    out |= {key: out[by] for key, by in borne.items() if by in out}
    return dict(sorted(out.items()))


class _Street(NamedTuple):
    """The outer sides that a packet for one public address passes, outermost first.

    place: which of the line's addresses it is, from 0. translates: which gateways can turn a port into another one;
    later: whether one further in can. kept: what each gateway keeps for itself.
    """

    place: int
    gateways: tuple[str, ...]
    sides: tuple[OuterSide, ...]
    translates: tuple[bool, ...]
    later: tuple[bool, ...]
    kept: tuple[tuple[Blocked, ...], ...]

    def stuck(self, inside: Ports, transport: str) -> RefusedWay | None:
        """Why no outside port helps; None: one may. Behind the innermost gateway that translates, every link has the
        inside port, whatever people type.
        """
        innermost = max(at for at, translates in enumerate(self.translates) if translates)
        for at in range(innermost + 1, len(self.sides)):
            taken = self.sides[at].owner(transport, inside)
            kept = blocking(self.kept[at], transport, inside)
            if taken is not None or kept is not None:
                by, over, port = taken or ("", kept.transport if kept else transport, inside.first)
                return RefusedWay("no-port-left", self.gateways[at], over, port, by)
        return None

    def other(self, inside: Ports, transport: str) -> tuple[list[Ports], RefusedWay | None]:
        """The ports on each link for another outside port than the service's own, or why there is none."""
        refused = RefusedWay("no-port-left", self.gateways[0], transport)
        for choice in islice(self.sides[0].choices(transport, inside), CHOICES_TRIED):
            links, met = self.walk(choice, inside, transport, free=True)
            if met is None:
                return links, None
            refused = RefusedWay("no-port-left", met.gateway or self.gateways[0], transport)
        return [], refused

    def walk(
        self, outside: Ports, inside: Ports, transport: str, *, free: bool = False
    ) -> tuple[list[Ports], RefusedWay | None]:
        """The ports on each link, and why they cannot be had.

        The port stays the one that people type as far in as it can: the innermost gateway that can translates. The
        links are shared by all addresses of a line, so that those of its second address travel in a lane of their own,
        10,000 further up, whoever else is there: what is added later then moves nobody. Where a gateway further in
        has that port for another service, the next one out takes the inside port or one near by.

        free: nobody wrote the outside port down; then another one is chosen before it takes somebody's lane.
        """
        ports, links, sides = outside, [outside], self.sides
        last = len(sides) - 1
        for at, side in enumerate(sides):
            if (taken := side.owner(transport, ports)) is not None:
                return links, RefusedWay("port-clash", self.gateways[at], taken[1], taken[2], taken[0])
            if self.kept[at] and (met := blocking(self.kept[at], transport, ports)) is not None:
                return links, RefusedWay(
                    "port-kept", self.gateways[at], met.transport, max(met.ports.first, ports.first)
                )
            if self.translates[at]:
                if at == last or not self.later[at]:
                    ports = inside
                else:
                    further = sides[at + 1]
                    if at == 0 and self.place:
                        ports = _lane(ports, self.place)
                    elif free and (held := further.owner(transport, ports)) is not None:
                        return links, RefusedWay("port-clash", self.gateways[at + 1], held[1], held[2], held[0])
                    if not further.is_open(transport, ports):
                        own = further.is_open(transport, inside)
                        ports = inside if own else next(further.choices(transport, ports), ports)
            links.append(ports)
        return links, (None if ports == inside else RefusedWay("cannot-translate"))


def _lane(ports: Ports, place: int) -> Ports:
    """Where the ports of a line's further address travel on the links, as far as there is room above."""
    shifted = Ports(ports.first + STEP * place, ports.last + STEP * place)
    return shifted if shifted.last <= LAST else ports


class _Streets:
    """The outer sides of all gateways, filled service by service."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self._sides: dict[tuple[str, str, IPv4Address | None], OuterSide] = {}
        self._streets: dict[tuple[Chain, IPv4Address | None, bool], _Street] = {}

    def _side(self, gateway: str, outer: str, address: IPv4Address | None) -> OuterSide:
        """The outer side of a gateway towards a line or an outer gateway."""
        found = self._sides.get((gateway, outer, address))
        if found is None:
            found = self._sides[gateway, outer, address] = OuterSide()
            entry = self.site.gateways[gateway]
            for block in (*entry.form.own_ports, *(() if entry.behind else self.site.lines[outer].blocked)):
                found.close(block.transport, block.ports.first, block.ports.last)
        return found

    def street(self, chain: Chain, address: IPv4Address | None, *, own: bool = False) -> _Street:
        """The way from a public address to the LAN at the end of a chain. own: to its last gateway itself."""
        found = self._streets.get((chain, address, own))
        if found is None:
            keys = chain.gateways
            forms = [self.site.gateways[key].form for key in keys]
            ends = len(keys) - 1 if own else len(keys)
            translates = tuple(
                form.translate and at < ends and not hands_on(self.site, keys, at) for at, form in enumerate(forms)
            )
            lists = self.site.lines[chain.line].address
            found = self._streets[chain, address, own] = _Street(
                lists.index(address) if address in lists else 0,
                keys,
                tuple(
                    self._side(key, keys[at - 1] if at else chain.line, None if at else address)
                    for at, key in enumerate(keys)
                ),
                translates,
                tuple(any(translates[at + 1 :]) for at in range(len(keys))),
                tuple(form.own_ports if at < ends else () for at, form in enumerate(forms)),
            )
        return found

    def place(self, key: str, service: Service, chain: Chain, passed: tuple[str, ...]) -> Way:
        """Find the ports for a service, and take them."""
        site, transport = self.site, service.used_transport
        fixed = site.lines[chain.line].address
        address = service.outside_address or (fixed[0] if fixed else None)
        refused = _never(site, service, chain)
        if refused is not None:
            return Way(chain, address, (), refused, passed=passed)
        street = self.street(chain, address, own=service.host == chain.gateways[-1])
        if not service.has_ports:
            for gateway, side in zip(chain.gateways, street.sides, strict=True):
                if (taken := side.owner(transport, None)) is not None:
                    clash = RefusedWay("port-clash", gateway, transport, 0, taken[0])
                    return Way(chain, address, (), clash, passed=passed)
            for side in street.sides:
                side.take(key, transport, None)
            return Way(chain, address, (), passed=passed)
        used, written, chosen = service.used_ports, service.outside_port, False
        wanted = written if written is not None else used
        free = written is None and True in street.translates
        links, refused = street.walk(wanted, used, transport, free=free)
        if free and (refused is not None or not street.sides[0].is_open(transport, wanted)):
            refused = street.stuck(used, transport)
            if refused is None:
                links, refused = street.other(used, transport)
                chosen = refused is None
        if refused is not None:
            return Way(chain, address, (), refused, passed=passed)
        for side, ports in zip(street.sides, links, strict=False):
            side.take(key, transport, ports)
        return Way(chain, address, tuple(links), chosen=chosen, passed=passed)


def _never(site: Site, service: Service, chain: Chain) -> RefusedWay | None:
    """Why no port would help."""
    lists = site.lines[chain.line].address
    if service.outside_address is not None and service.outside_address not in lists:
        return RefusedWay("address-not-on-line")
    if service.sources:
        if not any(source.version == 4 for source in service.sources):
            return RefusedWay("")  # meant for IPv6 alone
        if not any(site.gateways[gateway].form.sources for gateway in chain.gateways):
            return RefusedWay("sources-not-kept")
    return _no_rule(site, service, chain)


def _no_rule(site: Site, service: Service, chain: Chain) -> RefusedWay | None:
    """Why a page on the way has no rule for this, over IPv4 or IPv6."""
    if not service.has_ports:
        closed = next((g for g in passed_by(service, chain) if not site.gateways[g].form.protocols), None)
        return RefusedWay("protocol-not-passed", closed, service.used_transport) if closed is not None else None
    length = service.used_ports.size
    for gateway in passed_by(service, chain):
        if length > RULES_FOR_A_RANGE and needs_splitting(length, site.gateways[gateway]):
            return RefusedWay("too-many-rules", gateway)
    return None


# --- rules


def hands_on(site: Site, gateways: tuple[str, ...], at: int) -> bool:
    """Whether the gateway at this place of a chain hands everything to the next one, by a single entry."""
    gateway = site.gateways[gateways[at]]
    inner = gateways[at + 1] if at + 1 < len(gateways) else None
    return inner is not None and gateway.everything_to == inner and gateway.form.everything


class Hop(NamedTuple):
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
        self._texts: dict[IPv4Address | None, str] = {}
        self._hosts = {key: str(device.address) for key, device in site.devices.items()}

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
        outermost = self._texts.get(way.outside_address)
        if outermost is None and way.outside_address is not None:
            outermost = self._texts[way.outside_address] = str(way.outside_address)
        transport, ports = service.used_transport, way.ports
        for at, hop in enumerate(self.hops(way.chain)):
            if (ports and hop.hands_on) or hop.key == service.host:
                continue  # it hands on what nobody else has, see `everything_of`; or it offers this itself
            form = hop.gateway.form
            pieces: Iterable[tuple[Ports | None, Ports | None]] = ((None, None),)
            if ports:
                pieces = _pieces(ports[at], ports[at + 1], hop.gateway)
            for spoken in (transport,) if form.both else transports(transport):
                for outside, inside in pieces:
                    yield Forward(
                        hop.key,
                        way.chain.line,
                        "forward",
                        key,
                        spoken,
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
                ports = Ports(1, LAST)
                target = hop.target or ""
                yield Forward(
                    hop.key, way.line, "forward", EVERYTHING, "both", address, ports, target, ports, (), "hand"
                )


def pinholes_of(site: Site, key: str, chain: Chain) -> list[Forward] | RefusedWay:
    """An opening in each IPv6 firewall on the way: the address is the host's own, and no port changes."""
    service = site.services[key]
    address = site.devices[service.host].address6
    sources = tuple(str(source) for source in service.sources if source.version == 6)
    if service.family == "ipv4" or address is None or (service.sources and not sources):
        return []
    closed = next((g for g in passed_by(service, chain) if not site.gateways[g].form.pinholes), None)
    if closed is not None:
        return RefusedWay("no-pinhole", closed)
    if sources and not any(site.gateways[gateway].form.sources for gateway in chain.gateways):
        return RefusedWay("sources-not-kept")
    if (refused := _no_rule(site, service, chain)) is not None:
        return refused
    ports = service.used_ports if service.has_ports else None
    out: list[Forward] = []
    for gateway_key in passed_by(service, chain):
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


def _pieces(outside: Ports, target: Ports, gateway: Gateway) -> list[tuple[Ports | None, Ports | None]]:
    if not needs_splitting(outside.size, gateway):
        return [(outside, target)]
    return [(single(outside.first + n), single(target.first + n)) for n in range(outside.size)]
