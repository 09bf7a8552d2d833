"""Every rule taken apart into what it lets in: a rule for one service may reach another on the same host. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from hooper.planning.free_ports import transports
from hooper.planning.topology import Topology
from hooper.planning.typed import outside_port
from hooper.planning.values import Forward
from hooper.ports import EVERY_PORT, PortIndex, Ports


class SideDoor(NamedTuple):
    """A service that is reached from outside by the rule of another one.

    by: whose rule it is. outside: the ports on the public address that lead there; None: the IP protocol has none.
    sources: who may come by it; empty: anyone. family: ipv4, or ipv6 where it is an opening in a firewall.
    """

    service: str
    by: str
    transport: str
    outside: Ports | None
    sources: tuple[str, ...]
    family: str

    def words(self) -> str:
        """Where it is reached, as people write it."""
        where = f"{self.transport} {self.outside}" if self.outside is not None else f"the IP protocol {self.transport}"
        return f"{where}{' over IPv6' if self.family == 'ipv6' else ''}"


def side_doors(topology: Topology, forwards: Iterable[Forward], *, allowed: bool = False) -> Iterator[SideDoor]:
    """What the rules let in beyond what they are for: a service whose reach forbids it, or whose sources do.

    allowed: those instead whose reach and sources have nothing against it.
    """
    site = topology.site
    by_address: dict[str, list[tuple[Ports, str]]] = {}
    for key, service in sorted(site.services.items()):
        public = service.reach == "public"
        if (not public) if allowed else (public and not service.sources):
            continue  # whatever the rule
        host, ports = site.devices[service.host], service.used_ports if service.has_ports else EVERY_PORT
        for address in (host.address, host.address6):
            if address is not None:
                by_address.setdefault(str(address), []).append((ports, key))
    at = {address: PortIndex(there) for address, there in by_address.items()}
    seen: set[tuple[str, str, str, Ports | None, str]] = set()
    for rule in forwards:
        there = at.get(rule.target_address)
        for key in there.meeting(rule.target_ports or EVERY_PORT) if there is not None else ():
            if topology.bearer(key) == rule.service or _allowed(topology, key, rule) != allowed:
                continue
            for door in _doors(topology, key, rule):
                mark = (door.service, door.by, door.transport, door.outside, door.family)
                if mark not in seen:
                    seen.add(mark)
                    yield door


def _allowed(topology: Topology, service: str, rule: Forward) -> bool:
    """Whether those whom the rule lets in may come to the service too."""
    entry = topology.site.services[service]
    own = set(map(str, entry.sources))
    return entry.reach == "public" and (not own or (bool(rule.sources) and set(rule.sources) <= own))


def _doors(topology: Topology, service: str, rule: Forward) -> Iterator[SideDoor]:
    """Where a rule that leads to the host of a service meets its ports."""
    entry = topology.site.services[service]
    family = "ipv6" if rule.kind == "pinhole" else "ipv4"
    for transport in transports(entry.used_transport):
        if transport not in transports(rule.transport):
            continue
        if rule.target_ports is None or not entry.has_ports:
            yield SideDoor(service, rule.service, transport, None, rule.sources, family)
            continue
        first = max(rule.target_ports[0], entry.used_ports.first)
        last = min(rule.target_ports[1], entry.used_ports.last)
        if first > last:
            continue
        shift = outside_port(topology, rule.service) - topology.site.services[rule.service].used_ports.first
        outside = Ports(first, last) if family == "ipv6" else Ports(first + shift, last + shift)
        yield SideDoor(service, rule.service, transport, outside, rule.sources, family)
