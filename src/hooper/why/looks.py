"""What was seen of one service, as looks with their outcomes, for the judgement of all evidence. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Any, NamedTuple

from hooper.addresses import IPAddress, parse_address
from hooper.certs.problems import CODES
from hooper.check.results import SPEECH, IcmpSeen, Result
from hooper.evidence.worlds import Footing
from hooper.line.judging import situation
from hooper.sourced import Sourced
from hooper.why.case import ORDER, THERE, Case
from hooper.why.router_rules import told_rule, wrong_by

LINES = {"carrier-nat": "carrier", "shared-ports": "shared", "no-ipv4": "none"}
PROHIBITED = ((3, 9), (3, 10), (3, 13))  # RFC 1812 section 5.2.7.1: forbidden by an administrator

INSIDE = ("way-in", "inside", "transports", "loopback", "mac", "host-at", "mac-at", "server-key", "server-peer")
PROOFS = {
    ("others", "yes"),
    ("host-reached", "yes"),
    ("hairpin", "same"),
    ("stand-in", "reached"),
    ("line", "public"),
}  # of a line


class LookMade(NamedTuple):
    """now: it was made, or told, in this run. old: so long ago that it rules nothing out, and makes it unlikely."""

    look: str
    outcome: str
    now: bool = True
    old: bool = False


def _told(look: str, outcome: str, told: Sourced[Any], now: datetime) -> LookMade:
    return LookMade(look, outcome, told.now(now), not told.fresh(now))


def footing(case: Case, *, public: bool) -> Footing:
    """What of the plan decides what can be wrong. public: the way from outside is judged too."""
    facts, service = case.facts, case.site.services[case.facts.service]
    return Footing(
        case.ruled if public else (),
        public,
        facts.tunnel_from is not None,
        service.used_transport == "both",
        service.host in case.site.hosts,
        facts.tunnel is not None,
        facts.entered,
    )


def looks(case: Case, *, public: bool) -> Iterator[LookMade]:
    """Each look that was made."""
    facts = case.facts
    yield from _inside(case)
    if facts.tunnel is not None and facts.tunnel.key is not None:
        yield LookMade("server-key", "right" if facts.tunnel.key else "other")
    if facts.tunnel is not None and facts.tunnel.probe is not None:
        yield LookMade("server-peer", "known" if facts.tunnel.probe else "unknown")
    if not public:
        return
    if facts.outside is not None and (outcome := _outside(case, facts.outside)) is not None:
        yield LookMade("outside", outcome)
    yield from _line(case)
    for transport, told in facts.ways.items():
        if facts.outside is not None and transport == facts.outside.transport:
            yield _told("stand-in", "reached" if told.value == "answered" else "not", told, facts.line.now)
    yield from _routers(case)


def _inside(case: Case) -> Iterator[LookMade]:
    facts, now = case.facts, case.facts.line.now
    inside, host = facts.inside, case.site.devices[case.site.services[facts.service].host]
    if facts.answers_by and inside is not None and inside.verdict == "refused":
        yield from (LookMade("inside", "same"), LookMade("transports", "one"))
    elif inside is not None and inside.verdict != "unproven":
        word = _word(inside)
        yield LookMade("inside", "same" if word == "kind" else word)
    answers = inside is not None and inside.verdict in THERE  # then it is there, whatever was told once
    yield LookMade("way-in", "lan" if facts.tunnel_in is None else "tunnel")
    if facts.at_loopback in (*THERE, "refused", "silent"):
        answers_itself = "alone" if inside is not None and inside.verdict == "refused" else "same"
        yield LookMade("loopback", answers_itself if facts.at_loopback in THERE else str(facts.at_loopback))
    if facts.nobody_inside and not answers:
        yield LookMade("mac", "none")
    elif facts.mac_seen is not None and host.mac is not None and not facts.doubtful:
        yield LookMade("mac", "planned" if facts.mac_seen == host.mac else "other")
    if facts.host_at is not None and not answers:
        at = parse_address(facts.host_at.value)
        ours = any(at in gateway.lan.network for gateway in case.site.gateways.values())
        word = "planned" if at == host.address else "elsewhere" if ours else "apart"
        yield _told("host-at", word, facts.host_at, now)
    if facts.elsewhere is not None and not answers:
        yield LookMade("mac-at", "elsewhere")


def _outside(case: Case, outside: Result) -> str | None:
    """What a look at the public address comes to; None: nothing."""
    icmp = outside.evidence.icmp
    if outside.verdict == "unproven" or outside.expected == "unreachable":
        return None
    if outside.verdict in THERE and not all(own_fault(case, fault) for fault in outside.problems):
        return "other"
    if outside.verdict == "mismatched" and outside.problems:
        return "other"
    inside = case.facts.inside
    if outside.verdict == "connected" and not outside.ok and inside is not None and inside.verdict == "answered":
        return "stuck"
    if icmp is None or outside.verdict in THERE:
        return _word(outside)
    barred = (icmp.type, icmp.code) in PROHIBITED
    if not is_ours(case, icmp):
        return "barred" if barred else "stopped"
    return "forbidden" if barred else "nobody" if outside.verdict == "silent" else _word(outside)


def is_ours(case: Case, icmp: IcmpSeen) -> bool:
    """Whether an ICMP message comes from behind the public address: a NAT puts that in, or forgets to."""
    outside, own = case.facts.outside, [gateway.lan.network for gateway in case.site.gateways.values()]
    if icmp.by is None or outside is None:
        return False
    return icmp.by == outside.target_address or any(parse_address(icmp.by) in network for network in own)


def _word(result: Result) -> str:
    faults = set(result.problems) - set(CODES)
    if faults:
        return "other" if "address-taken" in faults else "faulty"
    if result.verdict in THERE:
        return "kind" if result.identity == "kind" else "same"
    if result.verdict != "mismatched":
        return result.verdict
    kind = (result.looks_like or "").partition(":")[0]
    return {"gateway": "router", "service": "ours"}.get(kind, "other") if result.fingerprint is not None else "other"


def _line(case: Case) -> Iterator[LookMade]:
    facts, line = case.facts, case.facts.line
    kind, can_forward = situation(line)
    told = line.wan.get(line.chain[0]) if line.chain else None
    if facts.others or facts.host_reached:  # something of this line answers, whatever was told of it
        yield LookMade("line", "public")
    elif kind in LINES or can_forward:
        word = LINES.get(kind, "public")
        yield LookMade("line", word) if told is None else _told("line", word, told, line.now)
    if line.stun_silent and not facts.others and not facts.host_reached:
        yield LookMade("asked-out", "no")
    elif line.public.value is not None and line.public.measured:
        yield LookMade("asked-out", "yes")
    yield LookMade("goes-by", "site" if line.goes_by is None else "other")
    if facts.others is not None:
        yield LookMade("others", "yes" if facts.others else "no")
    if facts.host_reached:
        yield LookMade("host-reached", "yes")
    if facts.hairpin is not None and facts.hairpin.same is True:
        yield LookMade("hairpin", "same")
    if listed(case):
        yield LookMade("listed", "yes")


def line_proven(case: Case) -> bool:
    """Whether what is sent to the public address surely reaches the outermost gateway."""
    return bool(PROOFS & {(one.look, one.outcome) for one in looks(case, public=True) if not one.old})


def listed(case: Case) -> bool:
    """Whether the site file says that the provider drops what comes in at the port that was looked at."""
    outside, line = case.facts.outside, case.site.lines[case.facts.line.line]
    return outside is not None and any(
        blocked.transport in (outside.transport, "both") and blocked.ports.first <= outside.port <= blocked.ports.last
        for blocked in line.blocked
    )


def _routers(case: Case) -> Iterator[LookMade]:
    line = case.facts.line
    for gateway in case.ruled:
        state, told = told_rule(case, gateway)
        if told is not None and state is not None:
            word = wrong_by(case, gateway, told.value) if state == "wrong" else state
            old = state != "ticked" and not told.fresh(line.now)
            yield LookMade(f"rule@{gateway}", word, told.now(line.now), old)
    for key, _, planned, said in inner_wans(case):
        now = said.now(line.now)  # it may have moved since
        yield LookMade(f"wan@{key}", "planned" if parse_address(said.value) == planned else "moved", now, not now)


def inner_wans(case: Case) -> Iterator[tuple[str, str, IPAddress, Sourced[str]]]:
    """Each inner router of whose outer address something was told: its key, that of the router before it, the address
    that the plan has, and what was told.
    """
    line = case.facts.line
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        planned, said = case.site.gateways[key].wan_behind(outer), line.wan.get(key)
        if said is not None and planned is not None and key in case.ruled:
            yield key, outer, planned, said


NAMED = {
    "name-stale": "stale", "name-contested": "contested", "name-missing": "missing", "name-has-others": "others",
    "name-other-family": "family", "resolver-broken": "resolver", "name-private": "private",
}  # fmt: skip


def name_look(case: Case) -> Iterator[LookMade]:
    """What the step of the name, which has its own causes, comes to."""
    found = sorted((cause for cause in case.causes if cause.code in NAMED), key=lambda cause: ORDER[cause.certainty])
    if found or case.steps["name"].state == "ok":
        yield LookMade("name", NAMED[found[0].code] if found else "right")


def own_fault(case: Case, fault: str) -> bool:
    """Whether what was seen outside looks like the service's own, and not like that of somebody in its place: it shows
    it at home too, or it was seen at home and speaks alike.
    """
    outside, inside = case.facts.outside, case.facts.inside
    proven = outside is not None and outside.identity == "proven"
    alike = inside is not None and (fault in inside.problems or (fault not in SPEECH and inside.verdict in THERE))
    return proven or alike


def surely_own(case: Case, look: Result, fault: str) -> bool:
    """Whether it was the device itself that answered with it: else it may be somebody else's."""
    facts, host = case.facts, case.site.devices[case.site.services[case.facts.service].host]
    there = host.mac is not None and facts.mac_seen == host.mac and not facts.doubtful
    return look.identity == "proven" or (there and facts.inside is not None and fault in facts.inside.problems)
