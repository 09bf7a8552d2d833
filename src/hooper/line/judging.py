"""Judging a line: the numbers that people compare, the situation, and whether forwarding can work at all. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_network

from hooper import deeds
from hooper.addresses import classify, parse_address
from hooper.comparison import Comparison, Side
from hooper.line.facts import LineFacts
from hooper.line.situation import LineJudged, Situation, judge
from hooper.line.sources import PublicAddress
from hooper.planning.findings import finding, rank
from hooper.planning.values import Finding
from hooper.planning.ways import WayIn, in_one_sentence, ways_left
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.catalogue import Severity

CODES = {"carrier-nat": "line-behind-carrier", "shared-ports": "line-shares-ports", "no-ipv4": "line-without-ipv4"}
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
class Missing:
    """A number that only a person can read.

    where: it usually stands there. option: how it is given. number: what is missing.
    """

    gateway: str
    number: str
    where: str
    option: str


def outer_wan(facts: LineFacts) -> Sourced[str] | None:
    """What was told of the outermost gateway's outer address."""
    return facts.wan.get(facts.chain[0]) if facts.chain else None


def situation(facts: LineFacts) -> tuple[Situation, bool | None]:
    """What kind of line this is, and whether forwarding can work: true, false, or None for not known."""
    judged = judge(facts)
    return judged.kind, judged.can_forward


def compare(site: Site, facts: LineFacts) -> list[Comparison]:
    """The comparisons that people make by eye, from the inside outward."""
    rows = [*_own_gateway(site, facts), *_inner_wans(site, facts)]
    if facts.chain and (outer_wan(facts) is not None or not judge(facts).can_forward):
        rows.append(_outer_wan(facts))  # else the hops have settled it
    astray = [row for row in _resolvers_compared(facts) if row.equal is False]
    return [*rows, *_measured_rows(site, facts), *names_compared(facts), *astray]


def _measured_rows(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    measured = facts.measured
    if measured is None:
        return
    if (nats := measured.nats) is not None and facts.at is not None:
        yield _hops_compared(facts, *nats)
    if len(measured.seen) > 1:
        first, second = measured.seen[0], next((k for k in measured.seen if k != measured.seen[0]), measured.seen[1])
        same = len({known.value for known in measured.seen}) == 1
        meaning = "All servers see one address." if same else "Two public addresses: two lines, or a NAT with several."
        yield Comparison(_known("public address", first), _known("public address", second), same, meaning)
    if measured.tunnel_shows is not None:
        left, right = _known(f"through {measured.tunnel}", measured.tunnel_shows), _known("by the line", facts.public)
        alike = None if facts.public.value is None else measured.tunnel_shows.value == facts.public.value
        meaning = f"This machine goes out through the tunnel {measured.tunnel}: what others see is the tunnel's end."
        yield Comparison(left, right, alike, meaning)
    if facts.own6.value is not None and facts.public6.value is not None:
        same = facts.own6.value == facts.public6.value
        meaning = (
            "IPv6 arrives as it was sent." if same else "Something on the way translates IPv6, or sends it elsewhere."
        )
        yield Comparison(_known("own IPv6 address", facts.own6), _known("seen outside", facts.public6), same, meaning)
    prefix = site.lines[facts.line].prefix6 if facts.line in site.lines else None
    if facts.own6.value is not None and prefix is not None and facts.at is not None:
        same = facts.own6.value in ip_network(str(prefix), strict=False)
        right = Side("the line's prefix", str(prefix), "site file")
        meaning = (
            "It is of the line's prefix." if same else "The provider has given another prefix, or it is a tunnel's."
        )
        yield Comparison(_known("own IPv6 address", facts.own6), right, same, meaning)


def _hops_compared(facts: LineFacts, least: int, most: int | None) -> Comparison:
    chain = len(facts.chain)
    shown = str(least) if least == most else f"{least} or more" if most is None else f"{least} to {most}"
    left, right = Side("routers on the way", shown, "hops"), Side("in the site file", str(chain), "site file")
    if least == most == chain:
        return Comparison(left, right, True, "The public address is as far away as the outermost gateway.")
    if least > chain:
        return Comparison(left, right, False, "More routers than the site file has stand before the public address.")
    if most is not None and most < chain:
        return Comparison(left, right, False, "The public address is nearer than the outermost gateway of the file.")
    return Comparison(left, right, None, "Some routers do not reveal themselves, so the hops cannot be counted.")


def _resolvers_compared(facts: LineFacts) -> Iterator[Comparison]:
    """Each of this machine's resolvers against what the names' address was taken from."""
    for said in facts.measured.resolvers if facts.measured is not None else ():
        for name, answers in said.answers.items():
            known = facts.names.get(name)
            if said.told_by == "site" or known is None or known.source.endswith(f"resolver {said.address}"):
                continue
            if known.value is None and not known.absent:
                continue
            shown = answers[0] if answers else None
            left = Side(f"{name} here", str(shown) if shown else "none", f"this machine's resolver {said.address}")
            right = Side(name, str(known.value) if known.value else "none", known.source)
            same = shown == known.value
            meaning = (
                "This machine's resolver says the same."
                if same
                else "This machine's resolver says something else: it is late, or it filters, or it leads you astray."
            )
            yield Comparison(left, right, same, meaning)


def _known(what: str, known: SourcedAddress) -> Side:
    return Side(what, str(known.value) if known.value is not None else None, known.source)


def _own_gateway(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    if facts.at is None:
        return
    wanted = site.gateways[facts.at].lan.ip
    left = _known("this machine's gateway", facts.default_gateway)
    right = Side(f"{facts.at}, LAN address", str(wanted), "site file")
    if facts.default_gateway.value is None:
        yield Comparison(left, right, None, "This machine does not say which gateway it uses.")
    elif facts.default_gateway.value == wanted:
        yield Comparison(left, right, True, f"This machine is behind {facts.at}, as the site file says.")
    else:
        meaning = "This machine's way out is not the site's router: a VPN, another line, or another box."
        yield Comparison(left, right, False, meaning)


def _inner_wans(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    for outer, key in zip(facts.chain, facts.chain[1:], strict=False):
        planned, told = site.gateways[key].wan_behind(outer), facts.wan.get(key)
        left = Side(f"{key}, WAN address in the plan", str(planned), "site file")
        right = _told(f"{key}, WAN address", told, facts)
        if told is None:
            continue
        equal = parse_address(told.value) == planned
        meaning = (
            f"The rules of {outer} lead to it."
            if equal
            else f"The rules of {outer} lead to {planned}, where {key} is no more."
        )
        yield Comparison(left, right, equal, meaning)


def _told(what: str, told: Sourced[str] | None, facts: LineFacts) -> Side:
    return Side(what, told.value if told else None, told.words(facts.now) if told else "not told yet")


def _outer_wan(facts: LineFacts) -> Comparison:
    outermost, told, public = facts.chain[0], outer_wan(facts), facts.outside
    left = _told(f"{outermost}, WAN address", told, facts)
    right = _known("public address", facts.public if public is not None else Sourced(None, "nobody outside said it"))
    if told is None:
        meaning = f"Read the WAN address on {outermost}'s status page and give it with {deeds.WAN_ADDRESS(outermost)}."
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
        elif known.value is None:
            yield Comparison(left, right, None, "Nobody gave an address for the name.")
        elif facts.public.value is None:
            yield Comparison(left, right, None, "The public address is not known, so the name cannot be judged.")
        elif facts.public.source == f"the name {name}":
            yield Comparison(
                left, right, None, "The public address is known by this name only: nothing to hold it against."
            )
        elif known.value == facts.public.value:
            yield Comparison(left, right, True, "The name leads to this line.")
        else:
            yield Comparison(left, right, False, "The name leads somewhere else: it was not updated, or not yet.")


def ways_for(facts: LineFacts) -> tuple[WayIn, ...]:
    """The ways in that are left on this line, where rules on its routers cannot work; else none."""
    if judge(facts).kind not in CODES:
        return ()
    nat = facts.measured.nat if facts.measured is not None else None
    prefix6 = True if facts.public6.value is not None else None
    return ways_left(prefix6, mapping=nat.mapping if nat is not None else None)


def line_findings(facts: LineFacts) -> list[Finding]:
    """What is wrong with the line."""
    judged, subject = judge(facts), f"lines.{facts.line}"
    outermost = facts.chain[0] if facts.chain else facts.line
    found: list[Finding] = []
    said = "; ".join(judged.evidence)
    if judged.kind in CODES:
        if judged.kind == "no-ipv4":
            remedy = "Look at the router's status page; if the line is up, ask the provider for an IPv4 address."
        else:
            remedy = in_one_sentence(ways_for(facts))
        likely: Severity | None = None if judged.can_forward is False else "warning"
        message = f"{said}: {SENTENCES[judged.kind]}" if likely is None else f"likely, not proven: {said}"
        found.append(finding(CODES[judged.kind], subject, message, remedy, severity=likely))
    elif judged.box_before and judged.can_forward is None:
        remedy = "Add that router to the site file if it is yours; if it is the provider's, ask for a public address."
        found.append(finding("line-behind-router", f"gateways.{outermost}", said, remedy))
    elif judged.box_before:
        remedy = "Add it to the site file as the outermost gateway: it needs its rules too."
        found.append(finding("box-not-in-file", f"gateways.{outermost}", said, remedy))
    written = tuple(pair for pair in facts.differs if pair[0].how == "written")  # the situation speaks of the others
    found += PublicAddress(facts.line, facts.public, written).findings()
    return sorted(
        [*found, *_seen_findings(facts, judged), *_resolver_findings(facts), *_name_findings(facts)], key=rank
    )


def _seen_findings(facts: LineFacts, judged: LineJudged) -> Iterator[Finding]:
    """On what the machines outside see."""
    measured, subject = facts.measured, f"lines.{facts.line}"
    if measured is None:
        return
    if measured.tunnel is not None:
        shows = f", where it shows {measured.tunnel_shows.value}" if measured.tunnel_shows is not None else ""
        yield finding(
            "way-out-by-tunnel",
            "site",
            f"this machine goes out through the tunnel {measured.tunnel}{shows}",
            "Switch the tunnel off to test from here; Hooper asks by the line itself, other programs do not.",
        )
    addresses = dict.fromkeys(str(known.value) for known in measured.seen)
    if len(addresses) > 1:
        message = f"machines outside see {' and '.join(addresses)}"
        remedy = "Find out which line comes in: set rules there, and let the name lead to it."
        yield finding("line-has-two-addresses", subject, message, remedy)
    count = measured.nats[1] if measured.nats is not None else None
    if judged.can_forward and facts.at is not None and count is not None and count < len(facts.chain):
        keys = ", ".join(facts.chain[: len(facts.chain) - count])
        message = f"{keys} stands in the site file, but not on the way: the public address is {count} hops away"
        yield finding("gateway-not-on-the-way", f"gateways.{facts.chain[0]}", message, "Take it out of the site file.")


def _resolver_findings(facts: LineFacts) -> Iterator[Finding]:
    for said in facts.measured.resolvers if facts.measured is not None else ():
        where = "this machine's" if said.told_by == "machine" else "the site file's"
        subject = "site" if said.told_by == "machine" else "measure.resolvers"
        if said.state == "unusable":
            message = f"{where} DNS server {said.address} is {classify(said.address).meaning}"
            remedy = "Give this machine the gateway's own address, or another resolver."
            yield finding("resolver-unusable", subject, message, remedy)
        elif said.state in ("silent", "failing"):
            message = f"{where} DNS server {said.address} " + ("does not answer" if said.state == "silent" else "fails")
            yield finding("resolver-silent", subject, message)
    for row in _resolvers_compared(facts):
        if row.equal is False:
            message = (
                f"{row.left.source} says {row.left.value} for {row.right.what}, {row.right.source} {row.right.value}"
            )
            remedy = "Wait for the TTL if the address has just changed; else use another resolver."
            yield finding("resolver-differs", "site", message, remedy)


def _name_findings(facts: LineFacts) -> Iterator[Finding]:
    for row in names_compared(facts):
        if row.equal is False:
            shown = f"is {row.left.value}" if row.left.value is not None else "has no address"
            message = f"{row.left.what} {shown}, the public address is {row.right.value or 'not known'}"
            remedy = f"`{deeds.PUBLISH}` publishes it, where Hooper keeps the name; else have it updated there."
            yield finding("name-behind", f"names.{row.left.what}", message, remedy)


def missing_numbers(site: Site, facts: LineFacts) -> Iterator[Missing]:
    """What a person has to read, because no router says it and the rest does not settle it. Exactly that."""
    judged = judge(facts)
    for outer, key in zip(facts.chain, facts.chain[1:], strict=False):
        if site.gateways[key].wan_behind(outer) is None and key not in facts.wan:
            yield _missing(site, key)
    if not facts.chain or judged.can_forward is not None:
        return
    outermost, told = facts.chain[0], outer_wan(facts)
    if told is None or (told.how == "told" and classify(parse_address(told.value)).reachable):
        yield _missing(site, outermost)


def _missing(site: Site, key: str) -> Missing:
    gateway = site.gateways[key]
    where = f"on the page of {key} (http://{gateway.lan.ip}), under Status, Internet or WAN; it may be called WAN IP,"
    where += " external or internet address"
    if gateway.managed_by == "provider":
        where += "; where the box has no page for you, the provider's customer page or hotline tells it"
    return Missing(key, "WAN address", where, f"{deeds.WAN_ADDRESS(key)}")


def remarks(site: Site, facts: LineFacts) -> Iterator[str]:
    """What was noticed beside the numbers: who does not answer and why that may be, what else the NAT does."""
    measured = facts.measured
    if measured is None or facts.at is None:
        return
    mute = [key for key in reversed(facts.chain) if key not in measured.boxes and site.gateways[key].control != "hand"]
    for key, gateway in site.gateways.items():
        if facts.at in gateway.behind:
            yield f"This machine stands between {facts.at} and {key}: {deeds.BETWEEN} tries {key} by itself."
    mute = [] if any("routers" in missing for missing in measured.outstanding) else mute
    if mute:
        yield (
            f"{' and '.join(mute)} answers neither UPnP nor NAT-PMP nor PCP: it is switched off there, or this"
            " computer's own firewall or a guest network drops the answers."
        )
    for key, told in facts.wan.items():
        if told.how == "told" and not told.now(facts.now):
            again = f"{deeds.WAN_TAKEN_BACK(key)} takes it back"
            yield f"Used here: {key} was told to have the WAN address {told.value}, {told.age(facts.now)}; {again}."
    for key, claim in measured.claims.items():
        yield (
            f"{key} tells the WAN address {claim.wan} ({claim.by}), which cannot be its own: another router stands"
            " before it. It was told to say so, and is not believed."
        )
    for key, said in measured.boxes.items():
        if site.gateways[key].control == "hand":
            yield f"{key} answers {', '.join(said.control)}: with `control` left out, Hooper can drive it."
        if said.down and said.wan is None and key == facts.chain[0]:
            yield f"{key} says that it has no public address: its line is down, or another NAT stands before it."
        if said.between:
            yield f"{key} says by PCP that a NAT stands between it and this machine that it was not told of."
    for box in measured.revealed:
        speaks = f", and answers {', '.join(box.control)}" if box.control else ", and answers nothing"
        yield f"The router {box.address} stands on the way and not in the site file{speaks}."
    if facts.own6.value is not None and facts.public6.value is None:
        yield f"Whether IPv6 works outward is not known: {facts.public6.source}."
