"""A service over IPv6: nothing is translated there, so the device's own address and the openings count. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.check.results import Result
from hooper.ports import ports_text
from hooper.why.case import THERE, Case
from hooper.words.said import NOTHING, say, together


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
            if rule.gateway == gateway and rule.service == case.facts.service
        ]
        if not planned:
            case.step(f"rule:{gateway}", "broken", say("no-opening-is-planned"))
        else:
            case.step(f"rule:{gateway}", "ok" if arrived else "unknown", say("planned", planned=together(planned)))
    case.step("public-address", "skipped", say("over-ipv6-the-device"))


def judge_six(case: Case, six: Result | None) -> None:
    """What a look over IPv6 comes to. six: from outside."""
    name = case.facts.service
    if six is None or six.ok or six.untold:
        return
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
    elif six.verdict in ("silent", "refused"):
        _not_reached(case, six, router)
    elif six.verdict == "mismatched":
        case.caused(
            "service-other.judge-six", "likely", sure=None, detail=six.detail, target_address=six.target_address
        )


def _not_reached(case: Case, six: Result, router: str | None) -> None:
    """Nothing came back over IPv6: what the device says to its own network tells where it ends."""
    name, inside = case.facts.service, case.facts.inside6
    host, sheet = case.site.services[name].host, deeds.SHEET(router) if router is not None else deeds.SHEET
    if inside is not None and inside.verdict == "refused":
        case.caused(
            "service-four-only",
            "certain" if case.facts.inside is not None and case.facts.inside.verdict in THERE else "likely",
            host=host,
            name=name,
            target_address=inside.target_address,
            port=inside.port,
        )
        return
    if inside is not None and inside.verdict == "silent":
        look = say("look-on-which-ipv6", host=host, target_address=six.target_address)
        case.caused("host-six-moved", "likely", sure=look, target_address=inside.target_address, host=host, sheet=sheet)
        case.caused("host-filters-all.not-reached", "possible", sure=look, host=host, name=name)
        return
    answered = inside is not None and inside.verdict in THERE
    case.cause(
        "opening-missing",
        "likely",
        say("opening-missing.says", name=name, target_address=six.target_address, port=six.port)
        + (say("opening-missing.not-reached.says") if answered else NOTHING),
        say("opening-missing.do", sheet=sheet, name=name),
        say("opening-missing.sure", router=router or say("its-router"))
        + ("." if answered else say("opening-missing.not-reached.sure", host=host, target_address=six.target_address)),
    )
    if answered:
        case.caused("host-filters-strangers", "possible", host=host, name=name)
