"""What decides: the looks that are asked for, and whether the line is sound. Pure."""

from __future__ import annotations

from hooper import deeds
from hooper.line.judging import outer_wan, situation
from hooper.why.case import Case
from hooper.words.said import Said, say


def line_proven(case: Case) -> bool:
    """Whether packets to the public address surely reach the outermost gateway."""
    told = outer_wan(case.facts.line)
    fresh = told is None or told.fresh(case.facts.line.now)  # without it, the hops have said so, just now
    if case.facts.others or hairpin_works(case) or stand_in_reached(case):
        return True
    return situation(case.facts.line)[1] is True and fresh


def hairpin_works(case: Case) -> bool:
    """Whether the service itself answered this machine at the public address: so the rules for it are all right."""
    return case.facts.hairpin is not None and case.facts.hairpin.same is True


def stand_in_reached(case: Case) -> bool:
    """Whether a stand-in was reached from outside lately, by this service's transport: the line and the port are free.

    It may have had rules of its own, so it tells nothing of those of the service.
    """
    outside = case.facts.outside
    way = case.facts.ways.get(outside.transport) if outside is not None else None
    return way is not None and way.value == "answered" and way.fresh(case.facts.line.now)


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
