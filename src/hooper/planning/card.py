"""The card of a service: what to type away from home, the warnings to expect, and those at which to stop. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from hooper.addresses import IPAddress
from hooper.check.targets import server_name
from hooper.planning.paths import lines_of, outside_ports

if TYPE_CHECKING:
    from hooper.site.model import Site

URL_SCHEMES = {"https": 443, "http": 80, "rtsp": 554, "ssh": 22, "vnc": 5900}  # with the port that may be left out
TLS_SPEECHES = ("https", "tls", "rdp")


@dataclass(frozen=True, slots=True)
class CardDocument:
    """`hooper card`.

    kind: url: to be opened or scanned; address: to be typed as address and port. type: what to type. into: where.
    expect: what is to be expected, warnings too. stop: what must not appear; who sees it goes no further.
    """

    service: str
    kind: Literal["url", "address"]
    type: str
    into: str
    address: str
    port: int
    transport: str
    expect: tuple[str, ...]
    stop: tuple[str, ...]


def host_of(site: Site, service: str, public: Mapping[str, IPAddress]) -> str | None:
    """The name that people use for a service, else the address of its line; None: neither is known.

    public: addresses by line.
    """
    line = line_of(site, service)
    name = server_name(site, site.services[service], line)
    if name is not None:
        return name
    if line in public:
        return str(public[line])
    fixed = site.lines[line].address
    return str(fixed[0]) if fixed else None


def line_of(site: Site, service: str) -> str:
    return lines_of(site)[service]


def outside_port(site: Site, service: str) -> int:
    """The first port on the public address that people type; 0 where the protocol has none."""
    ports = outside_ports(site).get(service)
    if ports is None and site.services[service].has_ports:
        return site.services[service].used_ports.first
    return ports[0] if ports is not None else 0


def port_needed(site: Site, service: str) -> bool:
    """Whether a URL that leaves the port out leads elsewhere."""
    entry = site.services[service]
    usual = URL_SCHEMES.get(entry.speaks)
    return usual is not None and outside_port(site, service) != usual


def typed_for(site: Site, service: str, host: str | None) -> str | None:
    """The URL, or address:port, that people type; None: no name or address is known. host: else the name is taken."""
    entry = site.services[service]
    host = host or host_of(site, service, {})
    if host is None:
        return None
    port = outside_port(site, service)
    if not entry.has_ports:
        return host
    if entry.speaks not in URL_SCHEMES:
        return f"{host}:{port}"
    shown = f":{port}" if port_needed(site, service) else ""
    path = (entry.path or "/") if entry.speaks in ("http", "https", "rtsp") else ""
    return f"{entry.speaks}://{host}{shown}{path}"


def make_card(site: Site, service: str, host: str, fingerprint: str | None) -> CardDocument:
    """The card of a public service. host: name or address. fingerprint: of the certificate last seen from inside."""
    entry = site.services[service]
    typed = typed_for(site, service, host)
    assert typed is not None
    expect, stop = _certificate(site, service, host, fingerprint) if entry.speaks in TLS_SPEECHES else ([], [])
    into = {
        "https": "the browser's address line",
        "http": "the browser's address line",
        "rtsp": "a media player, as network address",
        "ssh": "a terminal, or the app for SSH",
        "rdp": "the app for remote desktops, as computer or host",
        "vnc": "the app for remote screens",
        "wireguard": "the tunnel's profile, as endpoint",
        "openvpn": "the tunnel's profile, as server",
    }.get(entry.speaks, "the maker's app, as address and port")
    if port_needed(site, service):
        lost = _owner_of_usual_port(site, service)
        leads = f"leads to {lost}" if lost else "leads nowhere"
        expect.append(f"The port {outside_port(site, service)} is part of it: without it the address {leads}.")
    if entry.speech.clear_text:
        expect.append("It is not encrypted: anyone on the way can read along, passwords too.")
    if entry.sources:
        allowed = ", ".join(str(source) for source in entry.sources)
        expect.append(f"It answers only from {allowed}; from elsewhere it stays silent.")
    if entry.speaks == "ssh":
        expect.append("The first time, its key is shown: compare it with the one that the device shows at home.")
        stop.append('"The host key has changed": something else answers.')
    if entry.speaks not in ("wireguard", "openvpn"):
        stop.append("A page or login that looks other than at home: type no password.")
    return CardDocument(
        service=service,
        kind="url" if entry.speaks in URL_SCHEMES else "address",
        type=typed,
        into=into,
        address=host,
        port=outside_port(site, service),
        transport=entry.used_transport,
        expect=tuple(expect),
        stop=tuple(stop),
    )


def _owner_of_usual_port(site: Site, service: str) -> str | None:
    """The public service that has the port which a URL without one means."""
    usual, line = URL_SCHEMES[site.services[service].speaks], line_of(site, service)
    lines = lines_of(site)
    for key, (first, last) in outside_ports(site).items():
        if site.services[key].used_transport != "udp" and lines[key] == line and first <= usual <= last:
            return key
    return None


def _certificate(site: Site, service: str, host: str, fingerprint: str | None) -> tuple[list[str], list[str]]:
    """What the certificate lets one expect, and at which warning to stop."""
    planned = next((c for c in site.certificates.values() if service in c.services), None)
    covered = planned is not None and any(_fits(name, host) for name in planned.names)
    if planned is not None and covered:
        own = planned.authority in site.authorities and site.authorities[planned.authority].trust is not None
        if own:
            return (
                [f"No warning, once the device has the root certificate of {planned.authority}."],
                ["A warning about the certificate on a device that has that root."],
            )
        return ["No warning at all."], ["Any warning about the certificate."]
    short = fingerprint.removeprefix("sha256:") if fingerprint is not None else None
    expect = ["A warning that nobody vouches for the certificate: the device has made it itself."]
    if short is not None:
        shown = ":".join(short[i : i + 2] for i in range(0, 16, 2)).upper()
        expect.append(f"Its SHA-256 fingerprint begins with {shown}.")
        return expect, ["A certificate with another fingerprint: something else answers."]
    expect.append("Note its fingerprint at home (`hooper check --from here` keeps it) and compare.")
    return expect, ["A certificate with another fingerprint than at home."]


def _fits(name: str, host: str) -> bool:
    return name == host or (name.startswith("*.") and host.partition(".")[2] == name[2:])
