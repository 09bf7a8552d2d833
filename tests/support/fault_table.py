"""What a diagnosis must come to for each fault of the lab, and for two at once."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from itertools import combinations
from typing import Any, Literal

from hooper.evidence.worlds import Footing, outcomes, rows
from hooper.lab.faults import FAULTS
from hooper.lab.tunnel_faults import TUNNEL_FAULTS
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.why.questions import left_by, next_question, questions
from support.program import BOATHOUSE, Lab

FILE = parse_site(BOATHOUSE.encode(), "site.toml")
TOPOLOGY, PLAN = Topology(FILE.site), make_plan(FILE, date(2026, 11, 1))
# a rule for another transport to another device may be anybody's
NOT_TOLD = {("forward-wrong-host", "forward-wrong-transport")}
Routers = Literal["speaking", "mute"]
PHONE = "interface:usb0"
OF_TUNNELS = {fault.name for fault in TUNNEL_FAULTS}  # which have a table of their own
CAUSES = {  # those of IPv6 are in test_over_six, since the demo's site has none of it
    name: fault.cause
    for name, fault in FAULTS.items()
    if not fault.look and not fault.needs_six and name not in OF_TUNNELS
} | {"zone-down": "name-stale"}
# What looks like something else as long as nobody reads the router's page, or the server that keeps the name:
# the look that is asked for tells which.
UNREAD = {
    "forward-ended": "rule-missing-inner",
    "forward-wrong-interface": "rule-missing-inner",
    "name-contested": "name-stale",
}
MUTE = UNREAD | {
    "forward-off": "rule-missing-inner",
    "forward-limited": "rule-missing-inner",
    "forward-not-enforced": "rule-missing-inner",
    "forward-wrong-transport": "rule-missing-inner",
    "forward-wrong-port": "rule-wrong-host",
}


FOOTING = Footing(("fibre-box", "club-router"), both=False, tunnel=False)


def asked(service: str, cause: str, codes: frozenset[str]) -> tuple[frozenset[str], int]:
    """What somebody on site who knows the truth leaves of these causes, and after how many questions."""
    pool = tuple(questions(TOPOLOGY, PLAN, service))
    answers: dict[str, str] = {}
    row = next(row for row in rows(FOOTING) if row.code == cause)
    while (question := next_question(FOOTING, pool, answers, codes)) is not None:
        shown = outcomes((row,), question.look)
        answers[question.key] = "yes" if max(shown, key=lambda outcome: shown[outcome]) in question.yes else "no"
    return frozenset(row.code for row in left_by(FOOTING, pool, answers, codes)), len(answers)


def found_in(document: dict[str, Any]) -> dict[str, str]:
    """The causes by their certainty, those that are rare included."""
    return {one["code"]: one["certainty"] for one in document["causes"]} | dict.fromkeys(document["rare"], "rare")


def assert_found_by_asking(service: str, cause: str, found: dict[str, str]) -> None:
    """Five questions at most lead to it, where it is neither certain nor rare: what is told has to rule out what is far
    likelier first.
    """
    if found[cause] not in ("certain", "rare"):
        left, count = asked(service, cause, frozenset(code for code, how in found.items() if how != "rare"))
        assert (left, count <= 5) == (frozenset({cause}), True), (cause, found, left)


def expected(fault: str, routers: Routers) -> str:
    """The code that a diagnosis comes to without anything told."""
    return (UNREAD if routers == "speaking" else MUTE).get(fault, CAUSES[fault])


def service_of(*faults: str) -> str:
    """The service that all of them can hit."""
    wanted = {FAULTS[fault].usual for fault in faults}
    return "hub-page" if "hub-page" in wanted else "film-page"


@dataclass(frozen=True)
class Outlook:
    """A lab, a state with what a survey measured when all was well, and where it is looked from."""

    lab: Lab
    surveyed: str
    origin: str = PHONE
    routers: Routers = "speaking"

    def why(self, service: str, run: str) -> dict[str, str]:
        """The causes by their certainty. run: as `look`."""
        return found_in(self.look(service, run))

    def look(self, service: str, run: str) -> dict[str, Any]:
        """The whole diagnosis. run: a name for the state that is used."""
        state = f"{self.lab.folder}/{run}"
        shutil.rmtree(state, ignore_errors=True)
        shutil.copytree(self.surveyed, state)
        options = ("--from", self.origin, "--deadline", "0.6", "--state", state, "--json")
        return dict(self.lab.run("why", service, *options).document)


def wrong_about(outlook: Outlook, faults: tuple[str, str]) -> Iterator[str]:
    """Break both, mend the one that is named, and look again. Yields what was not as it should be.

    The later one is broken first: one that takes a rule away leaves nothing else to be broken about it.
    """
    lab, service, routers = outlook.lab, service_of(*faults), outlook.routers
    left = {fault: expected(fault, routers) for fault in faults}
    try:
        for fault in (*(("router-mute",) if routers == "mute" else ()), *reversed(faults)):
            lab.ask("break", fault=fault, service=service)
        while left:
            found = outlook.why(service, "pair")
            named = [code for code in found if code in left.values()]
            sure = {code for code, certainty in found.items() if certainty == "certain"}
            if not named or not sure <= set(left.values()):
                yield f"{' and '.join(left)} of {' and '.join(faults)} ({routers}, {service}): {found}"
                return
            mended = next(fault for fault, code in left.items() if code == named[0])
            lab.ask("mend", fault=mended)
            del left[mended]
        if found := outlook.why(service, "pair"):
            yield f"after {' and '.join(faults)} ({routers}, {service}) all is mended, and: {found}"
    finally:
        lab.ask("mend")


def pairs(routers: Routers) -> list[tuple[str, str]]:
    """All pairs, but for those that look the same, and those that cannot be there both."""
    return [
        (one, other)
        for one, other in combinations(CAUSES, 2)
        if expected(one, routers) != expected(other, routers)
        and (one, other) not in NOT_TOLD
        and not (FAULTS[one].touches and FAULTS[one].touches == FAULTS[other].touches)
    ]
