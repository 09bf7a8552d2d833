"""What to set on each device: its network page, its ports, its own idea of its address, and what to tick off. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from hooper.planning.documents import DeviceService, DeviceSheet, DeviceTick
from hooper.planning.looks.readiness import ITEMS
from hooper.planning.topology import Topology
from hooper.planning.typed import WEB, typed
from hooper.site.references import services_by_host

if TYPE_CHECKING:
    from hooper.site.model import Gateway


def device_sheets(topology: Topology, wanted: Sequence[str] = ()) -> Iterator[DeviceSheet]:
    """One for the outer side of each inner gateway, then one for each host; only those in `wanted`, if any."""
    site = topology.site
    for key, gateway in site.gateways.items():
        if wanted and key not in wanted:
            continue
        for outer in gateway.behind:
            address = gateway.wan_behind(outer)
            if address is not None:
                entry = site.gateways[outer]
                yield _sheet(key, outer, entry, str(address), gateway.wan_from, outer_side=True)
    offered = services_by_host(site)
    for key, host in site.hosts.items():
        if wanted and key not in wanted:
            continue
        outer = topology.gateway(key)
        services = []
        for name in offered[key]:
            service = site.services[name]
            inside = service.used_ports if service.has_ports else None
            url = _base_url(topology, name) if service.reach == "public" else None
            services.append(DeviceService(name, service.speaks, service.used_transport, inside, service.reach, url))
        ticks = tuple(DeviceTick(item.key, item.question, getattr(host.ready, item.key)) for item in ITEMS)
        yield _sheet(key, outer, site.gateways[outer], str(host.address), host.address_from, tuple(services), ticks)


def _sheet(
    key: str,
    outer: str,
    gateway: Gateway,
    address: str,
    given: str,
    services: tuple[DeviceService, ...] = (),
    ticks: tuple[DeviceTick, ...] = (),
    *,
    outer_side: bool = False,
) -> DeviceSheet:
    network = gateway.lan.network
    dns = tuple(map(str, gateway.dns)) or (str(gateway.lan.ip),)
    notes = []
    if given == "device":
        notes.append(
            f"When you save, this page will hang, since the device has left for its new address: go on at"
            f" http://{address}/, from a computer on {network}."
            if not outer_side
            else f"While {key} takes its new outer address, everything behind it is cut off for a minute."
        )
    else:
        notes.append(f"It stays on DHCP (automatic): {outer} gives it {address} always, by its reservation.")
    return DeviceSheet(
        device=key,
        outer_side=outer_side,
        method="by hand (static)" if given == "device" else "automatic (DHCP)",
        address=address,
        mask=str(network.netmask),
        prefix_length=network.prefixlen,
        gateway=str(gateway.lan.ip),
        dns=dns,
        services=services,
        ticks=ticks,
        notes=tuple(notes),
    )


def _base_url(topology: Topology, key: str) -> str | None:
    """What a web server has to know as its own address; None: it is no web server, or no name or address is known."""
    if topology.site.services[key].speaks not in WEB or key not in topology.outside_ports:
        return None
    found = typed(topology, key)
    return found.text if found is not None else None
