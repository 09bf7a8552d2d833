"""What to set on each device: its network page, its ports, its own idea of its address, and what to tick off. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from hooper import deeds
from hooper.planning.documents import DeviceService, DeviceSheet, DeviceTick
from hooper.planning.looks.line import why_unusable
from hooper.planning.topology import Topology
from hooper.planning.typed import WEB, typed
from hooper.site.references import planned_for, services_by_host
from hooper.words.catalogue import ticks as all_ticks

if TYPE_CHECKING:
    from hooper.site.model import Site


def device_sheets(topology: Topology, wanted: Sequence[str] = ()) -> Iterator[DeviceSheet]:
    """One for the outer side of each inner gateway, then one for each host; only those in `wanted`, if any."""
    site = topology.site
    for key, gateway in site.gateways.items():
        if wanted and key not in wanted:
            continue
        for outer in gateway.behind:
            address = gateway.wan_behind(outer)
            if address is not None:
                yield _sheet(site, key, outer, str(address), gateway.wan_from, outer_side=True)
    offered = services_by_host(site)
    fronts = {one.hands_to: key for key, one in site.services.items() if one.hands_to is not None}
    for key, host in site.hosts.items():
        if wanted and key not in wanted:
            continue
        outer = topology.gateway(key)
        services, notes = [], list[str]()
        for name in offered[key]:
            service = site.services[name]
            inside = service.used_ports if service.has_ports else None
            shown = name if service.reach == "public" else fronts.get(name)
            url = _base_url(topology, shown) if shown is not None else None
            notes += _https_of(topology, name, fronts.get(name), url)
            services.append(DeviceService(name, service.speaks, service.used_transport, inside, service.reach, url))
        page = any(service.speaks in WEB for service in services)
        ticks = tuple(
            DeviceTick(item.key, item.question, getattr(host.ready, item.key))
            for item in all_ticks()
            if page or item.key not in ("tls", "base_url")
        )
        yield _sheet(site, key, outer, str(host.address), host.address_from, tuple(services), ticks, more=notes)


def _sheet(
    site: Site,
    key: str,
    outer: str,
    address: str,
    given: str,
    services: tuple[DeviceService, ...] = (),
    ticks: tuple[DeviceTick, ...] = (),
    *,
    outer_side: bool = False,
    more: Sequence[str] = (),
) -> DeviceSheet:
    gateway = site.gateways[outer]
    network = gateway.lan.network
    usable = [str(server) for server in gateway.dns if why_unusable(site, server) is None]
    dns = tuple(usable) or (str(gateway.lan.ip),)
    notes = []
    if given == "device":
        notes.append(
            f"When you save, this page will hang, since the device has left for its new address: go on at"
            f" http://{address}/, from a computer on {network}."
            if not outer_side
            else f"While {key} takes its new outer address, everything behind it is cut off for a minute."
        )
    elif given == "reservation":
        notes.append(
            f"It stays on DHCP (automatic): {outer} gives it {address} always, by the reservation of its sheet."
        )
        notes.append(
            f"If it has another address now: once {outer} has the reservation, switch {key} off and on, so that it asks"
            " DHCP again."
        )
    else:
        notes.append(
            f"It stays on DHCP (automatic), and nothing makes {outer} give it {address} again: rules that lead there"
            " may one day lead to another device. A reservation, or a fixed address, ends that."
        )
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
        notes=(*notes, *more),
    )


def _https_of(topology: Topology, key: str, front: str | None, url: str | None) -> Iterator[str]:
    """What a service's page has to be given for https. front: the service by which a web server hands it on."""
    site, planned = topology.site, planned_for(topology.site, key)
    if front is not None:
        address = site.devices[site.services[front].host].address
        yield f"{key}: it is asked for by the web server at {address}; trust that one as a proxy, and nobody else."
        yield f"{key}: people come by {url or 'the name of ' + front}; let it make its links with that."
    if planned is None:
        return
    certificate, names = site.certificates[planned], ", ".join(site.certificates[planned].names)
    if certificate.authority == "device":
        yield f"{key}: have it get a certificate for {names} by itself."
    elif certificate.give_to is not None or certificate.give_command:
        yield f"{key}: its certificate for {names} comes by `{deeds.GIVE_CERTIFICATE(planned)}`; enter nothing."
    else:
        yield f"{key}: its certificate for {names}: `{deeds.BUNDLE(planned)}` writes the files, and what to press."


def _base_url(topology: Topology, key: str) -> str | None:
    """What a web server has to know as its own address; None: it is no web server, or no name or address is known."""
    if topology.site.services[key].speaks not in WEB or key not in topology.outside_ports:
        return None
    found = typed(topology, key)
    if found is None:
        return None
    url = urlsplit(found.text)
    return f"{url.scheme}://{url.netloc}/"  # the whole server's, without the page of the login
