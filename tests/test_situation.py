"""Judging what was measured of a line: the pure parts, by tables of evidence."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import UTC, datetime
from ipaddress import IPv4Address, ip_address
from itertools import pairwise
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.line.facts import BoxSaid, Hops, LineFacts, Measured, NatBehaviour, ResolverSaid, between
from hooper.line.hops import FARTHEST
from hooper.line.judging import compare, line_findings, missing_numbers
from hooper.line.nat import SAMPLES, common_ports, spread_ports
from hooper.line.situation import judge
from hooper.sourced import Sourced
from hooper.usecases.prepare.survey import document
from hooper.words.said import quoted, say
from support.program import BOATHOUSE
from support.sites import site

NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
SITE = site(BOATHOUSE).site
PUBLIC, OTHER = IPv4Address("203.0.113.44"), IPv4Address("203.0.113.77")
CLUB, FIBRE = IPv4Address("10.44.7.1"), IPv4Address("192.168.90.1")
STUN = IPv4Address("192.0.2.10")


def hops(*seen: str | None, to: IPv4Address = PUBLIC, arrived: int | None = None) -> Hops:
    shown = [ip_address(one) if one else None for one in seen]
    return Hops(to, (*shown, *[None] * (FARTHEST - len(shown))), arrived)


def facts(measured: Measured | None = None, **changes: Any) -> LineFacts:
    seen = (
        Sourced(PUBLIC, quoted("STUN server 192.0.2.10:3478")),
        Sourced(PUBLIC, quoted("STUN server 192.0.2.11:3478")),
    )
    base = LineFacts(
        now=NOW,
        line="fibre",
        chain=("fibre-box", "club-router"),
        at="club-router",
        own=Sourced(IPv4Address("10.44.7.105"), quoted("interface lan0")),
        default_gateway=Sourced(CLUB, quoted("route")),
        public=seen[0],
        measured=measured if measured is not None else Measured(seen=seen),
    )
    return replace(base, **changes)


OUTWARD = hops("10.44.7.1", "192.168.90.1", "203.0.113.1", to=STUN)


@pytest.mark.parametrize(
    ("to_self", "outward", "count"),
    [
        (hops("10.44.7.1"), OUTWARD, (2, 2)),
        (hops(), OUTWARD, (1, 1)),
        (hops("10.44.7.1", "192.168.90.1"), OUTWARD, (3, 3)),
        (hops("10.44.7.1"), hops("10.44.7.1", None, "203.0.113.1", to=STUN), (2, 3)),
        (hops("10.44.7.1"), hops("10.44.7.1", to=STUN), (2, None)),
        (hops(None, "192.168.90.1"), None, (3, None)),
        (hops("10.44.7.1", arrived=2), None, (2, 2)),
        (hops(), None, (1, None)),
    ],
)
def test_nats_are_counted_by_who_is_no_longer_heard(to_self: Hops, outward: Hops | None, count: Any) -> None:
    assert between(to_self, outward) == count


def told(value: str, how: str = "told") -> Sourced[str]:
    return Sourced(value, quoted(how), NOW, "told" if how == "told" else "measured")


MUTE_OUTER = hops("10.44.7.1", None, "203.0.113.1", to=STUN)
THREE = hops("10.44.7.1", "192.168.90.1")  # a third stands before the public address
SAID = "it says so by UPnP"


@pytest.mark.parametrize(
    ("to_self", "outward", "wan", "kind", "can_forward"),
    [
        (hops("10.44.7.1"), OUTWARD, {}, "several-nats", True),
        (hops("10.44.7.1"), MUTE_OUTER, {}, "unclear", None),
        (hops(), OUTWARD, {}, "one-nat", True),
        # one box more, private: one's own or the provider's
        (THREE, hops("10.44.7.1", "192.168.90.1", "192.168.100.1", to=STUN), {}, "unclear", None),
        # two more, private: hardly anybody has that many
        (hops("10.44.7.1", "192.168.90.1", "10.9.0.1"), None, {}, "carrier-nat", None),
        # of the provider's space
        (hops("10.44.7.1", "192.168.90.1", "100.64.0.1"), None, {}, "carrier-nat", False),
        (THREE, hops("10.44.7.1", "192.168.90.1", "192.0.0.1", to=STUN), {}, "shared-ports", False),
        # a router with a public address stands before the public address
        (THREE, OUTWARD, {}, "carrier-nat", False),
        # the outer box says that it has another public address
        (hops("10.44.7.1"), OUTWARD, {"fibre-box": told("203.0.113.77", SAID)}, "unclear", None),
        (hops("10.44.7.1", "192.168.90.1"), OUTWARD, {"fibre-box": told("203.0.113.77", SAID)}, "carrier-nat", False),
        (None, None, {"fibre-box": told("203.0.113.77", SAID)}, "carrier-nat", None),
        (None, None, {"fibre-box": told("203.0.113.77")}, "unclear", None),
        # numbers are better than hops
        (hops("10.44.7.1"), MUTE_OUTER, {"fibre-box": told("203.0.113.44")}, "several-nats", True),
        (hops("10.44.7.1"), MUTE_OUTER, {"fibre-box": told("100.64.3.4")}, "carrier-nat", False),
        (hops("10.44.7.1"), MUTE_OUTER, {"fibre-box": told("192.0.0.2")}, "shared-ports", False),
        (hops("10.44.7.1"), MUTE_OUTER, {"fibre-box": told("192.168.1.2")}, "unclear", None),
        (None, None, {"club-router": told("203.0.113.44", SAID)}, "one-nat", True),
    ],
)  # fmt: skip
def test_the_kinds_by_their_evidence(to_self: Any, outward: Any, wan: Any, kind: str, can_forward: bool | None) -> None:
    seen = (Sourced(PUBLIC, quoted("STUN")),)
    measured = Measured(seen=seen, to_self=to_self, outward=outward, counted=outward is not None)
    got = facts(measured, wan=wan)
    judged = judge(got)
    assert (judged.kind, judged.can_forward) == (kind, can_forward)
    assert judged.evidence
    assert all(said and str(said)[-1] != "." for said in judged.evidence)
    wanted = [one.gateway for one in missing_numbers(SITE, got)]
    measured_already = any(one.measured for one in wan.values())
    assert wanted == (
        ["fibre-box"] if can_forward is None and not measured_already and "192.168" not in str(wan) else []
    )


def test_two_public_addresses_may_be_two_lines() -> None:
    seen = (
        Sourced(PUBLIC, quoted("STUN server 192.0.2.10:3478")),
        Sourced(OTHER, quoted("STUN server 192.0.2.11:3478")),
    )
    got = facts(Measured(seen=seen), wan={"fibre-box": told("203.0.113.99", SAID)})
    assert judge(got).kind == "unclear"
    assert "line-has-two-addresses" in {f.code for f in line_findings(got)}
    row = next(row for row in compare(SITE, got) if str(row.left.what) == str(row.right.what) == "public address")
    assert (row.left.value, row.right.value, row.equal) == (str(PUBLIC), str(OTHER), False)


def test_the_carriers_space_on_this_machine() -> None:
    """On its way out it is carrier NAT; on a tunnel's interface it never comes to be the own address."""
    mobile = facts(own=Sourced(IPv4Address("100.72.5.20"), quoted("interface usb0")), at=None, chain=())
    assert judge(mobile).kind == "carrier-nat"
    translated = facts(own=Sourced(IPv4Address("192.0.0.4"), quoted("interface clat4")), at=None, chain=())
    assert judge(translated).kind == "no-ipv4"


def test_a_machine_elsewhere_says_nothing_of_the_line() -> None:
    away = facts(
        own=Sourced(None, quoted("not at the site")),
        at=None,
        public=Sourced(None, quoted("this computer is not at the site")),
    )
    judged = judge(away)
    assert (judged.kind, judged.can_forward) == ("unclear", None)
    assert "none of the site's networks" in str(judged.evidence[0])


def test_another_router_on_this_network_is_not_on_the_way() -> None:
    """The system's own gateway may be one that the file does not have; it counts where it is on the path."""
    box = BoxSaid(IPv4Address("10.44.7.2"), ("igd",), OTHER, quoted(SAID))
    aside = Measured(seen=(Sourced(PUBLIC, quoted("STUN")),), revealed=(box,))
    assert judge(facts(aside)).kind == "unclear"
    assert "fibre-box" in str(judge(facts(aside)).evidence[0])
    holder = replace(aside, revealed=(replace(box, wan=PUBLIC),))
    assert (judge(facts(holder)).kind, judge(facts(holder)).box_before) == ("several-nats", True)


def test_a_line_that_is_down_says_so_itself() -> None:
    boxes = {"fibre-box": BoxSaid(FIBRE, ("natpmp",), down=True)}
    down = facts(Measured(boxes=boxes), public=Sourced(None, quoted("no STUN server answered")))
    assert judge(down).kind == "no-ipv4"
    private = facts(
        Measured(seen=(Sourced(PUBLIC, quoted("STUN")),), boxes=boxes)
    )  # it has a private address and calls it none
    assert judge(private).kind == "unclear"


def test_silent_servers_failing_resolvers_and_boxes_by_hand_that_answer() -> None:
    resolvers = (
        ResolverSaid(ip_address("0.0.0.0"), 53, "machine", "unusable"),
        ResolverSaid(ip_address("192.0.2.53"), 53, "site", "failing"),
        ResolverSaid(CLUB, 53, "machine", "silent"),
    )
    boxes = {"fibre-box": BoxSaid(FIBRE, ("igd",), PUBLIC, quoted(SAID), between=True)}
    got = document(SITE, facts(Measured(resolvers=resolvers, boxes=boxes, outstanding=(say("the-hops"),))))
    codes = [(f.code, f.subject) for f in got.findings]
    assert ("resolver-unusable", "site") in codes
    assert ("resolver-silent", "measure.resolvers") in codes
    assert ("resolver-silent", "site") in codes
    assert any("Hooper can drive it" in str(remark) for remark in got.remarks)
    assert any("NAT is between" in str(remark) for remark in got.remarks)
    assert any("firewall" in str(remark) for remark in got.remarks)
    assert got.outstanding == (say("the-hops"),)


# --- ports of a shared address


def samples(outside: list[int]) -> list[tuple[int, int]]:
    step, chance = (65536 - 1024) // SAMPLES, random.Random(7)
    return [(1024 + number * step + chance.randrange(step), port) for number, port in enumerate(outside)]


@given(st.integers(1, 63), st.integers(6, 12), st.randoms(use_true_random=False))
def test_a_block_of_ports_is_seen(block: int, bits: int, chance: random.Random) -> None:
    """One block of the given size: 64 to 4096 ports."""
    first = (block << bits) & 0xFFFF
    ports = [first + chance.randrange(1 << bits) for _ in range(SAMPLES)]
    spread = sorted(set(ports))
    if len(spread) < SAMPLES - 1 or max(b - a for a, b in pairwise(spread)) <= 4:
        return
    assert common_ports(samples(ports)) is not None


def test_ports_told_by_bits_in_their_middle() -> None:
    """RFC 7597 section 5.1: bits of the port set in the middle, 16 ports at a time."""
    ports = [(a << 12) | (0x5A << 4) | low for a, low in ((1, 3), (4, 9), (7, 1), (9, 15), (12, 0), (15, 6))]
    assert "bits 4 to 11" in str(common_ports(samples(ports)))


@pytest.mark.parametrize(
    "ports",
    [
        [1024, 12000, 23000, 34000, 45000, 60000],  # all over the place
        [62000, 62001, 62002, 62003, 62004, 62005],  # counted up
        [62000, 62002, 62004, 62006, 62008, 62010],  # counted up, with the parity kept
        [20480, 20481],  # too few to tell
        [],
    ],
)
def test_ports_that_have_nothing_in_common(ports: list[int]) -> None:
    assert common_ports(samples(ports)) is None


@given(st.randoms(use_true_random=False))
def test_kept_ports_are_never_taken_for_a_set(chance: random.Random) -> None:
    step = (65536 - 1024) // SAMPLES
    ports = [1024 + number * step + chance.randrange(step) for number in range(SAMPLES)]
    assert common_ports([(port, port) for port in ports]) is None


def test_ports_in_blocks_behind_carrier_nat_stay_carrier_nat() -> None:
    nat = NatBehaviour(own_ports="20480-21503")
    seen = (Sourced(PUBLIC, quoted("STUN")),)
    assert judge(facts(Measured(seen=seen, nat=nat))).kind == "shared-ports"
    assert judge(facts(Measured(seen=seen, nat=nat), wan={"fibre-box": told("100.64.1.1")})).kind == "carrier-nat"


def test_the_ports_that_are_tried_hide_nothing_by_chance() -> None:
    """Each bit differs among them, also where one is lost, so that a part of the ports is always seen to be one."""
    for _ in range(300):
        ports = spread_ports()
        assert len(set(ports)) == SAMPLES
        assert all(1024 <= port < 65536 for port in ports)
        for lost in (None, *ports):
            left = [port for port in ports if port != lost]
            outside = [20480 + number * 137 for number in range(len(left))]
            assert common_ports(list(zip(left, outside, strict=True))) == "20480-21503"
