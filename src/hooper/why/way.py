"""The way from outside to the device, as steps, and what keeps it from being judged at all. Pure."""

from __future__ import annotations

from hooper.addresses import parse_address
from hooper.line.judging import outer_wan, situation
from hooper.why.case import THERE, Case
from hooper.why.looks import inner_wans
from hooper.why.router_rules import judge_rule
from hooper.words.said import say


def judge_way(case: Case) -> bool:
    """The steps of the rules and of the public address. Returns: whether the way can be judged by what was seen."""
    facts, outside = case.facts, case.facts.outside
    arrived = outside is not None and outside.verdict in THERE
    _public_address(case, arrived=arrived)
    for gateway in case.ruled:
        judge_rule(case, gateway, arrived=arrived)
    for key, outer, planned, said in inner_wans(case):
        if not arrived and parse_address(said.value) != planned:
            words = say("has-the-wan-address", key=key, value=said.value)
            told = say("with-source", words=words, source=said.words(facts.line.now))
            case.step(f"rule:{outer}", "broken", say("its-rules-lead-to", planned=planned), told)
    if not arrived and _refused(case):
        return False
    if outside is not None and outside.expected == "unreachable":  # a place that is not to get in: silence is right
        if outside.verdict in (*THERE, "mismatched"):
            case.caused("sources-open", "certain", service=facts.service)
        return False
    if facts.unfit is not None and (outside is None or outside.verdict == "unproven"):
        message = say("nothing-was-proven", words=facts.unfit.words)
        case.cause(facts.unfit.code, "certain", message, say("look-from-outside-give"))
        return False
    return True


def _refused(case: Case) -> bool:
    """Whether the plan has no rule for this service at all, since it cannot work as it is written."""
    if any(rule.service == case.by for rule in case.plan.forwards):
        return False
    subject = f"services.{case.by}"
    wrong = [item for item in case.plan.findings if item.severity == "error" and item.subject == subject]
    for finding in wrong[:1]:
        case.cause("plan-error", "certain", say("plan-error.says", message=finding.message), finding.remedy)
    return bool(wrong)


def _public_address(case: Case, *, arrived: bool) -> None:
    line, others = case.facts.line, case.facts.others or case.facts.host_reached
    _, can_forward = situation(line)
    told, public, outer = outer_wan(line), line.public, line.chain[0]
    shown = (
        say("public-address-by", value=public.value, source=public.source)
        if public.value
        else say("not-known", source=public.source)
    )
    if arrived:
        case.step("public-address", "ok", shown, say("it-answered-from-outside"))
    elif can_forward is False and not others:
        value = told.value if told else "?"
        case.step("public-address", "broken", shown, say("s-wan-address-is", chain=outer, value=value))
    elif can_forward:
        words = say("has-it-itself", chain=outer) if told else say("has-it-itself-by", chain=outer)
        case.step("public-address", "ok", shown, words)
    elif others:
        case.step("public-address", "ok", shown, say("other-services-of-this"))
    else:
        missing = say("told-wan-address", value=told.value) if told else say("s-wan-address-was", chain=outer)
        case.step("public-address", "unknown", shown, missing)
