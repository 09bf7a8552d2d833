"""Judging a line: the numbers that people compare, the situation, and whether forwarding can work at all. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_network

from hooper import deeds
from hooper.addresses import IPAddress, classify, parse_address
from hooper.comparison import Comparison, Side
from hooper.line.facts import LineFacts
from hooper.line.situation import LineJudged, Situation, judge
from hooper.line.sources import PublicAddress
from hooper.planning.findings import finding, finds, rank
from hooper.planning.values import Finding
from hooper.planning.ways import WayIn, in_one_sentence, ways_left
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.catalogue import Severity
from hooper.words.said import Said, quoted, say, together

CODES = {"carrier-nat": "line-behind-carrier", "shared-ports": "line-shares-ports", "no-ipv4": "line-without-ipv4"}
# the jobs of a survey by which routers tell of themselves
ASKING_ROUTERS = ("the-routers-by-upnp", "the-routers-by-nat", "routers-further-out")
SENTENCES: dict[str, Said] = {
    "public": say("this-machine-itself-has"),
    "one-nat": say("one-router-stands-between"),
    "several-nats": say("several-routers-stand-in"),
    "carrier-nat": say("the-provider-keeps-the"),
    "shared-ports": say("the-provider-shares-the"),
    "no-ipv4": say("the-outermost-router-has"),
    "unclear": say("it-is-not-clear"),
}


@dataclass(frozen=True, slots=True)
class Missing:
    """A number that only a person can read.

    where: it usually stands there. option: how it is given. number: what is missing.
    """

    gateway: str
    number: Said
    where: Said
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
        meaning = say("all-servers-see-one") if same else say("two-public-addresses-two")
        yield Comparison(
            _known(say("public-address-itself"), first), _known(say("public-address-itself"), second), same, meaning
        )
    if measured.tunnel_shows is not None:
        left, right = (
            _known(say("through", tunnel=measured.tunnel), measured.tunnel_shows),
            _known(say("by-the-line"), facts.public),
        )
        alike = None if facts.public.value is None else measured.tunnel_shows.value == facts.public.value
        meaning = say("this-machine-goes-out", tunnel=measured.tunnel)
        yield Comparison(left, right, alike, meaning)
    if facts.own6.value is not None and facts.public6.value is not None:
        same = facts.own6.value == facts.public6.value
        meaning = say("ipv6-arrives-as-it") if same else say("something-on-the-way")
        yield Comparison(
            _known(say("own-ipv6-address"), facts.own6), _known(say("seen-by-outside"), facts.public6), same, meaning
        )
    prefix = site.lines[facts.line].prefix6 if facts.line in site.lines else None
    if facts.own6.value is not None and prefix is not None and facts.at is not None:
        same = facts.own6.value in ip_network(str(prefix), strict=False)
        right = Side(say("the-lines-prefix"), str(prefix), say("site-file"))
        meaning = say("it-is-of-the") if same else say("the-provider-has-given")
        yield Comparison(_known(say("own-ipv6-address"), facts.own6), right, same, meaning)


def _hops_compared(facts: LineFacts, least: int, most: int | None) -> Comparison:
    chain = len(facts.chain)
    shown = (
        str(least)
        if least == most
        else str(say("or-more", least=least) if most is None else say("from-to", least=least, most=most))
    )
    left, right = (
        Side(say("routers-on-the-way"), shown, say("hops")),
        Side(say("in-the-site-file"), str(chain), say("site-file")),
    )
    if least == most == chain:
        return Comparison(left, right, True, say("the-public-address-is"))
    if least > chain:
        return Comparison(left, right, False, say("more-routers-than-the"))
    if most is not None and most < chain:
        return Comparison(left, right, False, say("the-public-address-is-nearer"))
    return Comparison(left, right, None, say("some-routers-do-not"))


def _resolvers_compared(facts: LineFacts) -> Iterator[Comparison]:
    """Each of this computer's resolvers against what the names' address was taken from."""
    for said in facts.measured.resolvers if facts.measured is not None else ():
        for name, answers in said.answers.items():
            known = facts.names.get(name)
            if said.told_by == "site" or known is None or _said_by(known, said.address):
                continue
            if known.value is None and not known.absent:
                continue
            shown = answers[0] if answers else None
            left = Side(
                say("here", name=name), str(shown) if shown else "none", say("own-resolver", server=said.address)
            )
            right = Side(quoted(name), str(known.value) if known.value else "none", known.source)
            same = shown == known.value
            meaning = say("this-machines-resolver-says") if same else say("this-machines-resolver-says-something")
            yield Comparison(left, right, same, meaning)


def _said_by(known: SourcedAddress, resolver: IPAddress) -> bool:
    """Whether what is known comes from that resolver."""
    return dict(known.source.values).get("server") == str(resolver)


def _known(what: Said, known: SourcedAddress) -> Side:
    return Side(what, str(known.value) if known.value is not None else None, known.source)


def _own_gateway(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    if facts.at is None:
        return
    wanted = site.gateways[facts.at].lan.ip
    left = _known(say("this-machines-gateway"), facts.default_gateway)
    right = Side(say("lan-address", at=facts.at), str(wanted), say("site-file"))
    if facts.default_gateway.value is None:
        yield Comparison(left, right, None, say("this-machine-does-not"))
    elif facts.default_gateway.value == wanted:
        yield Comparison(left, right, True, say("this-machine-is-behind", at=facts.at))
    else:
        meaning = say("this-machines-way-out")
        yield Comparison(left, right, False, meaning)


def _inner_wans(site: Site, facts: LineFacts) -> Iterator[Comparison]:
    for outer, key in zip(facts.chain, facts.chain[1:], strict=False):
        planned, told = site.gateways[key].wan_behind(outer), facts.wan.get(key)
        left = Side(say("wan-address-in-the", key=key), str(planned), say("site-file"))
        right = _told(say("router-wan-address", gateway=key), told, facts)
        if told is None:
            continue
        equal = parse_address(told.value) == planned
        meaning = (
            say("the-rules-of-lead", outer=outer)
            if equal
            else say("the-rules-of-lead-to", outer=outer, planned=planned, key=key)
        )
        yield Comparison(left, right, equal, meaning)


def _told(what: Said, told: Sourced[str] | None, facts: LineFacts) -> Side:
    return Side(what, told.value if told else None, told.words(facts.now) if told else say("not-told-yet"))


def _outer_wan(facts: LineFacts) -> Comparison:
    outermost, told, public = facts.chain[0], outer_wan(facts), facts.outside
    left = _told(say("router-wan-address", gateway=outermost), told, facts)
    right = _known(
        say("public-address-itself"),
        facts.public if public is not None else Sourced(None, say("nobody-outside-said-it")),
    )
    if told is None:
        meaning = say("read-the-wan-address", gateway=outermost, wan_address=deeds.WAN_ADDRESS(outermost))
        return Comparison(left, right, None, meaning)
    wan = parse_address(told.value)
    kind = classify(wan)
    if not kind.reachable:
        meaning = say("is-between-and-the", wan=wan, meaning=kind.meaning, source=kind.source, outermost=outermost)
        return Comparison(left, right, None if public is None else False, meaning)
    if public is None:
        return Comparison(left, right, None, say("has-a-public-address", outermost=outermost))
    if wan == public:
        return Comparison(left, right, True, say("has-the-public-address", outermost=outermost))
    meaning = say("two-lines-a-vpn")
    return Comparison(left, right, False, meaning)


def names_compared(facts: LineFacts) -> Iterator[Comparison]:
    """Each name of the line against its public address."""
    for name, known in facts.names.items():
        left, right = _known(quoted(name), known), _known(say("public-address-itself"), facts.public)
        if known.absent:
            yield Comparison(left, right, False, say("the-name-has-no"))
        elif known.value is None:
            yield Comparison(left, right, None, say("nobody-gave-an-address"))
        elif facts.public.value is None:
            yield Comparison(left, right, None, say("the-public-address-is-not"))
        elif facts.public.how == "named":
            yield Comparison(left, right, None, say("the-public-address-is-known"))
        elif known.value == facts.public.value:
            yield Comparison(left, right, True, say("the-name-leads-to"))
        else:
            yield Comparison(left, right, False, say("the-name-leads-somewhere"))


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
    said = together(judged.evidence)
    if judged.kind in CODES:
        down = judged.kind == "no-ipv4"
        remedy = say("look-at-the-routers") if down else quoted(in_one_sentence(ways_for(facts)))
        likely: Severity | None = None if judged.can_forward is False else "warning"
        message = (
            say("of-a-service", name=said, what=SENTENCES[judged.kind])
            if likely is None
            else say("likely-not-proven", said=said)
        )
        found.append(finding(CODES[judged.kind], subject, message, remedy, severity=likely))
    elif judged.box_before and judged.can_forward is None:
        remedy = say("add-that-router-to")
        found.append(finding("line-behind-router", f"gateways.{outermost}", said, remedy))
    elif judged.box_before:
        remedy = say("add-it-to-the")
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
        shows = say("where-it-shows", value=measured.tunnel_shows.value) if measured.tunnel_shows is not None else ""
        yield finds("way-out-by-tunnel", "site", tunnel=measured.tunnel, shows=shows)
    addresses = dict.fromkeys(str(known.value) for known in measured.seen)
    if len(addresses) > 1:
        message = say("machines-outside-see", addresses=addresses)
        remedy = say("find-out-which-line")
        yield finding("line-has-two-addresses", subject, message, remedy)
    count = measured.nats[1] if measured.nats is not None else None
    if judged.can_forward and facts.at is not None and count is not None and count < len(facts.chain):
        keys = ", ".join(facts.chain[: len(facts.chain) - count])
        message = say("stands-in-the-site", keys=keys, count=count)
        yield finding("gateway-not-on-the-way", f"gateways.{facts.chain[0]}", message, say("gateway-not-on-the-way.do"))


def _resolver_findings(facts: LineFacts) -> Iterator[Finding]:
    for said in facts.measured.resolvers if facts.measured is not None else ():
        where = say("this-machines") if said.told_by == "machine" else say("the-site-files")
        subject = "site" if said.told_by == "machine" else "measure.resolvers"
        if said.state == "unusable":
            message = say("dns-server-is", where=where, address=said.address, meaning=classify(said.address).meaning)
            remedy = say("give-this-machine-the")
            yield finding("resolver-unusable", subject, message, remedy)
        elif said.state in ("silent", "failing"):
            message = say("dns-server", where=where, address=said.address) + (
                say("does-not-answer") if said.state == "silent" else "fails"
            )
            yield finding("resolver-silent", subject, message)
    for row in _resolvers_compared(facts):
        if row.equal is False:
            message = say(
                "says-for",
                source=row.left.source,
                value=row.left.value,
                what=row.right.what,
                right_source=row.right.source,
                right_value=row.right.value,
            )
            remedy = say("wait-for-the-ttl")
            yield finding("resolver-differs", "site", message, remedy)


def _name_findings(facts: LineFacts) -> Iterator[Finding]:
    for row in names_compared(facts):
        if row.equal is False:
            shown = say("is", value=row.left.value) if row.left.value is not None else say("has-no-address")
            message = say(
                "name-differs", what=row.left.what, shown=shown, value=row.right.value or say("not-known-yet")
            )
            remedy = say("publishes-it-where-hooper")
            yield finding("name-behind", f"names.{row.left.what['text']}", message, remedy)


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
    where = say("on-the-page-of", key=key, ip=gateway.lan.ip)
    where += say("external-or-internet-address")
    if gateway.managed_by == "provider":
        where += say("where-the-box-has")
    return Missing(key, say("wan-address-itself"), where, f"{deeds.WAN_ADDRESS(key)}")


def remarks(site: Site, facts: LineFacts) -> Iterator[Said]:
    """What was noticed beside the numbers: who does not answer and why that may be, what else the NAT does."""
    measured = facts.measured
    if measured is None or facts.at is None:
        return
    mute = [key for key in reversed(facts.chain) if key not in measured.boxes and site.gateways[key].control != "hand"]
    for key, gateway in site.gateways.items():
        if facts.at in gateway.behind:
            yield say("this-machine-stands-between", at=facts.at, key=key)
    mute = [] if any(missing.code in ASKING_ROUTERS for missing in measured.outstanding) else mute
    if mute:
        yield (say("answers-neither-upnp-nor", mute=mute))
    for key, told in facts.wan.items():
        if told.how == "told" and not told.now(facts.now):
            again = say("takes-it-back", wan_taken_back=deeds.WAN_TAKEN_BACK(key))
            yield say("used-here-was-told", key=key, value=told.value, age=told.age(facts.now), again=again)
    for key, claim in measured.claims.items():
        yield (say("tells-the-wan-address", key=key, wan=claim.wan, by=claim.by))
    for key, said in measured.boxes.items():
        if site.gateways[key].control == "hand":
            yield say("answers-with-control-left", key=key, control=said.control)
        if said.down and said.wan is None and key == facts.chain[0]:
            yield say("says-that-it-has", key=key)
        if said.between:
            yield say("says-by-pcp-that", key=key)
    for box in measured.revealed:
        speaks = say("and-answers", control=box.control) if box.control else say("and-answers-nothing")
        yield say("the-router-stands-on", address=box.address, speaks=speaks)
    if facts.own6.value is not None and facts.public6.value is None:
        yield say("whether-ipv6-works-outward", source=facts.public6.source)
