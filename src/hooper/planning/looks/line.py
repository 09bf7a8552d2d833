"""Findings on the lines: can they be forwarded to, and what remains where they cannot."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress, classify
from hooper.planning.facts import Facts
from hooper.planning.findings import finding, group, register
from hooper.planning.paths import CANNOT_FORWARD
from hooper.planning.values import Finding
from hooper.planning.ways import in_one_sentence, ways_left
from hooper.sourced import SourcedAddress

if TYPE_CHECKING:
    from hooper.site.model import Site

ENTRIES = register(
    *group(
        "line",
        (
            "line-not-public",
            "error",
            "a fixed address of the line is not a public one",
            "Nobody outside can send a packet to an address that is not public.",
            "Give the line's public address, or ask the provider for one.",
        ),
        (
            "line-behind-carrier",
            "error",
            "the provider shares one public address among many (carrier NAT)",
            "Packets from outside end at the provider's box.",
            "Take the first of the remaining ways: IPv6, a public address, a tunnel out to a rented machine.",
        ),
        (
            "line-shares-ports",
            "error",
            "the line has only some ports of a shared address",
            "The address belongs to many, and the provider decides on ports.",
            "Ask which ports are yours, or take another way.",
        ),
        (
            "line-without-ipv4",
            "error",
            "the line has no IPv4 address",
            "There is nothing that an IPv4 packet could be sent to.",
            "Use IPv6, or ask the provider for an IPv4 address.",
        ),
        (
            "line-behind-router",
            "warning",
            "another router stands before the outermost one",
            "Every box on the way needs the rule, planned for or not.",
            "Add that router to the site file, or have it bridge.",
        ),
        (
            "line-passed-over",
            "note",
            "a service goes by a later line, since the first cannot be forwarded to",
            "Whoever uses it comes by that line's address and speed.",
            "Write `line` at the service, so that it stays there.",
        ),
        (
            "resolver-unusable",
            "warning",
            "a DNS server that cannot work",
            "Without names no update, no certificate and no clock from the network works.",
            "Give the gateway's address or one of the provider's or another resolver.",
        ),
        (
            "resolver-silent",
            "warning",
            "a DNS server that does not answer",
            "What asks it first waits for seconds, or has no names at all.",
            "Give another one, or see why it does not answer.",
        ),
        (
            "resolver-differs",
            "warning",
            "this machine's DNS server says something else than the others",
            "A name that is right outside is wrong here, or the other way round.",
            "Wait for the TTL after a change; else use another resolver.",
        ),
        (
            "way-out-by-tunnel",
            "warning",
            "this machine goes out through a tunnel",
            "What it shows to the world is the tunnel's end, so a test from here is not one of the line.",
            "Switch the tunnel off while you test.",
        ),
        (
            "address-differs",
            "error",
            "the public address is another than what is written, or than what the router says",
            "People are sent to an address at which nothing of yours answers.",
            "Correct the site file, or what the router was told to say.",
        ),
        (
            "line-has-two-addresses",
            "warning",
            "machines outside see two public addresses",
            "Rules and names are for one of them, and packets may leave by the other.",
            "Find out which line comes in, and let the name lead to that one.",
        ),
        (
            "box-not-in-file",
            "warning",
            "a router on the way is not in the site file",
            "It needs its rules too, and nothing is planned for it.",
            "Add it to the site file.",
        ),
        (
            "gateway-not-on-the-way",
            "warning",
            "a gateway of the site file is not on the way",
            "Rules are planned for a box that no packet passes.",
            "Take it out of the site file, or correct what stands behind what.",
        ),
    ),
)

SITUATIONS = {
    "carrier-nat": ("line-behind-carrier", "the provider shares one public address among many customers (carrier NAT)"),
    "shared-ports": ("line-shares-ports", "the public address is shared, and only some of its ports are this line's"),
    "no-ipv4": ("line-without-ipv4", "the line has no IPv4 address"),
}


def address_differs(line: str, claim: SourcedAddress, seen: SourcedAddress, *, fresh: bool = True) -> Finding:
    """What is written, or said by a router, against what was looked at. seen: the better evidence; fresh: of now."""
    if claim.how == "written":
        said = f"the site file says {claim.value}"
        remedy = f'Correct `address` in [lines.{line}]: write all that the line has, or "dynamic" where it changes.'
    else:
        said = f"{claim.source} says {claim.value}"
        remedy = "Look on its status page: it may have been told to say so, or have a second line or a VPN."
    message = f"{said}, but it is {seen.value} ({seen.source})"
    return finding(
        "address-differs", f"lines.{line}", message, remedy, severity=None if seen.measured and fresh else "warning"
    )


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on the lines."""
    site = facts.site
    for key, line in sorted(site.lines.items()):
        for address in line.address:
            kind = classify(address)
            if not kind.reachable:
                yield finding(
                    "line-not-public",
                    f"lines.{key}",
                    f"{address} is not a public address: it is {kind.meaning} ({kind.source})",
                    in_one_sentence(ways_left(bool(line.prefix6) or None, bridge=kind.key == "private")),
                )
        if line.situation in CANNOT_FORWARD:
            used = sorted(name for name, way in facts.ways.items() if way.line == key)
            code, message = SITUATIONS[line.situation]
            hit = f": {', '.join(used[:5])} cannot be reached over IPv4" if used else ""
            yield finding(
                code,
                f"lines.{key}",
                message + hit,
                in_one_sentence(ways_left(bool(line.prefix6) or None)),
                severity=None if used else "note",
            )
    passed = {(way.passed, way.line): name for name, way in sorted(facts.ways.items(), reverse=True) if way.passed}
    for (lines, taken), first in passed.items():
        yield finding(
            "line-passed-over",
            f"services.{first}",
            f"it comes in by {taken}, since {' and '.join(lines)} cannot be forwarded to",
            f'Write `line = "{taken}"` at the services that are to stay there.',
        )
    yield from _resolvers(site)


def _resolvers(site: Site) -> Iterator[Finding]:
    for number, (address, _) in enumerate(site.measure.resolvers):
        yield from _resolver(site, f"measure.resolvers[{number}]", address)
    for key, gateway in sorted(site.gateways.items()):
        for address in gateway.dns:
            yield from _resolver(site, f"gateways.{key}.dns", address)


def why_unusable(site: Site, address: IPAddress) -> str | None:
    """Why a DNS server of that address cannot be asked from the site; None: nothing is known against it."""
    kind = classify(address)
    known = any(address in gateway.lan.network for gateway in site.gateways.values())
    if any(
        address in (gateway.lan.network.network_address, gateway.lan.network.broadcast_address)
        for gateway in site.gateways.values()
    ):
        return "is a network's own or its broadcast address"
    if not kind.reachable and kind.key not in ("private", "carrier"):
        return f"is {kind.meaning}"
    if kind.key == "private" and address.version == 4 and not known:
        return "is private and on none of the site's networks"
    return None


def _resolver(site: Site, subject: str, address: IPAddress) -> Iterator[Finding]:
    wrong = why_unusable(site, address)
    if wrong:
        remedy = "Give the gateway's own address, the provider's server, or another one on the internet."
        yield finding("resolver-unusable", subject, f"the DNS server {address} {wrong}", remedy)
