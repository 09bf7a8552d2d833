"""The routers' rules for a service: what was told or seen of each, as steps. Pure."""

from __future__ import annotations

from collections.abc import Sequence

from hooper import deeds
from hooper.evidence.identity import target_of
from hooper.planning.values import EVERYTHING, Forward, Plan
from hooper.ports import ports_text
from hooper.sourced import Sourced
from hooper.why.case import Case
from hooper.words.said import NOTHING, Said, say, together

LACKING = {  # causes by the word that is told of a rule, or that its table comes to; empty: by where the router is
    "missing": "",
    "off": "rule-off",
    "limited": "rule-limited",
    "transport": "rule-wrong-transport",
    "ended": "rule-ended",
    "interface": "rule-wrong-interface",
    "lost": "rule-lost",
}
RULE_WORDS = ("there", *(word for word in LACKING if word != "lost"))  # that people may tell of a rule


def told_rule(case: Case, gateway: str) -> tuple[str | None, Sourced[str] | None]:
    """What was told of a gateway's rule for this service: there, a word of LACKING, wrong, unseen, ticked; None:
    nothing.
    """
    told = case.facts.rules.get(gateway)
    if told is None:
        return ("ticked", case.facts.ticked[gateway]) if gateway in case.facts.ticked else (None, None)
    if told.value in ("there", "unseen", *LACKING):
        return told.value, told
    return ("there" if leads_as_planned(rules_of(case, gateway), told.value) else "wrong"), told


def leads_as_planned(rules: Sequence[Forward], told: str) -> bool:
    """Whether ADDRESS[:PORT], where a rule leads by its table, is where these rules are to lead."""
    address, port = target_of(told)
    ports = {ports_text(rule.target_ports) for rule in rules}
    return address in {rule.target_address for rule in rules} and (not port or port in ports)


def rules_for(plan: Plan, gateway: str, service: str) -> list[Forward]:
    """The service's rules on a gateway; where that hands everything on, the one entry for all."""
    mine = [rule for rule in plan.forwards if rule.gateway == gateway and rule.kind == "forward"]
    own = [rule for rule in mine if rule.service == service]
    return own or [rule for rule in mine if rule.service == EVERYTHING]


def rules_of(case: Case, gateway: str) -> list[Forward]:
    return rules_for(case.plan, gateway, case.by)


def wrong_by(case: Case, gateway: str, told: str) -> str:
    """What is wrong with where a rule leads: wrong-port or wrong-host."""
    address, _ = target_of(told)
    right = any(rule.target_address == address for rule in rules_of(case, gateway))
    return "wrong-port" if right else "wrong-host"


def judge_rule(case: Case, gateway: str, *, arrived: bool) -> None:
    name = f"rule:{gateway}"
    rules = rules_of(case, gateway)
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


def read_wan(gateway: str) -> Said:
    return say("read-the-wan-address", gateway=gateway, wan_address=deeds.WAN_ADDRESS(gateway))


def read_rule(gateway: str, service: str) -> Said:
    return say(
        "look-for-in-s",
        service=service,
        gateway=gateway,
        rule_there=deeds.RULE_THERE(gateway),
        rule_missing=deeds.RULE_MISSING(gateway),
        rule_target=deeds.RULE_TARGET(gateway),
    )
