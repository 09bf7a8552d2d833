"""What people type away from home to reach a service: name or address, port, path. One answer for all who ask. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from ipaddress import IPv4Address, IPv6Address
from typing import NamedTuple

from hooper.addresses import IPAddress, classify
from hooper.dnsnames import is_wildcard
from hooper.planning.topology import Topology
from hooper.site.references import name_entry, planned_for

URL_SCHEMES = {"https": 443, "http": 80, "rtsp": 554, "ssh": 22, "vnc": 5900}  # with the port that may be left out
WEB = {"https": 443, "http": 80}
WITH_PATH = ("http", "https", "rtsp")


class Typed(NamedTuple):
    """What is typed for one service.

    text: the URL, the command of a shell, else address:port, or with the range of its ports. host: the name, else the
    address. name: None where it is an address. port: the first one outside; 0 where the protocol has none.
    port_needed: without it the text leads elsewhere. is_url: it is a URL.
    """

    text: str
    host: str
    name: str | None
    port: int
    port_needed: bool
    is_url: bool


def own_address(topology: Topology, service: str) -> IPv4Address | None:
    """The address that a service has to itself, of several that its line has; None: it goes by that of the line."""
    chosen = topology.site.services[service].outside_address
    written = topology.site.lines[topology.lines[service]].address
    return chosen if chosen is not None and (not written or chosen != written[0]) else None


def name_for(topology: Topology, service: str) -> str | None:
    """The DNS name that people use: the service's own, else that of its line where this has one and leads there.

    Of what is not public it is that of its certificate.
    """
    own = topology.site.services[service].name
    if own is not None or own_address(topology, service) is not None:
        return own
    if topology.site.services[service].reach != "public" and (key := planned_for(topology.site, service)) is not None:
        return next((name for name in topology.site.certificates[key].names if not is_wildcard(name)), None)
    return topology.line_names[topology.lines[service]]


def address_for(topology: Topology, service: str, public: Mapping[str, IPAddress]) -> IPAddress | None:
    """The address outside that packets for a service go to: its own, else its line's; None: not known.

    public: the lines' addresses, as far as they are known; else what the site file says.
    """
    line = topology.lines[service]
    written = topology.site.lines[line].address
    return own_address(topology, service) or public.get(line) or (written[0] if written else None)


def six_for(topology: Topology, service: str) -> IPv6Address | None:
    """Where a service is to be reached over IPv6, at its host's own address; None: nowhere."""
    entry = topology.site.services[service]
    address = topology.site.devices[entry.host].address6
    return address if address is not None and classify(address).reachable and entry.family != "ipv4" else None


def leads_there_by_six(topology: Topology, service: str, name: str) -> bool:
    """Whether a name's IPv6 address is planned to be that of the service's host."""
    entry = name_entry(topology.site, name)
    return entry is not None and "AAAA" in entry.types and entry.host == topology.site.services[service].host


def typed_six(topology: Topology, service: str) -> Typed | None:
    """What people type who have IPv6 alone: no port is translated there. None: it is not reached over IPv6."""
    address, name = six_for(topology, service), name_for(topology, service)
    if address is None:
        return None
    known = name if name is not None and leads_there_by_six(topology, service, name) else None
    return _typed(topology, service, known or str(address), known, translated=False)


def outside_port(topology: Topology, service: str) -> int:
    """The first port on the public address; 0 where the protocol has none."""
    entry, ports = topology.site.services[service], topology.outside_ports.get(service)
    if ports is not None:
        return ports.first
    return entry.used_ports.first if entry.has_ports else 0


def typed(topology: Topology, service: str, public: Mapping[str, IPAddress] | None = None) -> Typed | None:
    """What people type for a service; None: neither a name nor an address is known. public: as for `address_for`."""
    if topology.site.services[service].family == "ipv6":
        return typed_six(topology, service)
    name = name_for(topology, service)
    if name is not None:
        return _typed(topology, service, name, name)
    address = address_for(topology, service, public or {})
    return _typed(topology, service, str(address), None) if address is not None else None


def typed_inside(topology: Topology, service: str) -> Typed:
    """What people type at home, or through a tunnel: the inner address and port."""
    device = topology.site.devices[topology.site.services[service].host]
    return _typed(topology, service, str(device.address), None)


def typed_locally(topology: Topology, service: str, port: int) -> Typed:
    """What people type where a port of their own device leads to a service: no code for another device to scan."""
    return _typed(topology, service, "localhost", None, port)._replace(is_url=False)


def unnamed(topology: Topology, service: str) -> str:
    """As it will look once there is a name."""
    return _typed(topology, service, "NAME", "NAME").text


def _typed(
    topology: Topology, service: str, host: str, name: str | None, local: int | None = None, *, translated: bool = True
) -> Typed:
    """local: another port than the one outside. translated: its ports are those of the public address, not its own."""
    entry, port = topology.site.services[service], local or outside_port(topology, service)
    usual, ports = URL_SCHEMES.get(entry.speaks), topology.outside_ports.get(service) if local is None else None
    if not translated and entry.has_ports:
        port, ports = entry.used_ports.first, entry.used_ports
    needed = usual is not None and port != usual
    shown = f"[{host}]" if ":" in host else host
    if not entry.has_ports:
        return Typed(host, host, name, 0, port_needed=False, is_url=False)
    if entry.speaks == "ssh":
        text = f"ssh -p {port} {host}" if needed else f"ssh {host}"
        return Typed(text, host, name, port, port_needed=needed, is_url=False)
    if usual is None and ports is not None and ports.size > 1:
        return Typed(f"{shown}:{ports}", host, name, port, port_needed=False, is_url=False)
    if usual is None:
        return Typed(f"{shown}:{port}", host, name, port, port_needed=False, is_url=False)
    path = (entry.path or "/") if entry.speaks in WITH_PATH else ""
    text = f"{entry.speaks}://{shown}{f':{port}' if needed else ''}{path}"
    return Typed(text, host, name, port, port_needed=needed, is_url=True)
