"""Hosts and services as lists. Pure."""

from __future__ import annotations

from collections.abc import Iterator

from hooper.planning.documents import HostRow, ServiceRow
from hooper.planning.topology import Topology
from hooper.planning.values import HandedName
from hooper.site.model import READY_ITEMS
from hooper.site.references import services_by_host


def host_rows(topology: Topology) -> Iterator[HostRow]:
    """The hosts in the order of the file, then the gateways that offer services themselves."""
    site, services = topology.site, services_by_host(topology.site)
    offering = {key: site.devices[key] for key in site.gateways if services[key]}
    for key, host in (site.hosts | offering).items():
        gateway = topology.gateway(key)
        pool = site.gateways[gateway].pool
        yield HostRow(
            key,
            gateway,
            str(host.address),
            str(host.address6) if host.address6 is not None else None,
            host.address_from,
            host.address in pool if pool is not None else None,
            host.mac,
            tuple(services[key]),
            {item: getattr(host.ready, item) for item in READY_ITEMS},
        )


def service_rows(topology: Topology) -> Iterator[ServiceRow]:
    """The services in the order of the file."""
    for key, service in topology.site.services.items():
        ports = service.used_ports if service.has_ports else None
        yield ServiceRow(
            key,
            service.host,
            service.speaks,
            service.used_transport,
            ports,
            service.reach,
            topology.lines[key],
            topology.outside_ports.get(key),
            tuple(map(str, service.sources)),
            service.name,
            service.hands_to,
        )


def handed_names(topology: Topology) -> Iterator[HandedName]:
    """What web servers hand on to devices behind them, by name."""
    services = topology.site.services
    for key, service in sorted(services.items()):
        if service.hands_to is not None and service.name is not None:
            behind = services[service.hands_to].host
            yield HandedName(key, service.name, topology.bearer(key), service.host, service.hands_to, behind)
