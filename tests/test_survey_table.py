"""Every kind of line that the lab has, with every way of being mute: what a survey makes of it, and in what time."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.lab.lines import KINDS, Shape
from hooper.lab.switchboard import Switchboard
from hooper.line.facts import LineFacts
from hooper.line.judging import line_findings
from hooper.line.measure import measure_line
from hooper.line.sources import Given
from hooper.net.lab_door import LabAddress, LabDoor
from hooper.site.model import Site
from hooper.sourced import as_told
from hooper.usecases.prepare.survey import document
from support.program import BOATHOUSE
from support.sites import site
from support.virtual import VirtualClock, run_virtually

DEADLINE = 5.0
SLACK = 3.0  # seconds: this computer has other things to do
AT_ONCE = 4
USUAL = ("endpoint-independent", "address-and-port-dependent", None)
PLAIN = BOATHOUSE.replace('"192.0.2.11:3478"]', '"192.0.2.11:3478", "[2001:db8:c0::10]:3478"]')
SIX = "2001:db8:44:7::105"


@dataclass(frozen=True)
class Case:
    """shape: what the lab is given. kind, can_forward: what a survey has to come to. findings: the codes, all of them.

    nats: how many NATs the hops show. missing: the gateways whose WAN address is asked for.
    """

    shape: dict[str, Any]
    kind: str
    can_forward: bool | None
    findings: tuple[str, ...] = ()
    nats: tuple[int, int | None] | None = None
    missing: tuple[str, ...] = ()
    told: dict[str, str] = field(default_factory=dict)
    nat: tuple[str | None, str | None, bool | None] | None = (
        "endpoint-independent",
        "address-and-port-dependent",
        None,
    )


def case(kind: str, can_forward: bool | None, /, *, line: str = "several-nats", **more: Any) -> Case:
    words = {key: more.pop(key) for key in list(more) if key in Shape.__dataclass_fields__}
    return Case({"kind": line, **words}, kind, can_forward, **more)


FIBRE = ("fibre-box",)
CASES = [
    case("several-nats", True, nats=(2, 2)),
    case("several-nats", True, nats=(2, 2), speaks="none"),
    case("several-nats", True, nats=(2, 2), speaks="both"),
    case("several-nats", True, nats=(2, 2), speaks="outer"),
    case("several-nats", True, nats=(2, 2), mapping="address", filtering="address",
         nat=("address-dependent", "address-dependent", None)),
    case("several-nats", True, nats=(2, 2), mapping="address-and-port", filtering="endpoint",
         nat=("address-and-port-dependent", "endpoint-independent", False)),
    case("several-nats", True, nats=(2, 2), hairpin=True,
         nat=("endpoint-independent", "address-and-port-dependent", True)),
    case("one-nat", True, line="one-nat", nats=(1, 1), findings=("gateway-not-on-the-way",)),
    case("one-nat", True, line="one-nat", nats=(1, 1), speaks="none", findings=("gateway-not-on-the-way",)),
    case("public", True, line="public", nat=None),
    case("several-nats", True, line="third-box", nats=(3, 3), speaks="both", findings=("box-not-in-file",)),
    case("unclear", None, line="third-box", nats=(3, 3), findings=("line-behind-router",), missing=FIBRE),
    case("carrier-nat", False, line="carrier-nat", nats=(3, 3), findings=("line-behind-carrier",)),
    case("carrier-nat", False, line="carrier-nat", nats=(3, 3), speaks="both", findings=("line-behind-carrier",)),
    case("carrier-nat", None, line="carrier-nat", dead=["gateway"], nats=(1, 3), findings=("line-behind-carrier",),
         missing=FIBRE),
    case("carrier-nat", False, line="carrier-nat", dead=["gateway"], told={"gateways.fibre-box/wan": "100.64.44.9"},
         nats=(1, 3), findings=("line-behind-carrier",)),
    case("carrier-nat", False, line="hidden-carrier", nats=(3, 3), findings=("line-behind-carrier",)),
    case("carrier-nat", False, line="hidden-carrier", nats=(3, 3), speaks="both", findings=("line-behind-carrier",)),
    case("shared-ports", False, line="ds-lite", nats=(3, 3), findings=("line-shares-ports",)),
    case("shared-ports", False, line="ds-lite", nats=(3, 3), speaks="both", findings=("line-shares-ports",)),
    case("shared-ports", False, line="shared-ports", nats=(2, 2), findings=("line-shares-ports",)),
    case("no-ipv4", False, line="no-ipv4", nat=None, findings=("line-without-ipv4", "resolver-silent")),
    case("no-ipv4", False, line="no-ipv4", nat=None, speaks="both", findings=("line-without-ipv4", "resolver-silent")),
    case("unclear", None, line="two-lines", nats=(2, 2), speaks="both", findings=("name-behind",)),
    case("several-nats", True, line="tunnel", nats=(2, 2), findings=("way-out-by-tunnel",)),
    case("unclear", None, dead=["stun"], nat=None, missing=FIBRE),
    case("several-nats", True, dead=["stun"], nat=None, speaks="both"),
    case("unclear", None, dead=["gateway"], nats=(1, 3), missing=FIBRE),
    case("several-nats", True, dead=["gateway"], nats=(1, 3), told={"gateways.fibre-box/wan": "203.0.113.44"}),
    case("several-nats", True, dead=["resolver"], nats=(2, 2), findings=("resolver-silent",) * 3),
    case("several-nats", True, resolver="unset", nats=(2, 2), findings=("resolver-unusable",)),
    case("several-nats", True, resolver="wrong", nats=(2, 2), findings=("resolver-differs",)),
    case("unclear", None, dead=["everything"], nat=None, missing=FIBRE, findings=("resolver-silent",) * 3),
]  # fmt: skip


@asynccontextmanager
async def towns(count: int) -> AsyncIterator[list[tuple[LabDoor, Switchboard]]]:
    """So many towns, all built before anything is measured."""
    built = [Switchboard(clock=VirtualClock()) for _ in range(count)]
    async with anyio.create_task_group() as tasks:
        ports = [await tasks.start(town.serve) for town in built]
        addresses = [LabAddress(port, town.token, Path()) for port, town in zip(ports, built, strict=True)]
        yield [(await LabDoor.open(address), town) for address, town in zip(addresses, built, strict=True)]
        tasks.cancel_scope.cancel()


async def survey(
    one: Case, door: LabDoor, town: Switchboard, deadline: float = DEADLINE, text: str = PLAIN
) -> tuple[LineFacts, Site, float]:
    """One survey of that line, and the seconds that it took."""
    where, now = site(text).site, door.clock.now()
    town.lines.set(Shape.read(one.shape))
    told = {key: as_told(value, now) for key, value in one.told.items()}
    start = anyio.current_time()
    facts = await measure_line(door, where, Given(told=told), deadline, now=now)
    return facts, where, anyio.current_time() - start


async def surveyed(one: Case, deadline: float = DEADLINE, text: str = PLAIN) -> tuple[LineFacts, Site, float]:
    async with towns(1) as ((door, town),):
        return await survey(one, door, town, deadline, text)


def differences(one: Case, facts: LineFacts, where: Site, took: float) -> list[str]:
    got = document(where, facts)
    nat = (got.nat.mapping, got.nat.filtering, got.nat.hairpin) if got.nat is not None else None
    found = {
        "kind": (got.situation, one.kind),
        "can_forward": (got.can_forward, one.can_forward),
        "findings": (sorted(f.code for f in got.findings), sorted(one.findings)),
        "nats": (got.way.nats if got.way is not None else None, one.nats),
        "missing": (tuple(m.gateway for m in got.missing), one.missing),
        "nat": (nat, one.nat),
        "evidence": (bool(got.evidence), True),
        "in time": (took < DEADLINE + SLACK, True),
    }
    return [f"{what}: {is_} instead of {should}" for what, (is_, should) in found.items() if is_ != should]


def test_each_line_is_named_rightly() -> None:
    """Several at once; what differs is looked at once more alone, since this computer has other things to do."""
    wrong: dict[str, list[str]] = {}
    said = set()

    async def look(each: Case, door: LabDoor, town: Switchboard) -> list[str]:
        facts, where, took = await survey(each, door, town)
        got = document(where, facts)
        said.add(got.situation)
        different = differences(each, facts, where, took)
        return [*different, *map(str, got.evidence)] if different else []

    async def work() -> None:
        again: list[Case] = []
        async with towns(AT_ONCE) as built:

            async def one_after_the_other(cases: list[Case], door: LabDoor, town: Switchboard) -> None:
                for each in cases:
                    if await look(each, door, town):
                        again.append(each)

            async with anyio.create_task_group() as tasks:
                for number, (door, town) in enumerate(built):
                    tasks.start_soon(one_after_the_other, CASES[number::AT_ONCE], door, town)
            for each in again:
                if different := await look(each, *built[0]):
                    wrong[f"{each.shape} {each.told}"] = different

    run_virtually(work)
    assert wrong == {}
    assert said == {"public", "one-nat", "several-nats", "carrier-nat", "shared-ports", "no-ipv4", "unclear"}
    assert {each.shape["kind"] for each in CASES} == set(KINDS)


@pytest.mark.parametrize("deadline", [0.2, 1.0])
def test_what_is_outstanding_is_told_in_time(deadline: float) -> None:
    facts, where, took = run_virtually(surveyed, case("unclear", None, dead=["everything"]), deadline)
    assert took < deadline + SLACK
    got = document(where, facts)
    assert ("the-routers-by-upnp" in {one.code for one in got.outstanding}) == (deadline < 0.5)
    assert got.situation == "unclear"
    assert not got.resolvers or deadline > 0.5  # nobody's silence is told of who was not asked


def test_ipv6_the_tunnels_end_and_what_each_router_speaks() -> None:
    facts, where, _ = run_virtually(surveyed, case("several-nats", True, line="tunnel"))
    got = document(where, facts)
    assert (got.own_address.ipv6, got.public_address.ipv6) == (SIX, SIX)
    assert got.tunnel == "tun0"
    by_tunnel = next(row for row in got.comparisons if str(row.left.what) == "through tun0")
    assert (by_tunnel.left.value, by_tunnel.right.value, by_tunnel.equal) == ("198.51.100.200", "203.0.113.44", False)
    assert {row.gateway: set(row.control) for row in got.gateways} == {
        "fibre-box": set(),
        "club-router": {"igd", "natpmp", "pcp"},
    }
    assert any(
        "translates" in str(row.meaning) or "arrives as it was sent" in str(row.meaning) for row in got.comparisons
    )


BARE = 'version = 1\n[lines.fibre]\n[measure]\nstun = ["192.0.2.10:3478"]\n'


@pytest.mark.parametrize(
    ("line", "kind", "can_forward"), [("public", "public", True), ("several-nats", "unclear", None)]
)
def test_a_site_without_a_router(line: str, kind: str, can_forward: bool | None) -> None:
    """Then this computer is on the line itself, or behind a router that nobody has told of, which is not asked."""
    facts, where, _ = run_virtually(surveyed, case(kind, can_forward, line=line), DEADLINE, BARE)
    got = document(where, facts)
    assert (got.situation, got.can_forward, got.public_address.ipv4) == (kind, can_forward, "203.0.113.44")
    assert facts.measured is not None
    assert (facts.measured.boxes, facts.measured.revealed) == ({}, ())


def test_pcp_is_asked_with_the_inner_routers_outer_address() -> None:
    """Else the outer router would see another address than the request names (RFC 6887 section 8.3)."""
    facts, _, __ = run_virtually(surveyed, case("several-nats", True, speaks="outer"))
    assert facts.measured is not None
    assert set(facts.measured.boxes["fibre-box"].control) == {"igd", "natpmp", "pcp"}
    assert not facts.measured.boxes["fibre-box"].between
    assert "line-behind-router" not in {f.code for f in line_findings(facts)}


def test_nothing_is_sent_to_anybody_who_was_not_named_given_or_revealed() -> None:
    """By the ledger of the town, for the kinds of line in which most is revealed."""

    async def work() -> None:
        for kind in ("third-box", "carrier-nat", "tunnel"):
            async with towns(1) as ((door, town),):
                facts, _, __ = await survey(case("", None, line=kind, speaks="both", hairpin=True), door, town)
                sent = {entry["to"] for entry in town.town.ledger if entry["transport"] != "dns"}
            named = {"192.0.2.10", "192.0.2.11", "2001:db8:c0::10", "192.0.2.53", "10.44.7.1", "192.168.90.1"}
            given = {"100.72.5.9", "100.80.1.1"}  # resolvers of this computer's interfaces
            assert facts.measured is not None
            revealed = {str(said.address) for said in facts.measured.revealed}
            own = {str(facts.public.value)}  # hops and hairpin
            group = {"239.255.255.250"}
            hosts = {to.rpartition(":")[0].strip("[]") for to in sent}
            assert hosts <= named | given | revealed | own | group, kind
            assert revealed == ({"192.168.100.1"} if kind == "third-box" else {"100.64.44.1"} if revealed else set())

    run_virtually(work)
