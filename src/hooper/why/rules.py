"""The routers' rules for a service: what was told or seen of each, and what is wrong with one. Pure."""

from __future__ import annotations

from typing import NamedTuple

from hooper import deeds
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import ports_text
from hooper.sourced import Sourced
from hooper.why.case import Case, Certainty
from hooper.why.deciding import hairpin_works, line_proven, read_rule, read_wan


class Lacking(NamedTuple):
    """What a rule can lack. code: of the cause; empty: rule-missing-outer or -inner. message: {} stands for the gateway
    and the service. shown: in the chain.
    """

    code: str
    message: str
    shown: str


LACKING = {  # by the word that is told of a rule, or that its router's table comes to
    "missing": Lacking("", "{} has no rule for {}", "missing"),
    "off": Lacking("rule-off", "{} has the rule for {} switched off", "switched off"),
    "limited": Lacking(
        "rule-limited", "{} keeps the rule for {} to some sources, and the plan names none", "kept to some sources"
    ),
    "transport": Lacking(
        "rule-wrong-transport", "{} has the rule for {} for the other transport", "for the other transport"
    ),
    "ended": Lacking("rule-ended", "{} had the rule for {} for a time, and that is over", "at its end"),
    "interface": Lacking(
        "rule-wrong-interface",
        "{} has the rule for {} at another of its outside interfaces",
        "at another outside interface",
    ),
}
RULE_WORDS = ("there", *LACKING)  # that people may tell of a rule


def told_rule(case: Case, gateway: str) -> tuple[str | None, Sourced[str] | None]:
    """What was told of a gateway's rule for this service: there, a word of LACKING, wrong, unseen, ticked; None:
    nothing.
    """
    told = case.facts.rules.get(gateway)
    if told is None:
        return ("ticked", case.facts.ticked[gateway]) if gateway in case.facts.ticked else (None, None)
    if told.value in (*RULE_WORDS, "unseen"):
        return told.value, told
    wanted = {rule.target_address for rule in _rules(case, gateway)}
    address, _, port = told.value.partition(":")
    ports = {ports_text(rule.target_ports) for rule in _rules(case, gateway)}
    right = address in wanted and (not port or port in ports)
    return ("there" if right else "wrong"), told


def _rules(case: Case, gateway: str) -> list[Forward]:
    """The service's rules on a gateway; where that hands everything on, the one entry for all."""
    mine = [rule for rule in case.plan.forwards if rule.gateway == gateway and rule.kind == "forward"]
    own = [rule for rule in mine if rule.service == case.facts.service]
    return own or [rule for rule in mine if rule.service == EVERYTHING]


def judge_rule(case: Case, gateway: str, *, arrived: bool) -> None:
    name = f"rule:{gateway}"
    rules = _rules(case, gateway)
    planned = "; ".join(
        f"{r.transport} {ports_text(r.outside_ports)} to {r.target_address}:{ports_text(r.target_ports)}" for r in rules
    )
    if not rules and not arrived:
        case.step(name, "broken", f"no rule is planned; see `{deeds.PLAN}`")
        return
    state, told = told_rule(case, gateway)
    age = told.age(case.facts.line.now) if told is not None else ""
    if arrived:
        case.step(name, "ok", f"planned: {planned}", "it answered from outside")
    elif state in LACKING and told is not None:
        case.step(name, "broken", f"planned: {planned}", f"{told.source} to be {LACKING[state].shown}, {age}")
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


def undecided(case: Case) -> list[str]:
    """The gateways whose rule nobody has looked at lately, outermost first; none where hairpin went by all of them."""
    out: list[str] = []
    if hairpin_works(case):
        return out
    for gateway in case.ruled:
        state, told = told_rule(case, gateway)
        if state in (None, "ticked", "unseen") or told is None or not told.fresh(case.facts.line.now):
            out.append(gateway)
    return out


def position(case: Case, gateway: str) -> str:
    return "outer" if gateway == case.facts.line.chain[0] else "inner"


def _enter(case: Case, gateway: str) -> str:
    told = case.facts.rules.get(gateway)
    if told is not None and told.measured:  # read in its own table, so it takes rules from a program
        return f"`{deeds.OPEN(case.facts.service)}` enters it; by hand, do as `{deeds.SHEET(gateway)}` says."
    return f"Enter it as `{deeds.SHEET(gateway)}` says, without an end, and look that it is switched on."


def told_wrong(case: Case) -> bool:
    """Causes for what was told of the rules; whether there are any."""
    found = False
    for gateway in case.ruled:
        state, told = told_rule(case, gateway)
        if told is None or state is None or state not in ("wrong", *LACKING):
            continue
        found = True
        certainty: Certainty = "certain" if told.now(case.facts.line.now) else "likely"
        name = case.facts.service
        if state in LACKING:
            code = LACKING[state].code or f"rule-missing-{position(case, gateway)}"
            message = LACKING[state].message.format(gateway, name)
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


def wrong_host(case: Case, certainty: Certainty) -> None:
    """Something else answered, or a router says that nobody is where the rule leads."""
    facts = case.facts
    if told_wrong(case):
        return
    like = facts.looks_like
    if like is not None and like[0] == "service":
        host = case.site.services[like[1]].host
        case.cause(
            "rule-wrong-host",
            "certain" if facts.outside is not None and facts.outside.fingerprint is not None else "likely",
            f"a rule for {facts.service} leads to {host}: what answers there is {like[1]}",
            f"Compare the inside address of {facts.service} on each router with `{deeds.SHEET}`.",
        )
        return
    if like is not None and like[0] == "gateway":
        _gateway_answers(case, like[1])
        return
    open_ones = undecided(case)
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


def _gateway_answers(case: Case, gateway: str) -> None:
    """A router has kept the port for itself: for its own page, most often."""
    outside = case.facts.outside
    assert outside is not None
    case.cause(
        "gateway-answers",
        "certain" if outside.fingerprint is not None else "likely",
        f"{gateway} answers itself at port {outside.port}, with its own page, before any rule",
        f"Switch the page for outside (remote access) off on {gateway}, or give it another port there.",
        f"Look on {gateway} whether its page can be reached from the internet, and at which port.",
    )


def missing(case: Case, certainty: Certainty, *, only: str | None = None) -> None:
    """Rules of which nobody knows that they are there. only: where that was told or seen of them."""
    for gateway in case.ruled:
        if gateway in undecided(case) and (only is None or told_rule(case, gateway)[0] == only):
            place = position(case, gateway)
            ticked = gateway in case.facts.ticked
            unseen = told_rule(case, gateway)[0] == "unseen"
            more = "; its table does not show one" if unseen else ", or it is switched off"
            case.cause(
                f"rule-missing-{place}",
                "possible" if ticked and not unseen else "likely" if unseen else certainty,
                f"{gateway} has no rule for {case.facts.service}{more}",
                _enter(case, gateway),
                read_rule(gateway, case.facts.service),
            )
