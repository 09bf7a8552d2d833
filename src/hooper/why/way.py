"""The way from outside to the host: the rules, the line, and what silence, refusals and strangers there mean. Pure."""

from __future__ import annotations

from hooper.addresses import parse_address
from hooper.check.results import IcmpSeen
from hooper.line.judging import outer_wan, situation
from hooper.line.situation import judge
from hooper.why.case import THERE, Case, Certainty
from hooper.why.deciding import hairpin_works, line_proven, read_rule, read_wan, stand_in_reached
from hooper.why.rules import judge_rule, missing, not_enforced, told_rule, told_wrong, undecided, wrong_host
from hooper.why.server_keys import server_keys
from hooper.words.said import say, together


def _refused(case: Case) -> bool:
    """Whether the plan has no rule for this service at all, since it cannot work as it is written."""
    if any(rule.service == case.facts.service for rule in case.plan.forwards):
        return False
    wrong = [item for item in case.plan.findings if item.severity == "error" and item.subject == _subject(case)]
    for finding in wrong[:1]:
        case.cause("plan-error", "certain", say("plan-error.says", message=finding.message), finding.remedy)
    return bool(wrong)


def _subject(case: Case) -> str:
    return f"services.{case.facts.service}"


def judge_way(case: Case) -> None:
    facts = case.facts
    outside, inside_good = facts.outside, case.steps["service"].state == "ok"
    verdict = outside.verdict if outside is not None else None
    arrived = verdict in THERE
    kind, _ = situation(facts.line)
    _public_address(case, arrived=arrived)
    for gateway in case.ruled:
        judge_rule(case, gateway, arrived=arrived)
    if not arrived and _refused(case):
        return
    reached = arrived or facts.others or stand_in_reached(case)  # then what was told of the line is outdated
    if kind in ("carrier-nat", "shared-ports", "no-ipv4") and not reached:
        _carrier(case)
        return
    if not arrived and _inner_moved(case):
        return
    if outside is not None and outside.expected == "unreachable":
        _not_allowed(case, reachable=arrived or verdict == "mismatched")
        return
    if arrived:
        return
    if outside is None or verdict == "unproven":  # not seen: what routers and people say counts
        if facts.unfit is not None:
            _unfit(case)
            return
        if outside is not None and facts.line.public.value is None and facts.line.stun_silent:
            _nobody_outside(case)
        if not told_wrong(case) and any(told_rule(case, key)[0] == "unseen" for key in case.ruled):
            missing(case, "possible", only="unseen")
        return
    icmp = outside.evidence.icmp
    from_the_site = icmp is not None and is_ours(case, icmp.by)
    if verdict in ("mismatched", "silent", "refused"):
        _through_vpn(case)
    if verdict == "mismatched":
        wrong_host(case, "likely")
    elif not inside_good and case.causes:
        return  # the first broken link is inside: what lies further out cannot be told yet
    elif icmp is not None and not from_the_site:
        _stopped_on_the_way(case, icmp)
    elif icmp is not None and (icmp.type, icmp.code) in PROHIBITED:
        _strangers_rejected(case, icmp)
    elif icmp is not None and verdict == "silent":
        _nobody_at_the_end(case, icmp)
    elif verdict == "refused":
        wrong_host(case, "likely")
        if not any(cause.certainty == "certain" for cause in case.causes):
            missing(case, "possible")
    elif verdict == "silent":
        _silent(case)


def _unfit(case: Case) -> None:
    """The place that was to be looked from says nothing about outside."""
    assert case.facts.unfit is not None
    case.cause(
        case.facts.unfit.code,
        "certain",
        say("nothing-was-proven", words=case.facts.unfit.words),
        say("look-from-outside-give"),
    )


def _through_vpn(case: Case) -> None:
    """What was looked through may itself drop what was asked."""
    if case.facts.tunnel_from is not None:
        case.caused(
            "asker-tunnel",
            "likely" if case.facts.others is False else "possible",
            sure=say("look-once-more-from"),
            tunnel_from=case.facts.tunnel_from,
        )


PROHIBITED = ((3, 9), (3, 10), (3, 13))  # RFC 1812 section 5.2.7.1: forbidden by an administrator


def is_ours(case: Case, sender: str | None) -> bool:
    """Whether an ICMP message comes from behind the public address: a NAT puts that in, or forgets to."""
    outside = case.facts.outside
    if sender is None or outside is None:
        return False
    own = [gateway.lan.network for gateway in case.site.gateways.values()]
    return sender == outside.target_address or any(parse_address(sender) in network for network in own)


def _nobody_outside(case: Case) -> None:
    """No machine outside answers, and nobody says why."""
    outermost = case.facts.line.chain[0]
    case.caused("line-down", "likely", sure=read_wan(outermost), outermost=outermost)


def _inner_moved(case: Case) -> bool:
    """Whether an inner router has another outer address than the rules of the one before it lead to."""
    line = case.facts.line
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        planned, said = case.site.gateways[key].wan_behind(outer), line.wan.get(key)
        if said is None or planned is None or parse_address(said.value) == planned:
            continue
        words = say("has-the-wan-address", key=key, value=said.value)
        case.step(
            f"rule:{outer}",
            "broken",
            say("its-rules-lead-to", planned=planned),
            say("with-source", words=words, source=said.words(line.now)),
        )
        case.caused(
            "inner-wan-moved",
            "certain" if said.now(line.now) else "likely",
            sure=read_wan(key),
            words=words,
            outer=outer,
            planned=planned,
            key=key,
            value=said.value,
        )
        return True
    return False


def _nobody_at_the_end(case: Case, icmp: IcmpSeen) -> None:
    """The packet passed the provider and a rule, and the router found nobody where that leads."""
    facts = case.facts
    service = case.site.services[facts.service]
    if facts.inside is not None and facts.inside.verdict in (*THERE, "mismatched", "refused"):
        if undecided(case) or told_wrong(case):
            wrong_host(case, "likely")  # the device is there: so the rule leads elsewhere
        _inner_unknown(case, "likely")
        return
    said = say("says-that-nobody-is", by=icmp.by, name=icmp.name)
    again = say("give-it-again", address=case.site.devices[service.host].address)
    decide = say("look-whether-is-on", host=service.host)
    case.caused("host-off.nobody-at-the-end", "likely", sure=decide, host=service.host, said=said)
    case.caused("host-moved.nobody-at-the-end", "likely", do=again, sure=decide, host=service.host, said=said)
    wrong_host(case, "possible")


def _strangers_rejected(case: Case, icmp: IcmpSeen) -> None:
    """Somebody behind the public address forbids it: the device's own firewall, or a router's."""
    host = case.site.services[case.facts.service].host
    case.caused("host-filters-strangers.strangers-rejected", "likely", by=icmp.by, name=icmp.name, host=host)
    wrong_host(case, "possible")


def _not_allowed(case: Case, *, reachable: bool) -> None:
    """Looked at from a place that is not among the allowed sources: silence is right there."""
    if reachable:
        case.caused("sources-open", "certain", service=case.facts.service)


def _stopped_on_the_way(case: Case, icmp: IcmpSeen) -> None:
    """A router before the line says no: the provider's, or one of the network that was looked from."""
    outside = case.facts.outside
    assert outside is not None
    case.cause(
        "port-blocked" if icmp.type == 3 and icmp.code in (9, 10, 13) else "line-not-reached",
        "likely",
        say("a-router-on-the", by=icmp.by, target_address=outside.target_address, name=icmp.name),
        say("look-from-another-place"),
        say("look-once-more-from"),
    )


def _public_address(case: Case, *, arrived: bool) -> None:
    line = case.facts.line
    _, can_forward = situation(line)
    told, public = outer_wan(line), line.public
    shown = (
        say("public-address-by", value=public.value, source=public.source)
        if public.value
        else say("not-known", source=public.source)
    )
    if arrived:
        case.step("public-address", "ok", shown, say("it-answered-from-outside"))
    elif can_forward is False and not case.facts.others:
        case.step(
            "public-address",
            "broken",
            shown,
            say("s-wan-address-is", chain=line.chain[0], value=told.value if told else "?"),
        )
    elif can_forward:
        case.step(
            "public-address",
            "ok",
            shown,
            say("has-it-itself", chain=line.chain[0]) if told else say("has-it-itself-by", chain=line.chain[0]),
        )
    elif case.facts.others:
        case.step("public-address", "ok", shown, say("other-services-of-this"))
    else:
        missing = (
            say("s-wan-address-was", chain=line.chain[0]) if told is None else say("told-wan-address", value=told.value)
        )
        case.step("public-address", "unknown", shown, missing)


def _carrier(case: Case) -> None:
    line = case.facts.line
    told = outer_wan(line)
    judged = judge(line)
    certainty: Certainty = "certain" if told is None or told.now(line.now) else "likely"
    evidence = together(judged.evidence)
    if judged.kind == "no-ipv4":
        case.caused(
            "line-down.carrier", certainty, sure=read_wan(line.chain[0]), evidence=evidence, chain=line.chain[0]
        )
        return
    case.cause(
        "shared-ports" if judged.kind == "shared-ports" else "carrier-nat",
        certainty,
        say("nothing-from-outside-reaches", evidence=evidence, chain=line.chain[0]),
        say("ask-the-provider-for"),
        read_wan(line.chain[0]),
    )


def _silent(case: Case) -> None:
    """Nothing came back from outside although the service answers inside: with mute boxes many causes look so."""
    facts = case.facts
    line, proven = facts.line, line_proven(case)
    if told_wrong(case):
        return
    if line.stun_silent and not facts.others:
        _nobody_outside(case)
    if case.steps["service"].state != "ok":
        server_keys(case, "possible")
    unread = undecided(case)
    if any(told_rule(case, gateway)[0] == "unseen" for gateway in unread):
        missing(case, "likely", only="unseen")  # the likeliest of all: a table that was read does not have it
    lone = facts.others is False  # nothing of this line answers from outside
    if not proven and lone and outer_wan(line) is None:
        _carrier_suspected(case, "likely")
    missing(case, "likely")
    if not proven and not lone and outer_wan(line) is None:
        _carrier_suspected(case, "possible")
    if not proven and outer_wan(line) is not None:
        case.caused(
            "carrier-nat.silent",
            "likely" if situation(line)[1] is None else "possible",
            sure=read_wan(line.chain[0]),
            chain=line.chain[0],
        )
    if not facts.others and not hairpin_works(case):
        _inner_unknown(case, "possible")
    if not hairpin_works(case):
        not_enforced(case)
    _on_the_device(case, "possible" if unread or not proven else "likely")
    _blocked(case, "possible" if unread or not proven else "likely")


def _inner_unknown(case: Case, certainty: Certainty) -> None:
    """An inner router that says nothing of its outer address now may have got another one."""
    line = case.facts.line
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        said = line.wan.get(key)
        if said is None or not said.now(line.now):
            planned = case.site.gateways[key].wan_behind(outer)
            case.caused(
                "inner-wan-moved.inner-unknown", certainty, sure=read_wan(key), key=key, planned=planned, outer=outer
            )


def _carrier_suspected(case: Case, certainty: Certainty) -> None:
    line = case.facts.line
    case.caused("carrier-nat", certainty, sure=read_wan(line.chain[0]), chain=line.chain[0])


def _on_the_device(case: Case, certainty: Certainty) -> None:
    """What the device itself may do to strangers: what answers its own network need not answer them."""
    facts = case.facts
    host = case.site.services[facts.service].host
    network = case.site.gateways[facts.line.chain[-1]].lan
    case.caused(
        "host-filters-strangers.on-the-device", certainty, host=host, service=facts.service, network=network.network
    )
    if facts.host_reached or host not in case.site.hosts:  # what it answers finds its way, and a gateway knows its own
        return
    case.caused("host-without-way-out", certainty, host=host, ip=network.ip)


def _blocked(case: Case, certainty: Certainty) -> None:
    """Never certain: a device that answers its own network only looks the same."""
    facts = case.facts
    assert facts.outside is not None
    if stand_in_reached(case):
        return
    port, transport = facts.outside.port, facts.outside.transport
    listed = any(
        blocked.transport in (transport, "both") and blocked.ports.first <= port <= blocked.ports.last
        for blocked in case.site.lines[facts.line.line].blocked
    )
    says = say("as-the-site-file") if listed else ""
    remedy = say("ask-the-provider-or", service=facts.service)
    unread = undecided(case)
    decide = say("give-another-outside-port", service=facts.service, port=port)
    case.caused(
        "port-blocked",
        "likely" if listed else certainty,
        do=remedy,
        sure=read_rule(unread[0], facts.service) if unread else decide,
        transport=transport,
        port=port,
        says=says,
    )
