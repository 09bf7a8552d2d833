"""What was seen of one service, as looks with their outcomes, for the judgement of all evidence. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from hooper.addresses import parse_address
from hooper.check.results import Result
from hooper.judging.worlds import Footing, Weighed, judged, rows
from hooper.line.judging import situation
from hooper.why.case import THERE, Case, Cause
from hooper.why.rules import told_rule, wrong_by
from hooper.why.way import PROHIBITED, is_ours
from hooper.words.said import general, say, together

LINES = {"carrier-nat": "carrier", "shared-ports": "shared", "no-ipv4": "none"}
NAMED = 3  # causes that are not ruled out, at most, in one sentence


def weighed(case: Case, seen: Mapping[str, str]) -> list[Cause]:
    """The causes, none of them certain while another one would have looked the same."""
    footing = Footing(case.ruled)
    known = {row.code for row in rows(footing) if "name" not in row.shows}  # of names, their own servers say all
    told = judged(footing, seen)
    return [
        _doubted(told, cause) if cause.certainty == "certain" and cause.code in known - told.certain else cause
        for cause in case.causes
    ]


def _doubted(told: Weighed, cause: Cause) -> Cause:
    others = [code for code, _ in told.causes if code != cause.code][:NAMED]
    if not others:  # it contradicts something else that was seen
        return replace(cause, certainty="likely", would_make_certain=say("look-once-more"))
    also = together((general("cause", code, "what") for code in others), ", ")
    return replace(cause, certainty="likely", would_make_certain=say("not-ruled-out", others=also))


def looks(case: Case) -> Iterator[tuple[str, str]]:
    """Each look that was made, with its outcome."""
    facts, now = case.facts, case.facts.line.now
    service = case.site.services[facts.service]
    host = case.site.devices[service.host]
    if facts.outside is not None and facts.outside.expected == "reachable":
        yield from _outside(case, facts.outside)
    if facts.inside is not None and facts.inside.verdict != "unproven":
        yield "inside", "same" if facts.inside.verdict in THERE else _word(facts.inside)
    if facts.at_loopback in (*THERE, "refused", "silent"):
        yield "loopback", "same" if facts.at_loopback in THERE else str(facts.at_loopback)
    if facts.mac_seen is not None and host.mac is not None and not facts.doubtful:
        yield "mac", "planned" if facts.mac_seen == host.mac else "other"
    if facts.host_at is not None and facts.host_at.now(now):
        at = parse_address(facts.host_at.value)
        ours = any(at in gateway.lan.network for gateway in case.site.gateways.values())
        yield "host-at", "planned" if at == host.address else "elsewhere" if ours else "apart"
    if facts.elsewhere is not None:
        yield "mac-at", "elsewhere"
    kind, can_forward = situation(facts.line)
    if facts.others or facts.host_reached:  # something of this line answers, whatever was told of it
        yield "line", "public"
    elif kind in LINES or can_forward:
        yield "line", LINES.get(kind, "public")
    if facts.others is not None:
        yield "others", "yes" if facts.others else "no"
    if facts.host_reached:
        yield "host-reached", "yes"
    if facts.hairpin is not None and facts.hairpin.same is True:
        yield "hairpin", "same"
    for transport, told in facts.ways.items():
        if facts.outside is not None and transport == facts.outside.transport and told.fresh(now):
            yield "stand-in", "reached" if told.value == "answered" else "not"
    yield from _routers(case)


def _outside(case: Case, outside: Result) -> Iterator[tuple[str, str]]:
    icmp = outside.evidence.icmp
    if outside.verdict in THERE:
        yield "outside", "same" if outside.identity == "proven" else "kind"
    elif outside.verdict != "unproven" and icmp is not None and not is_ours(case, icmp.by):
        yield "outside", "stopped"
    elif outside.verdict != "unproven" and icmp is not None and (icmp.type, icmp.code) in PROHIBITED:
        yield "outside", "forbidden"
    elif outside.verdict == "silent" and icmp is not None:
        yield "outside", "nobody"
    elif outside.verdict != "unproven":
        yield "outside", _word(outside)


def _word(result: Result) -> str:
    if result.verdict != "mismatched":
        return result.verdict
    kind = (result.looks_like or "").partition(":")[0]
    return {"gateway": "router", "service": "ours"}.get(kind, "other") if result.fingerprint is not None else "other"


def _routers(case: Case) -> Iterator[tuple[str, str]]:
    line = case.facts.line
    for gateway in case.ruled:
        state, told = told_rule(case, gateway)
        if told is not None and state not in (None, "ticked") and told.fresh(line.now):
            yield f"rule@{gateway}", wrong_by(case, gateway, told.value) if state == "wrong" else str(state)
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        planned, said = case.site.gateways[key].wan_behind(outer), line.wan.get(key)
        if said is not None and planned is not None and said.now(line.now) and key in case.ruled:
            yield f"wan@{key}", "planned" if parse_address(said.value) == planned else "moved"
