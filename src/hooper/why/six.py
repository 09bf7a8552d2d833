"""A service over IPv6: nothing is translated there, so the device's own address and the openings count. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.check.results import Result
from hooper.evidence.worlds import Footing, judged
from hooper.ports import ports_text
from hooper.why.case import THERE, Case
from hooper.why.causes import certainties
from hooper.words.said import NOTHING, Value, say, together

WORDS = {  # the words of a cause, where those that it has over IPv4 do not fit; and by whether it answers at home
    ("opening-missing", True): "opening-missing.answered",
    ("host-filters-all", None): "host-filters-all.not-reached",
    ("service-other", None): "service-other.judge-six",
    ("service-stopped", None): "service-stopped.beyond",
    ("service-loopback", None): "service-loopback.beyond",
}  # fmt: skip


def six_alone(case: Case) -> bool:
    """Whether the service is planned over IPv6 alone."""
    return case.site.services[case.facts.service].family == "ipv6"


def judge_openings(case: Case) -> None:
    """The steps between the line and the device, of a service for IPv6 alone."""
    outside = case.facts.outside
    arrived = outside is not None and outside.verdict in THERE
    for gateway in case.ruled:
        planned = [
            say(
                "opening-for-to",
                transport=rule.transport,
                ports_text=ports_text(rule.target_ports),
                target_address=rule.target_address,
            )
            for rule in case.plan.forwards
            if rule.gateway == gateway and rule.service == case.by
        ]
        if not planned:
            case.step(f"rule:{gateway}", "broken", say("no-opening-is-planned"))
        else:
            case.step(f"rule:{gateway}", "ok" if arrived else "unknown", say("planned", planned=together(planned)))
    case.step("public-address", "skipped", say("over-ipv6-the-device"))


def judge_six(case: Case, six: Result | None) -> tuple[str, ...]:
    """What a look over IPv6 comes to. six: from outside. Returns: the causes that are left and rare."""
    name = case.facts.service
    if six is None or six.ok or six.untold:
        return ()
    router = case.facts.line.chain[-1] if case.facts.line.chain else None
    if six.expected == "unreachable":
        case.caused(
            "open-unplanned.judge-six",
            "certain",
            name=name,
            target_address=six.target_address,
            port=six.port,
            router=router or say("its-router"),
        )
    elif six.verdict in ("silent", "refused", "mismatched"):
        return _not_reached(case, six, router)
    return ()


def _not_reached(case: Case, six: Result, router: str | None) -> tuple[str, ...]:
    """It does not answer over IPv6: what it says to its own network tells where that ends."""
    facts, name = case.facts, case.facts.service
    inside, four = facts.inside6, None if six_alone(case) else facts.inside
    seen: dict[str, tuple[str, ...]] = {"outside6": ("other" if six.verdict == "mismatched" else six.verdict,)}
    if inside is not None and inside.verdict != "unproven":
        word = "same" if inside.verdict in THERE else "other" if inside.verdict == "mismatched" else inside.verdict
        seen["inside6"] = (word,)
    runs = four is not None and four.verdict in THERE
    told = judged(Footing((), way="six-runs" if runs else "six"), seen)
    host, sheet = case.site.services[name].host, deeds.SHEET(router) if router is not None else deeds.SHEET
    address, shown = six.target_address, inside.target_address if inside is not None else six.target_address
    answered = inside is not None and inside.verdict in THERE
    missing = "opening-missing.not-reached.sure"
    where = say("opening-missing.sure", router=router or say("its-router"))
    look = say("look-on-which-ipv6", host=host, target_address=address)
    sure = {
        "opening-missing": where + ("." if answered else say(missing, host=host, target_address=address)),
        "host-six-moved": look, "host-filters-all": look, "service-other": None,
    }  # fmt: skip
    values: dict[str, Value] = {
        "name": name, "host": host, "sheet": sheet, "detail": six.detail, "port": six.port, "router": router or "",
        "address": address or "",
    }  # fmt: skip
    found = dict(certainties(told.causes, told.certain))
    for code, certainty in found.items():
        at = shown if code in ("host-six-moved", "service-four-only") else address
        words = WORDS.get((code, answered)) or WORDS.get((code, None), code)
        case.caused(words, certainty, sure=sure.get(code, NOTHING), target_address=at, **values)
    return tuple(code for code, _ in told.causes if code not in found)
