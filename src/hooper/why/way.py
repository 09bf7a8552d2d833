"""The way from outside to the host: the rules, the line, and what silence, refusals and strangers there mean. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.addresses import parse_address
from hooper.check.results import IcmpSeen
from hooper.line.judging import outer_wan, situation
from hooper.line.situation import judge
from hooper.why.case import THERE, Case, Certainty
from hooper.why.deciding import hairpin_works, line_proven, read_rule, read_wan, stand_in_reached
from hooper.why.rules import judge_rule, missing, told_rule, told_wrong, undecided, wrong_host
from hooper.why.server_keys import server_keys


def _refused(case: Case) -> bool:
    """Whether the plan has no rule for this service at all, since it cannot work as it is written."""
    if any(rule.service == case.facts.service for rule in case.plan.forwards):
        return False
    wrong = [item for item in case.plan.findings if item.severity == "error" and item.subject == _subject(case)]
    for finding in wrong[:1]:
        case.cause("plan-error", "certain", f"no rule is planned: {finding.message}", finding.remedy)
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
    from_the_site = icmp is not None and _is_ours(case, icmp.by)
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
        f"nothing was proven: {case.facts.unfit.words}",
        f"Look from outside: give {deeds.FROM_PHONE} with the phone's Wi-Fi off, or `{deeds.LOOK_BY_HOTSPOT}`.",
    )


def _through_vpn(case: Case) -> None:
    """What was looked through may itself drop what was asked."""
    if case.facts.tunnel_from is not None:
        case.cause(
            "asker-tunnel",
            "likely" if case.facts.others is False else "possible",
            f"{case.facts.tunnel_from} is a VPN, and may drop what this look sends, or answer in place of others",
            "Switch the VPN off, and look from outside again.",
            f"Look once more from another network outside, with another {deeds.FROM_ELSEWHERE}.",
        )


PROHIBITED = ((3, 9), (3, 10), (3, 13))  # RFC 1812 section 5.2.7.1: forbidden by an administrator


def _is_ours(case: Case, sender: str | None) -> bool:
    """Whether an ICMP message comes from behind the public address: a NAT puts that in, or forgets to."""
    outside = case.facts.outside
    if sender is None or outside is None:
        return False
    own = [gateway.lan.network for gateway in case.site.gateways.values()]
    return sender == outside.target_address or any(parse_address(sender) in network for network in own)


def _nobody_outside(case: Case) -> None:
    """No machine outside answers, and nobody says why."""
    outermost = case.facts.line.chain[0]
    case.cause(
        "line-down",
        "likely",
        "nobody outside answers this machine: the line is down, or this machine is kept from it",
        f"Look at the lamps and the status page of {outermost}, and whether this machine reaches the internet.",
        read_wan(outermost),
    )


def _inner_moved(case: Case) -> bool:
    """Whether an inner router has another outer address than the rules of the one before it lead to."""
    line = case.facts.line
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        planned, said = case.site.gateways[key].wan_behind(outer), line.wan.get(key)
        if said is None or planned is None or parse_address(said.value) == planned:
            continue
        words = f"{key} has the WAN address {said.value}"
        case.step(f"rule:{outer}", "broken", f"its rules lead to {planned}", f"{words} ({said.words(line.now)})")
        case.cause(
            "inner-wan-moved",
            "certain" if said.now(line.now) else "likely",
            f"{words}; the rules of {outer} lead to {planned}",
            f"Have {outer} reserve {planned} for {key}, or write {said.value} as its `wan` and enter the rules anew.",
            read_wan(key),
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
    said = f"{icmp.by} says that nobody is where the rule leads ({icmp.name})"
    again = f"Give it {case.site.devices[service.host].address} again."
    decide = f"Look whether {service.host} is on, and which address it shows: give that with {deeds.HOST_ADDRESS}."
    case.cause("host-off", "likely", f"{service.host} is switched off or unplugged: {said}", "Switch it on.", decide)
    case.cause("host-moved", "likely", f"{service.host} has taken another address: {said}", again, decide)
    wrong_host(case, "possible")


def _strangers_rejected(case: Case, icmp: IcmpSeen) -> None:
    """Somebody behind the public address forbids it: the device's own firewall, or a router's."""
    host = case.site.services[case.facts.service].host
    case.cause(
        "host-filters-strangers",
        "likely",
        f"{icmp.by} says {icmp.name}: a firewall of {host}, or of a router, forbids it to strangers",
        f"Let it in from everywhere in the firewall of {host}, and look for such a rule on the routers.",
        "Switch that firewall off for a moment and look again from outside.",
    )
    wrong_host(case, "possible")


def _not_allowed(case: Case, *, reachable: bool) -> None:
    """Looked at from a place that is not among the allowed sources: silence is right there."""
    if reachable:
        case.cause(
            "sources-open",
            "certain",
            f"{case.facts.service} answers a place that is not among its allowed sources",
            "Look at the rule's allowed sources on the router that is to keep them, and set them as the sheet says.",
        )


def _stopped_on_the_way(case: Case, icmp: IcmpSeen) -> None:
    """A router before the line says no: the provider's, or one of the network that was looked from."""
    outside = case.facts.outside
    assert outside is not None
    case.cause(
        "port-blocked" if icmp.type == 3 and icmp.code in (9, 10, 13) else "line-not-reached",
        "likely",
        f"{icmp.by}, a router on the way, says about {outside.target_address}: {icmp.name}",
        "Look from another place outside; if it says the same, ask the provider.",
        f"Look once more from another network outside, with another {deeds.FROM_ELSEWHERE}.",
    )


def _public_address(case: Case, *, arrived: bool) -> None:
    line = case.facts.line
    _, can_forward = situation(line)
    told, public = outer_wan(line), line.public
    shown = f"public address {public.value} ({public.source})" if public.value else f"not known: {public.source}"
    if arrived:
        case.step("public-address", "ok", shown, "it answered from outside")
    elif can_forward is False and not case.facts.others:
        case.step("public-address", "broken", shown, f"{line.chain[0]}'s WAN address is {told.value if told else '?'}")
    elif can_forward:
        case.step(
            "public-address",
            "ok",
            shown,
            f"{line.chain[0]} has it itself" if told else f"{line.chain[0]} has it itself, by the hops",
        )
    elif case.facts.others:
        case.step("public-address", "ok", shown, "other services of this line answered there from outside")
    else:
        missing = f"{line.chain[0]}'s WAN address was not told" if told is None else f"told WAN address {told.value}"
        case.step("public-address", "unknown", shown, missing)


def _carrier(case: Case) -> None:
    line = case.facts.line
    told = outer_wan(line)
    judged = judge(line)
    certainty: Certainty = "certain" if told is None or told.now(line.now) else "likely"
    evidence = "; ".join(judged.evidence)
    if judged.kind == "no-ipv4":
        case.cause(
            "line-down",
            certainty,
            f"the line has no IPv4 address: {evidence}",
            f"Look at the lamps and the status page of {line.chain[0]}; if it is all right there, ask the provider.",
            read_wan(line.chain[0]),
        )
        return
    case.cause(
        "shared-ports" if judged.kind == "shared-ports" else "carrier-nat",
        certainty,
        f"{evidence}: nothing from outside reaches {line.chain[0]}",
        "Ask the provider for a public IPv4 address; else use IPv6, or a tunnel out to a machine you rent.",
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
        case.cause(
            "carrier-nat",
            "likely" if situation(line)[1] is None else "possible",
            f"{line.chain[0]}'s WAN address and the public address do not fit together, or were read long ago",
            "Read the WAN address again; if it is not the public one, ask the provider for a public address.",
            read_wan(line.chain[0]),
        )
    if not facts.others and not hairpin_works(case):
        _inner_unknown(case, "possible")
    _on_the_device(case, "possible" if unread or not proven else "likely")
    _blocked(case, "possible" if unread or not proven else "likely")


def _inner_unknown(case: Case, certainty: Certainty) -> None:
    """An inner router that says nothing of its outer address now may have got another one."""
    line = case.facts.line
    for outer, key in zip(line.chain, line.chain[1:], strict=False):
        said = line.wan.get(key)
        if said is None or not said.now(line.now):
            planned = case.site.gateways[key].wan_behind(outer)
            case.cause(
                "inner-wan-moved",
                certainty,
                f"{key} has another WAN address than {planned}, where the rules of {outer} lead",
                f"Have {outer} reserve {planned} for {key}.",
                read_wan(key),
            )


def _carrier_suspected(case: Case, certainty: Certainty) -> None:
    line = case.facts.line
    case.cause(
        "carrier-nat",
        certainty,
        f"the provider may keep the public address for itself, before {line.chain[0]} (carrier NAT)",
        "If so, ask the provider for a public IPv4 address; else use IPv6 or a tunnel out to a machine you rent.",
        read_wan(line.chain[0]),
    )


def _on_the_device(case: Case, certainty: Certainty) -> None:
    """What the device itself may do to strangers: what answers its own network need not answer them."""
    facts = case.facts
    host = case.site.services[facts.service].host
    network = case.site.gateways[facts.line.chain[-1]].lan
    case.cause(
        "host-filters-strangers",
        certainty,
        f"the firewall of {host} answers its own network only",
        f"Let {facts.service} in from every address in the firewall of {host}.",
        f"Look there whether only {network.network} is let in, or switch it off for a moment and look from outside.",
    )
    if facts.host_reached or host not in case.site.hosts:  # what it answers finds its way, and a gateway knows its own
        return
    case.cause(
        "host-without-way-out",
        certainty,
        f"{host} has no gateway, or a wrong one: what it answers to strangers does not leave its network",
        f"Set the gateway of {host} to {network.ip}.",
        f"Look in the network settings of {host} which gateway it has, or try whether it reaches the internet.",
    )


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
    says = ", as the site file says" if listed else ""
    remedy = f"Ask the provider, or choose another outside port: `outside_port` in [services.{facts.service}]."
    unread = undecided(case)
    decide = f"Give {facts.service} another outside port for a moment: if it answers there, the provider drops {port}."
    case.cause(
        "port-blocked",
        "likely" if listed else certainty,
        f"the provider drops what comes in at {transport} {port}{says}",
        remedy,
        read_rule(unread[0], facts.service) if unread else decide,
    )
