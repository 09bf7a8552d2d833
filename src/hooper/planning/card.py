"""The card of a service: what to type away from home, the warnings to expect, and those at which to stop. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from hooper import deeds
from hooper.dnsnames import any_stands_for
from hooper.planning.topology import Topology
from hooper.planning.typed import URL_SCHEMES, Typed, own_address, typed_six
from hooper.site.protocols import TUNNELS
from hooper.words.said import NOTHING, Said

if TYPE_CHECKING:
    from hooper.site.model import Site

KINDS: dict[str, Literal["command", "endpoint"]] = {"ssh": "command", **dict.fromkeys(TUNNELS, "endpoint")}
TLS_SPEECHES = ("https", "tls", "rdp")


@dataclass(frozen=True, slots=True)
class CardDocument:
    """`hooper card`.

    kind: url: to be opened or scanned; command: for a terminal; endpoint: of a tunnel, for its profile; address: to be
    typed as address and port. ports: those outside, a range as "5000-5010". type: what to type. into: where.
    expect: what is to be expected, warnings too. stop: what must not appear; who sees it goes no further.
    address_source: where the address comes from; null: a name is typed. state: how it was last seen from where people
    use it, as `status` has it; seen: when, RFC 3339; null: never. level: well, wrong, unknown. would_decide: what tells
    whether it works; empty: it does.
    """

    service: str
    kind: Literal["url", "command", "endpoint", "address"]
    type: str
    into: str
    address: str
    port: int
    transport: str
    expect: tuple[str, ...]
    stop: tuple[str, ...]
    address_source: Said | None = None
    ports: str = ""
    state: str = "not-looked-at"
    level: str = "unknown"
    seen: str | None = None
    would_decide: Said = NOTHING


def make_card(
    topology: Topology, service: str, typed: Typed, fingerprint: str | None, source: Said = NOTHING
) -> CardDocument:
    """The card of a public service.

    typed: for it. fingerprint: of the certificate last seen from inside. source: of the address, where one is typed.
    """
    site, entry = topology.site, topology.site.services[service]
    expect, stop = _certificate(site, service, typed.host, fingerprint) if entry.speaks in TLS_SPEECHES else ([], [])
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
    expect += _over_six(topology, service, typed)
    if typed.port_needed:
        lost = _owner_of_usual_port(topology, service)
        leads = f"leads to {lost}" if lost else "leads nowhere"
        expect.append(f"The port {typed.port} is part of it: without it the address {leads}.")
    if entry.speech.clear_text:
        expect.append("It is not encrypted: anyone on the way can read along, passwords too.")
    if entry.sources:
        allowed = ", ".join(str(source) for source in entry.sources)
        expect.append(f"It answers only from {allowed}; from other places it stays silent.")
    if entry.speaks == "ssh":
        expect.append("The first time, its key is shown: compare it with the one that the device shows at home.")
        stop.append('"The host key has changed": something else answers.')
    if KINDS.get(entry.speaks) != "endpoint":
        stop.append("A page or login that looks other than at home: type no password.")
    return CardDocument(
        service=service,
        kind="url" if typed.is_url else KINDS.get(entry.speaks, "address"),
        type=typed.text,
        into=into,
        address=typed.host,
        port=typed.port,
        transport=entry.used_transport,
        expect=tuple(expect),
        stop=tuple(stop),
        address_source=source or None,
        ports=str(topology.outside_ports[service]) if service in topology.outside_ports else "",
    )


def _over_six(topology: Topology, service: str, typed: Typed) -> list[str]:
    """What is to be known of IPv6, where it is reached over that too, or over that alone."""
    six, entry = typed_six(topology, service), topology.site.services[service]
    if six is None or entry.reach != "public":
        return []
    if entry.family == "ipv6":
        return ["It is reached over IPv6 alone: from a network without IPv6 nothing comes."]
    if six.text == typed.text:
        return ["It works over IPv6 too, by the same name."]
    if six.name is not None:
        return [f"Over IPv6 its port is {six.port}: where this stays silent, type {six.text}."]
    return [f"From a network that has IPv6 alone, type {six.text} instead."]


def _owner_of_usual_port(topology: Topology, service: str) -> str | None:
    """The public service that has the port which a URL without one means."""
    site, usual = topology.site, URL_SCHEMES[topology.site.services[service].speaks]
    if site.services[service].family == "ipv6":  # each device has its own address there
        return next((key for key, entry in site.services.items() if entry.host == site.services[service].host
                     and entry.has_ports and entry.used_ports.has(usual)), None)  # fmt: skip
    where = topology.lines[service], own_address(topology, service)
    for key, ports in topology.outside_ports.items():
        same = (topology.lines[key], own_address(topology, key)) == where
        if same and site.services[key].used_transport != "udp" and ports.has(usual):
            return key
    return None


def _certificate(site: Site, service: str, host: str, fingerprint: str | None) -> tuple[list[str], list[str]]:
    """What the certificate lets one expect, and at which warning to stop."""
    planned = next((c for c in site.certificates.values() if service in c.services), None)
    covered = planned is not None and any_stands_for(planned.names, host)
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
    expect.append(f"Note its fingerprint at home (`{deeds.LOOK_FROM_HERE}` keeps it) and compare.")
    return expect, ["A certificate with another fingerprint than at home."]
