"""Findings on the lines: can they be forwarded to, and what remains where they cannot."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress, classify
from hooper.planning.facts import Facts
from hooper.planning.findings import finding, finds
from hooper.planning.paths import CANNOT_FORWARD
from hooper.planning.values import Finding
from hooper.planning.ways import in_one_sentence, ways_left
from hooper.sourced import SourcedAddress
from hooper.words.said import NOTHING, Said, quoted, say

if TYPE_CHECKING:
    from hooper.site.model import Site


SITUATIONS = {
    "carrier-nat": ("line-behind-carrier", say("the-provider-shares-one")),
    "shared-ports": ("line-shares-ports", say("the-public-address-is-shared")),
    "no-ipv4": ("line-without-ipv4", say("the-line-has-no")),
}


def address_differs(line: str, claim: SourcedAddress, seen: SourcedAddress, *, fresh: bool = True) -> Finding:
    """What is written, or said by a router, against what was looked at. seen: the better evidence; fresh: of now."""
    if claim.how == "written":
        said = say("the-site-file-says", value=claim.value)
        remedy = say("correct-address-in-lines", line=line)
    else:
        said = say("source-says", source=claim.source, value=claim.value)
        remedy = say("look-on-its-status")
    message = say("but-it-is", said=said, value=seen.value, source=seen.source)
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
                yield finds(
                    "line-not-public",
                    f"lines.{key}",
                    do=quoted(in_one_sentence(ways_left(bool(line.prefix6) or None, bridge=kind.key == "private"))),
                    address=address,
                    meaning=kind.meaning,
                    source=kind.source,
                )
        if line.situation in CANNOT_FORWARD:
            used = sorted(name for name, way in facts.ways.items() if way.line == key)
            code, message = SITUATIONS[line.situation]
            hit = say("cannot-be-reached-over", used=used[:5]) if used else NOTHING
            yield finding(
                code,
                f"lines.{key}",
                message + hit,
                quoted(in_one_sentence(ways_left(bool(line.prefix6) or None))),
                severity=None if used else "note",
            )
    passed = {(way.passed, way.line): name for name, way in sorted(facts.ways.items(), reverse=True) if way.passed}
    for (lines, taken), first in passed.items():
        yield finds("line-passed-over", f"services.{first}", taken=taken, lines=" and ".join(lines))
    yield from _resolvers(site)


def _resolvers(site: Site) -> Iterator[Finding]:
    for number, (address, _) in enumerate(site.measure.resolvers):
        yield from _resolver(site, f"measure.resolvers[{number}]", address)
    for key, gateway in sorted(site.gateways.items()):
        for address in gateway.dns:
            yield from _resolver(site, f"gateways.{key}.dns", address)


def why_unusable(site: Site, address: IPAddress) -> Said | None:
    """Why a DNS server of that address cannot be asked from the site; None: nothing is known against it."""
    kind = classify(address)
    known = any(address in gateway.lan.network for gateway in site.gateways.values())
    if any(
        address in (gateway.lan.network.network_address, gateway.lan.network.broadcast_address)
        for gateway in site.gateways.values()
    ):
        return say("is-a-networks-own")
    if not kind.reachable and kind.key not in ("private", "carrier"):
        return say("is-a", meaning=kind.meaning)
    if kind.key == "private" and address.version == 4 and not known:
        return say("is-private-and-on")
    return None


def _resolver(site: Site, subject: str, address: IPAddress) -> Iterator[Finding]:
    wrong = why_unusable(site, address)
    if wrong:
        remedy = say("give-the-gateways-own")
        yield finding("resolver-unusable", subject, say("resolver-unusable.says", address=address, wrong=wrong), remedy)
