"""Hosts and services as lists. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.planning.documents import HostRow, ServiceRow
from hooper.planning.paths import gateway_of, lines_of, outside_ports
from hooper.site.model import READY_ITEMS
from hooper.site.references import services_by_host

if TYPE_CHECKING:
    from hooper.site.model import Site


def host_rows(site: Site) -> Iterator[HostRow]:
    """The hosts in the order of the file."""
    services = services_by_host(site)
    for key, host in site.hosts.items():
        gateway = gateway_of(site, host)
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


def service_rows(site: Site) -> Iterator[ServiceRow]:
    """The services in the order of the file."""
    lines, outside = lines_of(site), outside_ports(site)
    for key, service in site.services.items():
        ports = (service.used_ports.first, service.used_ports.last) if service.has_ports else None
        yield ServiceRow(
            key,
            service.host,
            service.speaks,
            service.used_transport,
            ports,
            service.reach,
            lines[key],
            outside.get(key),
            tuple(map(str, service.sources)),
            service.name,
        )
