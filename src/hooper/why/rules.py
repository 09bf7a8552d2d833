"""The routers' rules for a service: what was told or seen of each, and what is wrong with one. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.judging.identity import target_of
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import ports_text
from hooper.sourced import Sourced
from hooper.why.case import THERE, Case, Certainty
from hooper.why.deciding import hairpin_works, line_proven, read_rule, read_wan
from hooper.words.said import NOTHING, Said, say, together

LACKING = {  # causes by the word that is told of a rule, or that its table comes to; empty: by where the router is
    "missing": "",
    "off": "rule-off",
    "limited": "rule-limited",
    "transport": "rule-wrong-transport",
    "ended": "rule-ended",
    "interface": "rule-wrong-interface",
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
    address, port = target_of(told.value)
    ports = {ports_text(rule.target_ports) for rule in _rules(case, gateway)}
    right = address in wanted and (not port or port in ports)
    return ("there" if right else "wrong"), told


def _rules(case: Case, gateway: str) -> list[Forward]:
    """The service's rules on a gateway; where that hands everything on, the one entry for all."""
    mine = [rule for rule in case.plan.forwards if rule.gateway == gateway and rule.kind == "forward"]
    own = [rule for rule in mine if rule.service == case.facts.service]
    return own or [rule for rule in mine if rule.service == EVERYTHING]


def wrong_by(case: Case, gateway: str, told: str) -> str:
    """What is wrong with where a rule leads: wrong-port or wrong-host."""
    address, _ = target_of(told)
    right = any(rule.target_address == address for rule in _rules(case, gateway))
    return "wrong-port" if right else "wrong-host"


def judge_rule(case: Case, gateway: str, *, arrived: bool) -> None:
    name = f"rule:{gateway}"
    rules = _rules(case, gateway)
    planned = together(
        say(
            "rule-leads",
            transport=r.transport,
            outside_ports=ports_text(r.outside_ports),
            target_address=r.target_address,
            target_ports=ports_text(r.target_ports),
        )
        for r in rules
    )
    if not rules and not arrived:
        case.step(name, "broken", say("no-rule-is-planned"))
        return
    state, told = told_rule(case, gateway)
    age = told.age(case.facts.line.now) if told is not None else NOTHING
    if arrived:
        case.step(name, "ok", say("planned", planned=planned), say("it-answered-from-outside"))
    elif state in LACKING and told is not None:
        case.step(
            name,
            "broken",
            say("planned", planned=planned),
            say("to-be", source=told.source, shown=say(f"rule-is.{state}"), age=age),
        )
    elif state == "wrong" and told is not None:
        case.step(
            name,
            "broken",
            say("planned", planned=planned),
            say("to-lead-to", source=told.source, value=told.value, age=age),
        )
    elif state == "unseen" and told is not None:
        seen = say("not-in-the-table")
        case.step(name, "unknown", say("planned", planned=planned), seen + ", " + age)
    elif state == "there" and told is not None:
        case.step(name, "ok", say("planned", planned=planned), say("to-be-there", source=told.source, age=age))
    elif state == "ticked":
        case.step(name, "unknown", say("planned", planned=planned), say("its-sheet-was-ticked", age=age))
    else:
        case.step(name, "unknown", say("planned", planned=planned))


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


def not_enforced(case: Case) -> None:
    """A router whose table shows the rule as it should be need not act by it."""
    for gateway in case.ruled:
        state, told = told_rule(case, gateway)
        if state == "there" and told is not None and told.measured:
            case.caused("rule-not-enforced", "possible", gateway=gateway, service=case.facts.service)


def position(case: Case, gateway: str) -> str:
    return "outer" if gateway == case.facts.line.chain[0] else "inner"


def _enter(case: Case, gateway: str) -> Said:
    told = case.facts.rules.get(gateway)
    if told is not None and told.measured:  # read in its own table, so it takes rules from a program
        return say("enters-it-by-hand", open=deeds.OPEN(case.facts.service), sheet=deeds.SHEET(gateway))
    return say("enter-it-as-says", sheet=deeds.SHEET(gateway))


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
            code = LACKING[state] or f"rule-missing-{position(case, gateway)}"
            message = say(f"rule-lacks.{state}", gateway=gateway, service=name)
        else:
            wanted = _rules(case, gateway)[0]
            target = f"{wanted.target_address}:{ports_text(wanted.target_ports)}"
            address, _ = target_of(told.value)
            host = next((k for k, h in case.site.devices.items() if str(h.address) == address), None)
            other = f"{told.value} ({host})" if host is not None else told.value
            code = f"rule-{wrong_by(case, gateway, told.value)}"
            message = say("s-rule-for-leads", gateway=gateway, name=name, other=other, target=target)
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
        case.caused(
            "rule-wrong-host.wrong-host",
            "certain" if facts.outside is not None and facts.outside.fingerprint is not None else "likely",
            service=facts.service,
            host=host,
            like=like[1],
        )
        return
    if like is not None and like[0] == "gateway":
        _gateway_answers(case, like[1])
        return
    open_ones = undecided(case)
    inner = case.ruled[-1] if case.ruled else None
    look = inner if inner in open_ones or not open_ones else open_ones[0]
    case.caused(
        "rule-wrong-host",
        certainty,
        sure=read_rule(look, facts.service) if look is not None else None,
        service=facts.service,
    )
    if facts.outside is not None and facts.outside.verdict in (*THERE, "mismatched"):
        case.caused(
            "provider-answers",
            "possible" if open_ones else "likely",
            sure=read_rule(look, facts.service) if open_ones and look is not None else say("look-from-other-port"),
            service=facts.service,
        )
    if not line_proven(case):
        case.caused("public-address-wrong", "possible", sure=read_wan(facts.line.chain[0]))


def _gateway_answers(case: Case, gateway: str) -> None:
    """A router has kept the port for itself: for its own page, most often."""
    outside = case.facts.outside
    assert outside is not None
    case.caused(
        "gateway-answers",
        "certain" if outside.fingerprint is not None else "likely",
        gateway=gateway,
        port=outside.port,
    )


def missing(case: Case, certainty: Certainty, *, only: str | None = None) -> None:
    """Rules of which nobody knows that they are there. only: where that was told or seen of them."""
    for gateway in case.ruled:
        if gateway in undecided(case) and (only is None or told_rule(case, gateway)[0] == only):
            place = position(case, gateway)
            ticked = gateway in case.facts.ticked
            unseen = told_rule(case, gateway)[0] == "unseen"
            more = say("its-table-does-not") if unseen else say("or-it-is-switched")
            case.cause(
                f"rule-missing-{place}",
                "possible" if ticked and not unseen else "likely" if unseen else certainty,
                say("has-no-rule-for", gateway=gateway, service=case.facts.service, more=more),
                _enter(case, gateway),
                read_rule(gateway, case.facts.service),
            )
