"""A service over IPv6: nothing is translated there, so the device's own address and the openings count. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.check.results import Result
from hooper.ports import ports_text
from hooper.why.case import THERE, Case


def six_alone(case: Case) -> bool:
    """Whether the service is planned over IPv6 alone."""
    return case.site.services[case.facts.service].family == "ipv6"


def judge_openings(case: Case) -> None:
    """The steps between the line and the device, of a service for IPv6 alone."""
    outside = case.facts.outside
    arrived = outside is not None and outside.verdict in THERE
    for gateway in case.ruled:
        planned = [
            f"opening for {rule.transport} {ports_text(rule.target_ports)} to {rule.target_address}"
            for rule in case.plan.forwards
            if rule.gateway == gateway and rule.service == case.facts.service
        ]
        if not planned:
            case.step(f"rule:{gateway}", "broken", f"no opening is planned; see `{deeds.PLAN}`")
        else:
            case.step(f"rule:{gateway}", "ok" if arrived else "unknown", f"planned: {'; '.join(planned)}")
    case.step("public-address", "skipped", "over IPv6 the device has an address of its own")


def judge_six(case: Case, six: Result | None) -> None:
    """What a look over IPv6 comes to. six: from outside."""
    name = case.facts.service
    if six is None or six.ok or six.untold:
        return
    router = case.facts.line.chain[-1] if case.facts.line.chain else "its router"
    if six.expected == "unreachable":
        case.cause(
            "open-unplanned",
            "certain",
            f"{name} answers strangers over IPv6, at {six.target_address} port {six.port}, and is not to",
            f"Look for an opening to {six.target_address} in the IPv6 firewall of {router}, and remove it.",
        )
    elif six.verdict in ("silent", "refused"):
        _not_reached(case, six, router)
    elif six.verdict == "mismatched":
        case.cause("service-other", "likely", f"over IPv6: {six.detail}", f"Look who has {six.target_address} now.")


def _not_reached(case: Case, six: Result, router: str) -> None:
    """Nothing came back over IPv6: what the device says to its own network tells where it ends."""
    name, inside = case.facts.service, case.facts.inside6
    host = case.site.services[name].host
    if inside is not None and inside.verdict == "refused":
        case.cause(
            "service-four-only",
            "certain" if case.facts.inside is not None and case.facts.inside.verdict in THERE else "likely",
            f"{host} refuses {name} over IPv6, at {inside.target_address} port {inside.port}",
            f'Let it listen over IPv6 too (at ::), or write `family = "ipv4"` for {name}.',
            f"Look on {host} itself whether {name} runs, and at which addresses it listens.",
        )
        return
    if inside is not None and inside.verdict == "silent":
        look = f"Look on {host} which IPv6 addresses it has: one must be {six.target_address}, and stay."
        case.cause(
            "host-six-moved",
            "likely",
            f"nobody answers at {inside.target_address} at home either: {host} has another IPv6 address now",
            f"Give it an address that stays (no temporary one), and write it as `address6` of {host}; where the prefix"
            f" has changed, that too, then enter the openings of `{deeds.SHEET(router)}` anew.",
            look,
        )
        case.cause(
            "host-filters-all",
            "possible",
            f"{host} drops what comes in over IPv6: its own firewall",
            f"Let {name} in in the firewall of {host}, over IPv6 too.",
            look,
        )
        return
    answered = inside is not None and inside.verdict in THERE
    case.cause(
        "opening-missing",
        "likely",
        f"over IPv6 nothing reaches {name} at {six.target_address} port {six.port}"
        + (", and at home it answers there" if answered else ""),
        f"Enter the opening as `{deeds.SHEET(router)}` says, and let {name} in in the device's own firewall.",
        f"Look in the IPv6 firewall of {router} whether the opening is there"
        + ("." if answered else f", and whether {host} still has {six.target_address}."),
    )
    if answered:
        case.cause(
            "host-filters-strangers",
            "possible",
            f"the firewall of {host} answers its own network only, over IPv6",
            f"Let {name} in from every address in the firewall of {host}, over IPv6 too.",
            "Switch it off for a moment, and look from outside over IPv6.",
        )
