"""The move that tells: a machine plugged in between two boxes tries the inner one by itself, as the outer one would."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import IPv4Address

from hooper import deeds
from hooper.check.checking import probe_all
from hooper.check.results import Seen, Verdict
from hooper.check.targets import Target, inner_targets, is_ok
from hooper.errors import UsageError
from hooper.net.types import Door
from hooper.planning.topology import Topology
from hooper.planning.values import Plan


@dataclass(frozen=True, slots=True)
class Passed:
    """One service tried at an inner router's outer side. ok: null where this place cannot tell."""

    service: str
    transport: str
    port: int
    verdict: Verdict
    ok: bool | None
    detail: str


@dataclass(frozen=True, slots=True)
class Between:
    """What a machine between two boxes sees of the inner one.

    wrong: the box that is, as far as it can be told. outer: the outer box, by its key. inner: the inner box, by its
    key. own_address: of this machine on that network. tried_address: the inner box's outer side, as it was tried.
    results: what answered there, one row a service.
    """

    outer: str
    inner: str
    own_address: str
    tried_address: str
    results: tuple[Passed, ...]
    wrong: str | None
    meaning: str


async def look_between(
    door: Door,
    topology: Topology,
    plan: Plan,
    at: str | None,
    own: object,
    deadline: float,
    *,
    failed: Mapping[str, str],
) -> Between:
    """Each public service at the outer side of the router that stands behind this machine's network.

    What answers there is right from that router inward; what then fails from outside is the outer box's or the
    provider's.

    Args: at: the gateway on whose LAN this machine is. own: its address. deadline: seconds for each probe. failed: the
    services that did not answer when they were last looked at from outside, with how long ago that was.
    Raises: UsageError: this machine is not between two boxes.
    """
    site = topology.site
    inner = next((key for key, gateway in site.gateways.items() if at is not None and at in gateway.behind), None)
    wan = site.gateways[inner].wan_behind(at) if inner is not None and at is not None else None
    if inner is None or wan is None or at is None:
        outer = sorted({key for gateway in site.gateways.values() for key in gateway.behind})
        where = f"this machine is on the LAN of {at}" if at is not None else "this machine is on none of its networks"
        move = f"plug it into the LAN of {outer[0]}" if outer else "the site file has no box behind another"
        raise UsageError(f"{where}, with no other router behind it", remedy=f"To look from between: {move}.")
    targets = list(_targets(topology, plan, inner, wan))
    open_to_all = [target for target in targets if not target.beyond]
    seen = dict(zip(open_to_all, await probe_all([(door, target) for target in open_to_all], deadline), strict=True))
    rows = tuple(_passed(target, seen.get(target)) for target in targets)
    nobody = bool(seen) and all(answer.nobody for answer in seen.values())
    wrong, meaning = _judged(inner, at, wan, rows, failed, nobody=nobody)
    return Between(at, inner, str(own), str(wan), rows, wrong, meaning)


def _targets(topology: Topology, plan: Plan, inner: str, wan: IPv4Address) -> Iterator[Target]:
    """The inner router's rules, each at its first outside port."""
    rules = {(f.service, f.transport): f for f in plan.forwards if f.gateway == inner and f.kind == "forward"}
    for target in inner_targets(
        topology, [key for key in topology.site.services if any(key == service for service, _ in rules)]
    ):
        rule = rules.get((target.service, target.transport)) or rules.get((target.service, "both"))
        if rule is None or rule.outside_ports is None or rule.target_ports is None:
            continue
        port = rule.outside_ports[0] + target.port - rule.target_ports[0]
        closed = f"only {', '.join(rule.sources)} may come in" if rule.sources else ""
        yield replace(target, address=wan, port=port, beyond=closed)


def _passed(target: Target, seen: Seen | None) -> Passed:
    if seen is None:
        return Passed(target.service, target.transport, target.port, "unproven", None, target.beyond)
    ok = is_ok(replace(target, expected="reachable"), seen.verdict, ()) if seen.verdict != "unproven" else None
    return Passed(target.service, target.transport, target.port, seen.verdict, ok, seen.detail)


def _judged(
    inner: str, outer: str, wan: IPv4Address, rows: tuple[Passed, ...], failed: Mapping[str, str], *, nobody: bool
) -> tuple[str | None, str]:
    """Which box is wrong, as far as it can be told from here, and what that means."""
    bad = [row.service for row in rows if row.ok is False]
    good = [row.service for row in rows if row.ok]
    if nobody:
        said = f"Nobody has the address {wan} here: {inner} is off, or has another WAN address, so that the rules of"
        return inner, f"{said} {outer} lead nowhere. Read its WAN address and give it with {deeds.WAN_ADDRESS(inner)}."
    if bad and good:
        return inner, (
            f"{inner} lets {', '.join(good)} through, but not {', '.join(bad)}: look at its rules for these, and"
            " whether the devices answer."
        )
    if bad:
        return inner, f"{inner} lets nothing through: its rules are missing, or lead to devices that do not answer."
    outside = [service for service in good if service in failed]
    if outside:
        return outer, (
            f"{inner} and all behind it are right, and yet {', '.join(outside)} did not answer from outside"
            f" ({failed[outside[0]]}): look at the rules of {outer} for it. If they are right, the provider stops it."
        )
    if good:
        return None, (
            f"{inner} and all behind it are right. What fails from outside is wrong at {outer}, or stopped by the"
            " provider before it."
        )
    return None, "Nothing here could be tried from this place."
