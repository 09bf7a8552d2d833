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
from hooper.words.said import NOTHING, Said, say


@dataclass(frozen=True, slots=True)
class Passed:
    """One service tried at an inner router's outer side. ok: null where this place cannot tell."""

    service: str
    transport: str
    port: int
    verdict: Verdict
    ok: bool | None
    detail: Said


@dataclass(frozen=True, slots=True)
class Between:
    """What a machine between two boxes sees of the inner one.

    wrong: the box that is, as far as it can be told. outer: the outer box, by its key. inner: the inner box, by its
    key. own_address: of this computer on that network. tried_address: the inner box's outer side, as it was tried.
    results: what answered there, one row a service.
    """

    outer: str
    inner: str
    own_address: str
    tried_address: str
    results: tuple[Passed, ...]
    wrong: str | None
    meaning: Said


async def look_between(
    door: Door,
    topology: Topology,
    plan: Plan,
    at: str | None,
    own: object,
    deadline: float,
    *,
    failed: Mapping[str, Said],
) -> Between:
    """Each public service at the outer side of the router that stands behind this computer's network.

    What answers there is right from that router inward; what then fails from outside is the outer box's or the
    provider's.

    Args: at: the gateway on whose LAN this computer is. own: its address. deadline: seconds for each probe. failed: the
    services that did not answer when they were last looked at from outside, with how long ago that was.
    Raises: UsageError: this computer is not between two boxes.
    """
    site = topology.site
    inner = next((key for key, gateway in site.gateways.items() if at is not None and at in gateway.behind), None)
    wan = site.gateways[inner].wan_behind(at) if inner is not None and at is not None else None
    if inner is None or wan is None or at is None:
        outer = sorted({key for gateway in site.gateways.values() for key in gateway.behind})
        where = say("this-machine-is-on-the-lan-of", at=at) if at is not None else say("this-machine-is-on-none-of-its")
        move = say("plug-it-into-the", outer=outer[0]) if outer else say("the-site-file-has-no-box")
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
        closed = say("sources-only", sources=rule.sources) if rule.sources else NOTHING
        yield replace(target, address=wan, port=port, beyond=closed)


def _passed(target: Target, seen: Seen | None) -> Passed:
    if seen is None:
        return Passed(target.service, target.transport, target.port, "unproven", None, target.beyond)
    ok = is_ok(replace(target, expected="reachable"), seen.verdict, ()) if seen.verdict != "unproven" else None
    return Passed(target.service, target.transport, target.port, seen.verdict, ok, seen.detail)


def _judged(
    inner: str, outer: str, wan: IPv4Address, rows: tuple[Passed, ...], failed: Mapping[str, Said], *, nobody: bool
) -> tuple[str | None, Said]:
    """Which box is wrong, as far as it can be told from here, and what that means."""
    bad = [row.service for row in rows if row.ok is False]
    good = [row.service for row in rows if row.ok]
    if nobody:
        said = say("nobody-has-the-address", wan=wan, inner=inner)
        return inner, say("lead-nowhere-read-its", said=said, outer=outer, wan_address=deeds.WAN_ADDRESS(inner))
    if bad and good:
        return inner, (say("lets-through-but-not", inner=inner, good=good, bad=bad))
    if bad:
        return inner, say("lets-nothing-through-its", inner=inner)
    outside = [service for service in good if service in failed]
    if outside:
        return outer, (say("and-all-behind-it", inner=inner, outside=outside, failed=failed[outside[0]], outer=outer))
    if good:
        return None, (say("and-all-behind-it-are", inner=inner, outer=outer))
    return None, say("nothing-here-could-be")
