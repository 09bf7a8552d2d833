"""What a check probes: each service at its inner address, or at the public one. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from hooper.check.results import Expected, Verdict
from hooper.planning.paths import chains, lines_of, outside_ports
from hooper.site.fields import Ports
from hooper.site.protocols import SPEECHES
from hooper.site.references import name_of_line

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.site.model import Service, Site


@dataclass(frozen=True, slots=True)
class Target:
    """One port to probe. address: None while the public address is not known. inner: the service's own endpoint.

    gateway: the one whose LAN the host is on.
    server_name: the DNS name to ask for, in TLS and HTTP; None: none is known. beyond: why it cannot be looked at.
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
    beyond: str = ""


def _ends(ports: Ports) -> tuple[int, ...]:
    """A range is probed at both its ends."""
    return (ports.first,) if ports.first == ports.last else (ports.first, ports.last)


def _inner_ports(service: Service) -> Ports:
    """Its ports on the host; 0 stands for an IP protocol that has none."""
    return service.used_ports if service.has_ports else Ports(0, 0)


def _transports(service: Service) -> tuple[str, ...]:
    return ("tcp", "udp") if service.used_transport == "both" else (service.used_transport,)


def server_name(site: Site, service: Service, line: str) -> str | None:
    """The name that people will use: the service's own, else the line's, where that has exactly one."""
    return service.name or name_of_line(site, line)


def inner_targets(site: Site, services: Iterable[str]) -> Iterator[Target]:
    """Each service at its inner address; all are expected to be reachable from here."""
    of_host, lines = chains(site), lines_of(site)
    for key in services:
        service, line = site.services[key], lines[key]
        address = site.hosts[service.host].address
        for transport in _transports(service):
            for port in _ends(_inner_ports(service)):
                yield Target(
                    service=key,
                    speaks=service.speaks,
                    transport=transport,
                    line=line,
                    address=address,
                    port=port,
                    inner=(address, port),
                    expected="reachable",
                    gateway=of_host[service.host][-1],
                    server_name=server_name(site, service, line),
                    path=service.path or "/",
                    expect=service.expect,
                )


def outer_targets(
    site: Site, services: Iterable[str], public: dict[str, IPAddress], place: IPAddress | None
) -> tuple[list[Target], dict[str, str]]:
    """Each service at the public address of its line.

    Args: public: by line. place: the public address that the prober shows, None: unknown.
    Returns: the targets, and the services that are not probed with the reason.
    """
    of_host, lines = chains(site), lines_of(site)
    outside_of = {key: Ports(*ports) for key, ports in outside_ports(site).items()}
    taken = [
        (lines[key], transport, ports, key)
        for key, ports in outside_of.items()
        for transport in _transports(site.services[key])
    ]
    targets: list[Target] = []
    skipped: dict[str, str] = {}
    for key in services:
        service, line = site.services[key], lines[key]
        exposed = service.reach == "public"
        beyond = "it is planned over IPv6 alone, and this looks over IPv4" if service.family == "ipv6" else ""
        allowed = not service.sources or place is None or any(place in network for network in service.sources)
        outside = outside_of.get(key, _inner_ports(service)) if exposed else _inner_ports(service)
        for transport in _transports(service):
            owner = next((o for a, t, p, o in taken if (a, t) == (line, transport) and p.overlaps(outside)), None)
            if not exposed and owner is not None:
                skipped[key] = f"outside, port {outside} belongs to {owner}"
                continue
            for port, inner_port in zip(_ends(outside), _ends(_inner_ports(service)), strict=True):
                targets.append(
                    Target(
                        service=key,
                        speaks=service.speaks,
                        transport=transport,
                        line=line,
                        address=public.get(line) if not (exposed and beyond) else None,
                        port=port,
                        inner=(site.hosts[service.host].address, inner_port),
                        expected="reachable" if exposed and allowed else "unreachable",
                        gateway=of_host[service.host][-1],
                        server_name=server_name(site, service, line),
                        path=service.path or "/",
                        expect=service.expect,
                        beyond=beyond if exposed else "",
                    )
                )
    return targets, skipped


def is_ok(expected: Expected, verdict: Verdict, speaks: str, problems: Iterable[str]) -> bool:
    """Whether this is how it should be. `unproven` never is."""
    if expected == "unreachable":
        return verdict in ("silent", "refused")
    enough = ("answered",) if SPEECHES[speaks].told else ("answered", "connected")
    return verdict in enough and not list(problems)
