"""Findings on the lines: can they be forwarded to, and what remains where they cannot."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress, classify
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.paths import CANNOT_FORWARD
from hooper.planning.values import Finding
from hooper.planning.ways import in_one_sentence, ways_left
from hooper.sourced import SourcedAddress

if TYPE_CHECKING:
    from hooper.site.model import Site


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
