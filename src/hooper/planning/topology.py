"""The site as packets see it: lines, chains, ways and outside ports, computed once and passed on."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING

from hooper.planning.free_ports import transports
from hooper.planning.paths import Way, gateway_of, make_ways, public_services, way_chosen, ways_in
from hooper.ports import EVERY_PORT, PortIndex, Ports
from hooper.site.handed import bearers
from hooper.site.references import Chain, name_of_line

if TYPE_CHECKING:
    from hooper.site.model import Site


class Topology:
    """What follows from a site by itself. Each part is computed when it is first asked for, and then kept."""

    def __init__(self, site: Site) -> None:
        self.site = site

    @cached_property
    def hosts(self) -> dict[str, tuple[Chain, ...]]:
        """All ways in to each host and gateway, in the order of preference."""
        return ways_in(self.site)

    @cached_property
    def ways(self) -> dict[str, Way]:
        """The way of each public service that IPv4 is planned for."""
        return make_ways(self.site, self.hosts)

    @cached_property
    def _bearers(self) -> dict[str, str]:
        return bearers(self.site)

    def bearer(self, service: str) -> str:
        """Whose rules a service is reached by: its own, or those of another one at the port of its web server."""
        return self._bearers.get(service, service)

    @cached_property
    def lines(self) -> dict[str, str]:
        """The line by which each service is reached; for one that is not public, the first that leads to its host."""
        return {key: self.chain(key).line for key in self.site.services}

    @cached_property
    def outside_ports(self) -> dict[str, Ports]:
        """The ports on the public address of each public service that IPv4 is planned for, and that has ports."""
        out: dict[str, Ports] = {}
        for key, way in self.ways.items():
            service = self.site.services[key]
            if way.ports:
                out[key] = way.ports[0]
            elif service.has_ports:
                out[key] = service.outside_port or service.used_ports
        return out

    @cached_property
    def public_ports(self) -> dict[tuple[str, str], PortIndex]:
        """What is public on each host, by its key and the transport; an IP protocol has every port."""
        found: dict[tuple[str, str], list[tuple[Ports, str]]] = {}
        for key in public_services(self.site):
            service = self.site.services[key]
            ports = service.used_ports if service.has_ports else EVERY_PORT
            for transport in transports(service.used_transport):
                found.setdefault((service.host, transport), []).append((ports, key))
        return {where: PortIndex(there) for where, there in found.items()}

    @cached_property
    def line_names(self) -> dict[str, str | None]:
        """The name that people use for each line, where it has exactly one."""
        return {line: name_of_line(self.site, line) for line in self.site.lines}

    def chain(self, service: str) -> Chain:
        """The way in that a service takes; for one that is not public, the first that leads to its host."""
        if (way := self.ways.get(service)) is not None:
            return way.chain
        entry = self.site.services[service]
        return way_chosen(self.site, entry, self.hosts[entry.host])[0]

    def gateway(self, host: str) -> str:
        """The gateway whose LAN a host is on; a gateway stands on its own."""
        return gateway_of(self.site, self.site.devices[host])
