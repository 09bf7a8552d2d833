"""Judging a line: the numbers that people compare, the situation, and whether forwarding can work at all. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from hooper.addresses import IPAddress, classify, parse_address
from hooper.planning.catalogue import finding, rank
from hooper.planning.looks.line import remaining_ways
from hooper.planning.model import Finding
from hooper.reach.facts import Known, LineFacts, Told
from hooper.site.model import Site

Situation = Literal["public", "one-nat", "several-nats", "carrier-nat", "shared-ports", "no-ipv4", "unclear"]
SENTENCES: dict[str, str] = {
    "public": "This machine itself has the public address: nothing has to be forwarded.",
    "one-nat": "One router stands between this machine and the internet, and it has the public address.",
    "several-nats": "Several routers stand in a row, and the outermost has the public address: each needs its rule.",
    "carrier-nat": "The provider keeps the public address for itself (carrier NAT): no rule of yours can be reached.",
    "shared-ports": "The provider shares the IPv4 address among customers (DS-Lite): no rule of yours can be reached.",
    "no-ipv4": "The outermost router has no IPv4 address: the line is down, or it has IPv6 only.",
    "unclear": "It is not clear yet whether the outermost router has the public address.",
}


@dataclass(frozen=True, slots=True)
class Side:
    """One number of a comparison. value: null where it is not known; source: where it comes from."""

    what: str
    value: str | None
    source: str


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two numbers that should be the same, and what it means that they are or are not. equal: null: not known."""

    left: Side
    right: Side
    equal: bool | None
    meaning: str


@dataclass(frozen=True, slots=True)
class Addresses:
    ipv4: str | None
    ipv6: str | None


@dataclass(frozen=True, slots=True)
class GatewayRow:
    """A gateway of the chain. control: the protocols by which it answers. source: whether it was seen, or told."""

    gateway: str
    address: str
    wan_address: str | None
    control: tuple[str, ...]
    source: Literal["measured", "told"]


@dataclass(frozen=True, slots=True)
class SurveyDocument:
    """`hooper survey`. can_forward: whether a rule on the routers can work; null: not known yet."""

    own_address: Addresses
    public_address: Addresses
    gateways: tuple[GatewayRow, ...]
    situation: Situation
    can_forward: bool | None
    comparisons: tuple[Comparison, ...]
    findings: tuple[Finding, ...]


def outer_wan(facts: LineFacts) -> Told | None:
    """What was told of the outermost gateway's outer address."""
    return facts.wan.get(facts.chain[0]) if facts.chain else None


def situation(facts: LineFacts) -> tuple[Situation, bool | None]:
    """What kind of line this is, and whether forwarding can work: true, false, or None for not known."""
    told, public = outer_wan(facts), facts.public.address
    if facts.own.address is not None and facts.own.address == public:
        return "public", True
    if told is None:
        if public is not None and classify(public).key == "carrier":
            return "carrier-nat", False
        return "unclear", None
    wan = parse_address(told.value)
    kind = classify(wan).key
    if kind == "unspecified":
        return "no-ipv4", False
    if kind == "dual-stack-lite":
        return "shared-ports", False
    if kind == "carrier":
        return "carrier-nat", False
    if not classify(wan).reachable:
        return "unclear", None  # private: another box of the user's own, or the provider's
    if public is not None and wan != public:
        return "unclear", None  # two lines, a VPN on this machine, or a number read before the address changed
    return ("one-nat" if len(facts.chain) == 1 else "several-nats"), True


def compare(site: Site, facts: LineFacts) -> list[Comparison]:
    """The comparisons that people make by eye, from the inside outward."""
    rows = [*_own_gateway(site, facts), *_inner_wans(site, facts)]
    if facts.chain:
        rows.append(_outer_wan(facts))
    return [*rows, *names_compared(facts)]


def _known(what: str, known: Known) -> Side:
    return Side(what, str(known.address) if known.address is not None else None, known.source)


def _own_gateway(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    if facts.at is None:
        return
    wanted = site.gateways[facts.at].lan.ip
    left = _known("this machine's gateway", facts.default_gateway)
    right = Side(f"{facts.at}, LAN address", str(wanted), "site file")
    if facts.default_gateway.address is None:
        yield Comparison(left, right, None, "This machine does not say which gateway it uses.")
    elif facts.default_gateway.address == wanted:
        yield Comparison(left, right, True, f"This machine is behind {facts.at}, as the site file says.")
    else:
        meaning = "This machine's way out is not the site's router: a VPN, another line, or another box."
        yield Comparison(left, right, False, meaning)


def _inner_wans(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    for outer, key in zip(facts.chain, facts.chain[1:], strict=False):
        planned, told = site.gateways[key].wan_behind(outer), facts.wan.get(key)
        left = Side(f"{key}, WAN address in the plan", str(planned), "site file")
        right = _told(f"{key}, WAN address on its page", told, facts)
        if told is None:
            continue
        equal = parse_address(told.value) == planned
        meaning = (
            f"The rules of {outer} lead to it."
            if equal
            else f"The rules of {outer} lead to {planned}, where {key} is no more."
        )
        yield Comparison(left, right, equal, meaning)


def _told(what: str, told: Told | None, facts: LineFacts) -> Side:
    return Side(what, told.value if told else None, f"told {told.age(facts.now)}" if told else "not told yet")


def _outer_wan(facts: LineFacts) -> Comparison:
    outermost, told, public = facts.chain[0], outer_wan(facts), facts.public.address
    left = _told(f"{outermost}, WAN address", told, facts)
    right = _known("public address", facts.public)
    if told is None:
        meaning = f"Read the WAN address on {outermost}'s status page and give it with --wan {outermost}=ADDRESS."
        return Comparison(left, right, None, meaning)
    wan = parse_address(told.value)
    kind = classify(wan)
    if not kind.reachable:
        meaning = f"{wan} is {kind.meaning} ({kind.source}): between {outermost} and the internet is another NAT."
        return Comparison(left, right, None if public is None else False, meaning)
    if public is None:
        return Comparison(left, right, None, f"{outermost} has a public address; nobody outside was asked about it.")
    if wan == public:
        return Comparison(left, right, True, f"{outermost} has the public address itself: it can be reached.")
    meaning = "Two lines, a VPN on this machine, or the WAN address has changed since it was read: read it again."
    return Comparison(left, right, False, meaning)


def names_compared(facts: LineFacts) -> Iterator[Comparison]:
    """Each name of the line against its public address."""
    for name, known in facts.names.items():
        left, right = _known(name, known), _known("public address", facts.public)
        if known.absent:
            yield Comparison(left, right, False, "The name has no address: it was never published, or it is misspelt.")
        elif known.address is None:
            yield Comparison(left, right, None, "Nobody gave an address for the name.")
        elif facts.public.address is None:
            yield Comparison(left, right, None, "The public address is not known, so the name cannot be judged.")
        elif facts.public.source == f"the name {name}":
            yield Comparison(
                left, right, None, "The public address is known by this name only: nothing to hold it against."
            )
        elif known.address == facts.public.address:
            yield Comparison(left, right, True, "The name leads to this line.")
        else:
            yield Comparison(left, right, False, "The name leads somewhere else: it was not updated, or not yet.")


def line_findings(facts: LineFacts) -> list[Finding]:
    """What is wrong with the line."""
    found: list[Finding] = []
    kind, _ = situation(facts)
    told, subject = outer_wan(facts), f"lines.{facts.line}"
    if kind in ("carrier-nat", "shared-ports"):
        code = "line-behind-carrier" if kind == "carrier-nat" else "line-shares-ports"
        shown = told.value if told is not None else str(facts.public.address)
        found.append(finding(code, subject, f"the outermost address is {shown}: {SENTENCES[kind]}", remaining_ways()))
    elif kind == "no-ipv4":
        remedy = "Look at the router's status page; if the line is up, ask the provider for an IPv4 address."
        found.append(finding("line-without-ipv4", subject, SENTENCES[kind], remedy))
    elif told is not None and not classify(parse_address(told.value)).reachable:
        message = f"{facts.chain[0]} has the private WAN address {told.value}: another router stands before it"
        remedy = "Add that router to the site file if it is yours; if it is the provider's, ask for a public address."
        found.append(finding("line-behind-router", f"gateways.{facts.chain[0]}", message, remedy))
    for row in names_compared(facts):
        if row.equal is False:
            shown = f"is {row.left.value}" if row.left.value is not None else "has no address"
            message = f"{row.left.what} {shown}, the public address is {row.right.value or 'not known'}"
            remedy = "`hooper name update` publishes it, where Hooper keeps the name; else have it updated there."
            found.append(finding("name-behind", f"names.{row.left.what}", message, remedy))
    return sorted(found, key=rank)


def document(site: Site, facts: LineFacts) -> SurveyDocument:
    """Everything that a survey says."""
    kind, can_forward = situation(facts)
    return SurveyDocument(
        own_address=Addresses(_text(facts.own.address), None),
        public_address=Addresses(_text(facts.public.address), None),
        gateways=tuple(_gateway_rows(site, facts)),
        situation=kind,
        can_forward=can_forward,
        comparisons=tuple(compare(site, facts)),
        findings=tuple(line_findings(facts)),
    )


def _text(address: IPAddress | None) -> str | None:
    return str(address) if address is not None else None


def _gateway_rows(site: Site, facts: LineFacts) -> Iterator[GatewayRow]:
    for at, key in enumerate(facts.chain):
        gateway, told = site.gateways[key], facts.wan.get(key)
        wan = told.value if told is not None else _text(gateway.wan_behind(facts.chain[at - 1] if at else facts.line))
        seen = facts.default_gateway.address == gateway.lan.ip
        yield GatewayRow(key, str(gateway.lan.ip), wan, (), "measured" if seen else "told")
