"""The way from outside to the host: the rules, the line, and what silence, refusals and strangers there mean. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.addresses import parse_address
from hooper.check.results import IcmpSeen
from hooper.line.judging import outer_wan, situation
from hooper.line.situation import judge
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import ports_text
from hooper.sourced import Sourced
from hooper.why.case import THERE, Case, Certainty
from hooper.why.server_keys import server_keys


def _told_rule(case: Case, gateway: str) -> tuple[str | None, Sourced[str] | None]:
    """What was told of a gateway's rule for this service: there, missing, off, limited, wrong; None: nothing."""
    told = case.facts.rules.get(gateway)
    if told is None:
        return ("ticked", case.facts.ticked[gateway]) if gateway in case.facts.ticked else (None, None)
    if told.value in ("there", "unseen", *LACKING):
        return told.value, told
    wanted = {rule.target_address for rule in _rules(case, gateway)}
    address, _, port = told.value.partition(":")
    ports = {ports_text(rule.target_ports) for rule in _rules(case, gateway)}
    right = address in wanted and (not port or port in ports)
    return ("there" if right else "wrong"), told


LACKING = {  # what was told of a rule: the cause, and how it is said; {} stands for the gateway and the service
    "missing": ("", "{} has no rule for {}"),
    "off": ("rule-off", "{} has the rule for {} switched off"),
    "limited": ("rule-limited", "{} keeps the rule for {} to some sources, and the plan names none"),
}


def _rules(case: Case, gateway: str) -> list[Forward]:
    """The service's rules on a gateway; where that hands everything on, the one entry for all."""
    mine = [rule for rule in case.plan.forwards if rule.gateway == gateway]
    own = [rule for rule in mine if rule.service == case.facts.service]
    return own or [rule for rule in mine if rule.service == EVERYTHING]


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
        _rule_step(case, gateway, arrived=arrived)
    if not arrived and _refused(case):
        return
    reached = arrived or facts.others  # what was told of the line is outdated where something answers
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
        if outside is not None and facts.line.public.value is None and facts.line.stun_silent:
            _nobody_outside(case)
        if not _told_wrong(case) and any(_told_rule(case, key)[0] == "unseen" for key in case.ruled):
            _missing(case, "possible", only="unseen")
        return
    icmp = outside.evidence.icmp
    from_the_site = icmp is not None and _is_ours(case, icmp.by)
    if verdict == "mismatched":
        _wrong_host(case, "likely")
    elif not inside_good and case.causes:
        return  # the first broken link is inside: what lies further out cannot be told yet
    elif icmp is not None and not from_the_site:
        _stopped_on_the_way(case, icmp)
    elif icmp is not None and (icmp.type, icmp.code) in PROHIBITED:
        _strangers_rejected(case, icmp)
    elif icmp is not None and verdict == "silent":
        _nobody_at_the_end(case, icmp)
    elif verdict == "refused":
        _wrong_host(case, "likely")
        if not any(cause.certainty == "certain" for cause in case.causes):
            _missing(case, "possible")
    elif verdict == "silent":
        _silent(case)


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
        if _undecided(case) or _told_wrong(case):
            _wrong_host(case, "likely")  # the device is there: so the rule leads elsewhere
        _inner_unknown(case, "likely")
        return
    said = f"{icmp.by} says that nobody is where the rule leads ({icmp.name})"
    again = f"Give it {case.site.devices[service.host].address} again."
    decide = f"Look whether {service.host} is on, and which address it shows: give that with {deeds.HOST_ADDRESS}."
    case.cause("host-off", "likely", f"{service.host} is switched off or unplugged: {said}", "Switch it on.", decide)
    case.cause("host-moved", "likely", f"{service.host} has taken another address: {said}", again, decide)
    _wrong_host(case, "possible")


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
    _wrong_host(case, "possible")


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


def line_proven(case: Case) -> bool:
    """Whether packets to the public address surely reach the outermost gateway."""
    told = outer_wan(case.facts.line)
    fresh = told is None or told.fresh(case.facts.line.now)  # without it, the hops have said so, just now
    return bool(case.facts.others) or (situation(case.facts.line)[1] is True and fresh)


def _rule_step(case: Case, gateway: str, *, arrived: bool) -> None:
    name = f"rule:{gateway}"
    rules = _rules(case, gateway)
    planned = "; ".join(
        f"{r.transport} {ports_text(r.outside_ports)} to {r.target_address}:{ports_text(r.target_ports)}" for r in rules
    )
    if not rules and not arrived:
        case.step(name, "broken", f"no rule is planned; see `{deeds.PLAN}`")
        return
    state, told = _told_rule(case, gateway)
    age = told.age(case.facts.line.now) if told is not None else ""
    if arrived:
        case.step(name, "ok", f"planned: {planned}", "it answered from outside")
    elif state in LACKING and told is not None:
        how = {"off": "switched off", "limited": "kept to some sources"}.get(told.value, "missing")
        case.step(name, "broken", f"planned: {planned}", f"{told.source} to be {how}, {age}")
    elif state == "wrong" and told is not None:
        case.step(name, "broken", f"planned: {planned}", f"{told.source} to lead to {told.value}, {age}")
    elif state == "unseen" and told is not None:
        seen = "not in the table that it shows to programs, which may leave out what was entered by hand"
        case.step(name, "unknown", f"planned: {planned}", f"{seen}, {age}")
    elif state == "there" and told is not None:
        case.step(name, "ok", f"planned: {planned}", f"{told.source} to be there, {age}")
    elif state == "ticked":
        case.step(name, "unknown", f"planned: {planned}", f"its sheet was ticked off {age}")
    else:
        case.step(name, "unknown", f"planned: {planned}")


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


def read_wan(gateway: str) -> str:
    return f"Read the WAN address on {gateway}'s status page and give it with {deeds.WAN_ADDRESS(gateway)}."


def read_rule(gateway: str, service: str) -> str:
    return (
        f"Look for {service} in {gateway}'s list of rules and give what stands there:"
        f" {deeds.RULE_THERE(gateway)}, {deeds.RULE_MISSING(gateway)},"
        f" or {deeds.RULE_TARGET(gateway)} where it leads to."
    )


def _undecided(case: Case) -> list[str]:
    """The gateways whose rule nobody has looked at lately, outermost first."""
    out = []
    for gateway in case.ruled:
        state, told = _told_rule(case, gateway)
        if state in (None, "ticked", "unseen") or told is None or not told.fresh(case.facts.line.now):
            out.append(gateway)
    return out


def _position(case: Case, gateway: str) -> str:
    return "outer" if gateway == case.facts.line.chain[0] else "inner"


def _enter(case: Case, gateway: str) -> str:
    told = case.facts.rules.get(gateway)
    if told is not None and told.measured:  # read in its own table, so it takes rules from a program
        return f"`{deeds.OPEN(case.facts.service)}` enters it; by hand, do as `{deeds.SHEET(gateway)}` says."
    return f"Enter it as `{deeds.SHEET(gateway)}` says, and look that it is switched on."


def _told_wrong(case: Case) -> bool:
    """Causes for what was told of the rules; whether there are any."""
    found = False
    for gateway in case.ruled:
        state, told = _told_rule(case, gateway)
        if told is None or state is None or state not in ("wrong", *LACKING):
            continue
        found = True
        certainty: Certainty = "certain" if told.now(case.facts.line.now) else "likely"
        name = case.facts.service
        if state in LACKING:
            code, words = LACKING[state]
            code, message = code or f"rule-missing-{_position(case, gateway)}", words.format(gateway, name)
        else:
            wanted = _rules(case, gateway)[0]
            target = f"{wanted.target_address}:{ports_text(wanted.target_ports)}"
            host = next(
                (k for k, h in case.site.devices.items() if str(h.address) == told.value.partition(":")[0]), None
            )
            other = f"{told.value} ({host})" if host is not None else told.value
            code = "rule-wrong-port" if told.value.partition(":")[0] == wanted.target_address else "rule-wrong-host"
            message = f"{gateway}'s rule for {name} leads to {other}, not to {target}"
        case.cause(code, certainty, message, _enter(case, gateway), read_rule(gateway, name))
    return found


def _wrong_host(case: Case, certainty: Certainty) -> None:
    """Something else answered, or a router says that nobody is where the rule leads."""
    facts = case.facts
    if _told_wrong(case):
        return
    if facts.twin is not None:
        twin_host = case.site.services[facts.twin].host
        case.cause(
            "rule-wrong-host",
            "certain",
            f"a rule for {facts.service} leads to {twin_host}: what answers has the certificate of {facts.twin}",
            f"Compare the inside address of {facts.service} on each router with `{deeds.SHEET}`.",
        )
        return
    open_ones = _undecided(case)
    inner = case.ruled[-1] if case.ruled else None
    look = inner if inner in open_ones or not open_ones else open_ones[0]
    case.cause(
        "rule-wrong-host",
        certainty,
        f"a rule for {facts.service} leads to another device, or to none",
        f"Compare the inside address of {facts.service} on each router with `{deeds.SHEET}`.",
        read_rule(look, facts.service) if look is not None else None,
    )
    if not line_proven(case):
        case.cause(
            "public-address-wrong",
            "possible",
            "the address that was probed is not this line's",
            f"Give the right one with {deeds.PUBLIC_ADDRESS}.",
            read_wan(facts.line.chain[0]),
        )


def _missing(case: Case, certainty: Certainty, *, only: str | None = None) -> None:
    """Rules of which nobody knows that they are there. only: where that was told or seen of them."""
    for gateway in case.ruled:
        if gateway in _undecided(case) and (only is None or _told_rule(case, gateway)[0] == only):
            place = _position(case, gateway)
            ticked = gateway in case.facts.ticked
            unseen = _told_rule(case, gateway)[0] == "unseen"
            more = "; its table does not show one" if unseen else ", or it is switched off"
            case.cause(
                f"rule-missing-{place}",
                "possible" if ticked and not unseen else "likely" if unseen else certainty,
                f"{gateway} has no rule for {case.facts.service}{more}",
                _enter(case, gateway),
                read_rule(gateway, case.facts.service),
            )


def _silent(case: Case) -> None:
    """Nothing came back from outside although the service answers inside: with mute boxes many causes look so."""
    facts = case.facts
    line, proven = facts.line, line_proven(case)
    if _told_wrong(case):
        return
    if line.stun_silent and not facts.others:
        _nobody_outside(case)
    if case.steps["service"].state != "ok":
        server_keys(case, "possible")
    undecided = _undecided(case)
    if any(_told_rule(case, gateway)[0] == "unseen" for gateway in undecided):
        _missing(case, "likely", only="unseen")  # the likeliest of all: a table that was read does not have it
    lone = facts.others is False  # nothing of this line answers from outside
    if not proven and lone and outer_wan(line) is None:
        _carrier_suspected(case, "likely")
    _missing(case, "likely")
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
    if not facts.others:
        _inner_unknown(case, "possible")
    _on_the_device(case, "possible" if undecided or not proven else "likely")
    _blocked(case, "possible" if undecided or not proven else "likely")


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
    port, transport = facts.outside.port, facts.outside.transport
    listed = any(
        blocked.transport in (transport, "both") and blocked.ports.first <= port <= blocked.ports.last
        for blocked in case.site.lines[facts.line.line].blocked
    )
    says = ", as the site file says" if listed else ""
    remedy = f"Ask the provider, or choose another outside port: `outside_port` in [services.{facts.service}]."
    undecided = _undecided(case)
    decide = f"Give {facts.service} another outside port for a moment: if it answers there, the provider drops {port}."
    case.cause(
        "port-blocked",
        "likely" if listed else certainty,
        f"the provider drops what comes in at {transport} {port}{says}",
        remedy,
        read_rule(undecided[0], facts.service) if undecided else decide,
    )
