"""The table of causes: each fault of the lab alone, two at once, with routers that speak and with mute ones."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from hooper.evidence.worlds import Footing, outcomes, rows
from hooper.jsonform import plain
from hooper.lab.boathouse import NAME
from hooper.lab.fault import NothingToBreak
from hooper.lab.faults import FAULTS
from hooper.lab.router_pages import type_sheets
from hooper.lab.switchboard import Switchboard
from hooper.lab.town import Town
from hooper.planning.worksheet import make_sheets
from support.fault_table import (
    CAUSES,
    PHONE,
    PLAN,
    TOPOLOGY,
    Outlook,
    Routers,
    assert_found_by_asking,
    expected,
    found_in,
    pairs,
    service_of,
    wrong_about,
)
from support.program import Lab

PROXY = "socks5://198.51.100.7:1080"
OF_THIS_COMPUTER = ("own-tunnel", "own-line")  # the service itself is well
OF_THE_PHONE = ("phone-at-home", "phone-in-vpn")


@pytest.fixture
def surveyed(lab: Lab) -> str:
    """A state with what a survey measured while all was well."""
    state = f"{lab.folder}/surveyed"
    lab.run("survey", "--state", state, "--json")
    return state


def some(every: int, first: int) -> list[str]:
    return [fault for fault in CAUSES if fault not in OF_THE_PHONE][first::every]


@pytest.mark.parametrize(
    ("routers", "origin", "faults"),
    [
        ("speaking", PHONE, [fault for fault in CAUSES if service_of(fault) == "hub-page"]),  # others: test_program_why
        ("mute", PHONE, list(CAUSES)),
        ("speaking", PROXY, some(5, 0)),
        ("muted since", PHONE, some(5, 2)),
    ],
)
def test_each_fault_is_named_and_nothing_else_is_certain(
    lab: Lab, surveyed: str, routers: str, origin: str, faults: list[str]
) -> None:
    """What a survey measured just before, when all was well, is used where it still holds, and misleads nowhere.

    Where it is not certain at once, five questions at most lead to it.
    """
    if routers != "speaking":
        lab.ask("break", fault="router-mute", service="film-page")
    if routers == "mute":
        lab.run("survey", "--state", surveyed, "--json")
    outlook, kind = Outlook(lab, surveyed, origin), "speaking" if routers == "speaking" else "mute"
    for fault in faults:
        service, cause = service_of(fault), expected(fault, kind)  # type: ignore[arg-type]
        lab.ask("break", fault=fault, service=service)
        document = outlook.look(service, "alone")
        found = found_in(document)
        assert cause in found, (fault, found)
        foretold(fault, cause, document)
        assert {code for code, certainty in found.items() if certainty == "certain"} <= {cause}, (fault, found)
        assert_found_by_asking(service, cause, found)
        if routers == "speaking" and fault not in OF_THIS_COMPUTER:
            looked = ("--from", origin, "--deadline", "0.6", "--state", surveyed)
            assert lab.run("check", service, *looked).code != 0, fault
        lab.ask("mend", fault=fault)
    for service in {service_of(fault) for fault in faults}:
        assert outlook.why(service, "well") == {}


def foretold(fault: str, cause: str, document: dict[str, Any]) -> None:
    """What is seen of a fault is among what its row in the table of causes says."""
    footing = Footing(("fibre-box", "club-router"))
    mine = [row for row in rows(footing) if row.code == CAUSES[fault]]
    seen = {one["look"]: one["outcome"] for one in document["seen"]}
    odd = [[look for look, said in seen.items() if said not in outcomes((row,), look)] for row in mine]
    assert [] in odd or not mine, (fault, cause, seen, odd)


@pytest.mark.parametrize("routers", ["speaking", "mute"])
def test_of_two_faults_one_is_named_and_then_the_other(lab: Lab, surveyed: str, routers: Routers) -> None:
    """Some of them; `python -m fuzz.fault_pairs` tries all."""
    every = pairs(routers)
    chosen = every[5 if routers == "speaking" else 23 :: len(every) // 8]
    chosen += [("forward-wrong-port", "forward-wrong-transport")]  # both about the same entry of one table
    outlook = Outlook(lab, surveyed, routers=routers)
    assert [wrong for pair in chosen for wrong in wrong_about(outlook, pair)] == []


def test_what_two_faults_would_both_break_is_broken_once(lab: Lab) -> None:
    """A fault that changes the same thing as one that is there is refused, so that each can be mended by itself."""
    assert lab.run("lab", "break", "name-stale").code == 0
    ran = lab.run("lab", "break", "name-missing", "--json")
    assert (ran.code, "name-stale has broken the name's address" in ran.document["errors"][0]["message"]) == (2, True)
    assert lab.run("lab", "mend", "name-stale").code == 0
    assert lab.run("lab", "break", "name-missing").code == 0


def _as_it_is(town: Town) -> dict[str, Any]:
    """What a fault of the town can change."""
    zone, igd = [town.zone.get(NAME, kind) for kind in ("A", "AAAA")], town.igd.values()
    machines = {
        key: (one.off, one.hears, one.way_out, sorted(one.stopped), sorted(one.loopback_only), {**one.tcp}, {**one.udp},
              [(a.segment, a.address, a.address6, a.gateway, a.tunnel) for a in one.attachments])
        for key, one in town.nodes.items()
    }  # fmt: skip
    boxes = {
        key: (one.wan, one.outer, one.claims, [replace(rule) for rule in one.rules], {*one.blocked}, {**one.remote},
              {**one.tcp}, [*one.routes], [*one.openings])
        for key, one in town.boxes.items()
    }  # fmt: skip
    switches = (town.provider.busy, town.provider.closed, town.acme.refuses, [(one.strict, one.mute) for one in igd])
    shown = {key: one.context for key, one in town.identities.items()}
    return {"machines": machines, "boxes": boxes, "zone": (zone, town.zone.rival), "segments": {**town.segments},
            "widest": town.widest, "gone": {**town.gone}, "switches": switches, "shown": shown}  # fmt: skip


def test_what_is_mended_is_as_it_was() -> None:
    board = Switchboard()
    type_sheets(board.town, plain(make_sheets(TOPOLOGY, PLAN)))
    before, tried = _as_it_is(board.town), 0
    for name in FAULTS:
        try:
            board.breakages.break_(name, None)
        except NothingToBreak:  # it needs IPv6, a tunnel, or rules that a program has entered
            continue
        assert _as_it_is(board.town) != before, name
        board.breakages.mend(name)
        assert _as_it_is(board.town) == before, name
        tried += 1
    assert tried > 50
