"""What a check probes: each service at its inner address, or at the public one. Pure."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from hooper.addresses import classify
from hooper.check.handshake_keys import ControlKeys, ProbeKeys, StandInKey, TunnelKeys
from hooper.check.results import Expected, Verdict
from hooper.planning.access import allowed_networks, enforced, grants
from hooper.planning.free_ports import transports
from hooper.planning.topology import Topology
from hooper.planning.typed import address_for, name_for, own_address
from hooper.planning.unfolded import SideDoor
from hooper.ports import Ports
from hooper.site.protocols import SPEECHES
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.site.model import Service


_OWN_LINE = re.compile(r"(?=\w*?(?:[a-zA-Z]+\d+){3})\w{12,}")  # mixed more than names of models and versions are


@dataclass(frozen=True, slots=True)
class Target:
    """One port to probe. address: None while the public address is not known. inner: the service's own endpoint.

    gateway: the one whose LAN the host is on. own_address: the service has this address outside to itself.
    server_name: the DNS name to ask for, in TLS and HTTP; None: none is known. beyond: why it cannot be looked at.
    name: the one that `address` is of; None: it is tried by number. wrong: what is wrong with that, as code and words.
    keys: what a tunnel's handshake is tried with. behind: the device's own page, where a web server hands this name on.
    """

    service: str
    speaks: str
    transport: str
    line: str
    address: IPAddress | None
    port: int
    inner: tuple[IPv4Address, int]
    expected: Expected
    gateway: str = ""
    server_name: str | None = None
    path: str = "/"
    expect: str | None = None
    own_address: bool = False
    beyond: Said = NOTHING
    name: str | None = None
    wrong: tuple[str, Said] | None = None
    keys: TunnelKeys | None = None
    behind: Target | None = None

    @staticmethod
    def alone(
        address: IPAddress, port: int, speaks: str = "tcp", *, transport: str = "tcp", keys: TunnelKeys | None = None
    ) -> Target:
        """A port that is of no service, and is probed for what it says."""
        inner = (address if isinstance(address, IPv4Address) else IPv4Address(0), port)
        return Target("", speaks, transport, "", address, port, inner, "reachable", keys=keys)

    @property
    def own_line(self) -> bool:
        """Whether the text that its page must hold is a line of one's own, that no other device of its make has."""
        return self.expect is not None and _OWN_LINE.search(self.expect) is not None

    @property
    def seen_as(self) -> tuple[str, str, int]:
        """By which its inside is kept: service, transport, and the port on its host."""
        return self.service, self.transport, self.inner[1]

    @property
    def told(self) -> bool:
        """Whether a probe can tell that it is this service that answers."""
        return self.keys is not None or SPEECHES[self.speaks].told

    @property
    def provable(self) -> bool:
        """Whether silence says anything."""
        if isinstance(self.keys, ProbeKeys | StandInKey) or (isinstance(self.keys, ControlKeys) and self.keys.sure):
            return True
        return not (self.transport.isdigit() or SPEECHES[self.speaks].mute)

    def unless_four(self, why: Said | None) -> Target:
        """As a place without IPv4 has it. why: it is without; None: it has it."""
        if why is None or (self.address is not None and self.address.version == 6):
            return self
        return replace(self, address=None, beyond=why)


def _ends(ports: Ports) -> tuple[int, ...]:
    """A range is probed at both its ends."""
    return (ports.first,) if ports.size == 1 else (ports.first, ports.last)


def _inner_ports(service: Service) -> Ports:
    """Its ports on the host; 0 stands for an IP protocol that has none."""
    return service.used_ports if service.has_ports else Ports(0, 0)


def spoken(service: Service) -> tuple[str, ...]:
    """The transports that are probed: each is judged by itself, and one that the protocol does not use is none."""
    uses = service.speech.transport
    if service.used_transport == "both" and uses in ("tcp", "udp") and service.speaks != "unknown":
        return (uses,)
    return transports(service.used_transport)


def inner_targets(topology: Topology, services: Iterable[str]) -> Iterator[Target]:
    """Each service at its inner address; all are expected to be reachable from here."""
    for key in services:
        service = topology.site.services[key]
        address = topology.site.devices[service.host].address
        for transport in spoken(service):
            for port in _ends(_inner_ports(service)):
                yield _target(topology, key, transport, port, address, expected="reachable")


def tunnel_targets(
    topology: Topology, services: Iterable[str], peer: str | None
) -> tuple[list[Target], dict[str, Said]]:
    """Each service at its inner address, through a tunnel, by what the peer that looks is granted.

    peer: None: it is not known; then those for a tunnel are expected, and of the others nothing.
    Returns: the targets, and the services that are not probed with the reason: where nothing keeps a peer to what it
    may reach, no more than that can be expected.
    """
    site = topology.site
    targets: list[Target] = []
    skipped: dict[str, Said] = {}
    if peer is None:
        for target in inner_targets(topology, services):
            if site.services[target.service].reach == "tunnel":
                targets.append(target)
            else:
                skipped[target.service] = say("peer-unknown")
        return targets, skipped
    granted, into = grants(site, peer), allowed_networks(site, peer)
    kept = enforced(site.tunnels[site.peers[peer].tunnel]) == "server"
    for target in inner_targets(topology, services):
        assert target.address is not None
        if any(grant.takes(target.address, target.transport, target.port) for grant in granted):
            targets.append(target)
        elif not any(target.address.version == net.version and target.address in net for net in into):
            skipped[target.service] = say("peer-not-into", peer=peer)
        elif kept:
            targets.append(replace(target, expected="unreachable"))
        else:
            skipped[target.service] = say("peer-not-kept", peer=peer)
    return targets, skipped


def outer_targets(
    topology: Topology,
    services: Iterable[str],
    public: Mapping[str, IPAddress],
    place: IPAddress | None,
    doors: Iterable[SideDoor] = (),
    *,
    six: bool = False,
) -> tuple[list[Target], dict[str, Said]]:
    """Each service at the address outside that people reach it by.

    Args: public: by line. place: the public address that the prober shows, None: unknown. doors: where the rules of
    others lead to it: there it must not be reached. six: the place has IPv6, so that this is tried too.
    Returns: the targets, and the services that are not probed with the reason.
    """
    targets: list[Target] = []
    skipped: dict[str, Said] = {}
    by_others = [door for door in doors if door.outside is not None]
    for key in services:
        for door in by_others:
            if door.service == key:
                targets.append(_at_door(topology, door, public, six=six))
        service = topology.site.services[key]
        over_six = list(six_targets(topology, key, place)) if six else []
        targets += over_six
        exposed = service.reach == "public"
        if over_six and service.family == "ipv6" and exposed:
            continue
        beyond, own = _beyond_four(service, six=six), own_address(topology, key) is not None
        allowed = not service.sources or place is None or any(place in network for network in service.sources)
        outside = topology.outside_ports.get(key, _inner_ports(service)) if exposed else _inner_ports(service)
        for transport in spoken(service):
            owner = None if exposed else _owner(topology, key, transport, outside)
            if owner is not None and any(
                (door.service, door.by, door.family) == (key, owner, "ipv4") for door in by_others
            ):
                continue  # it is tried there
            if owner is not None:
                skipped[key] = say("port-of-other", ports=outside, owner=owner)
                continue
            for port, inner_port in zip(_ends(outside), _ends(_inner_ports(service)), strict=True):
                target = _target(
                    topology, key, transport, port, None, inner_port=inner_port,
                    expected="reachable" if exposed and allowed else "unreachable",
                )  # fmt: skip
                if exposed and beyond:
                    targets.append(replace(target, beyond=beyond))
                else:
                    targets.append(replace(target, address=_address(topology, key, public), own_address=own))
    return targets, skipped


def inner_of(targets: Collection[Target], sight: Collection[str], *, proves: bool = True) -> list[Target]:
    """What of these is seen from inside too, to be compared. sight: the gateways whose devices are seen.

    proves: the place is outside; else only what a web server hands names on to is.
    """
    inner = {
        target.seen_as: replace(target, address=target.inner[0], port=target.inner[1], name=None, wrong=None)
        for target in targets
        if target.address is not None and target.expected == "reachable" and target.gateway in sight
        if proves and not isinstance(target.keys, StandInKey)
    }
    behind = (target.behind for target in targets if target.behind is not None and target.expected == "reachable")
    inner |= {one.seen_as: one for one in behind if one.gateway in sight}
    return list(inner.values())


def _beyond_four(service: Service, *, six: bool) -> Said:
    """Why a service is not looked at over IPv4; empty: it is. six: the place has IPv6."""
    if service.family != "ipv6":
        return NOTHING
    lacking = say("lacks-address6", host=service.host) if six else say("place-lacks-six")
    return say("over-six-alone", lacking=lacking)


def six_targets(topology: Topology, key: str, place: IPAddress | None) -> Iterator[Target]:
    """A service at its host's own IPv6 address, which nothing translates.

    place: that the prober shows, None: unknown; one of IPv4 says nothing here.
    """
    service = topology.site.services[key]
    address = topology.site.devices[service.host].address6
    if address is None or not classify(address).reachable:
        return
    shown = place if place is not None and place.version == 6 else None
    allowed = not service.sources or shown is None or any(shown in network for network in service.sources)
    wanted = service.reach == "public" and service.family != "ipv4" and allowed
    for transport in spoken(service):
        for port in _ends(_inner_ports(service)):
            target = _target(topology, key, transport, port, address, expected="reachable" if wanted else "unreachable")
            yield replace(target, own_address=True)


def _target(
    topology: Topology,
    key: str,
    transport: str,
    port: int,
    address: IPAddress | None,
    *,
    expected: Expected,
    inner_port: int | None = None,
) -> Target:
    """A port of a service as its line has it. inner_port: on its host, where that is another one."""
    service = topology.site.services[key]
    behind = None
    if service.hands_to is not None:
        behind = next(inner_targets(topology, (service.hands_to,)))
    return Target(
        service=key,
        speaks=service.speaks,
        transport=transport,
        line=topology.lines[key],
        address=address,
        port=port,
        inner=(topology.site.devices[service.host].address, port if inner_port is None else inner_port),
        expected=expected,
        gateway=topology.gateway(service.host),
        server_name=name_for(topology, key),
        path=service.path or "/",
        expect=service.expect,
        behind=behind,
    )


def _at_door(topology: Topology, door: SideDoor, public: Mapping[str, IPAddress], *, six: bool) -> Target:
    """A service at the port where the rule of another one leads to it."""
    service, host = topology.site.services[door.service], topology.site.services[door.service].host
    assert door.outside is not None
    six_address = topology.site.devices[host].address6 if six else None
    address = _address(topology, door.by, public) if door.family == "ipv4" else six_address
    target = _target(topology, door.service, door.transport, door.outside.first, address, expected="unreachable",
                     inner_port=service.used_ports.first)  # fmt: skip
    beyond = say("lets-in-over-six", service=door.by) if door.family == "ipv6" and six_address is None else NOTHING
    return replace(target, line=topology.lines[door.by], expect=None, beyond=beyond)


def _address(topology: Topology, service: str, public: Mapping[str, IPAddress]) -> IPAddress | None:
    """Where it is probed; what is only written counts where the caller has looked, and found nothing else."""
    known = own_address(topology, service) is not None or topology.lines[service] in public
    return address_for(topology, service, public) if known else None


def _owner(topology: Topology, service: str, transport: str, ports: Ports) -> str | None:
    """The public service that has one of these ports on the same line, where a service that is not public would be."""
    for key, outside in topology.outside_ports.items():
        same = topology.lines[key] == topology.lines[service] and own_address(topology, key) is None
        if same and transport in transports(topology.site.services[key].used_transport) and outside.overlaps(ports):
            return key
    return None


def is_ok(target: Target, verdict: Verdict, problems: Iterable[str]) -> bool:
    """Whether this is how it should be. `unproven` never is."""
    if target.expected == "unreachable":
        return verdict in ("silent", "refused")
    enough = ("answered",) if target.told else ("answered", "connected")
    return verdict in enough and not list(problems)
