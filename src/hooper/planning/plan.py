"""From a site to its plan: the forwards of every gateway, and the findings."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import date
from typing import TYPE_CHECKING

from hooper.planning.facts import Facts
from hooper.planning.findings import rank
from hooper.planning.looks import account, address, exposure, line, name, port, readiness, router, tunnel
from hooper.planning.paths import RefusedWay, Rules, everything_of, pinholes_of, way_of_six
from hooper.planning.topology import Topology
from hooper.planning.values import EVERYTHING, Forward, Plan

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


def make_plan(file: SiteFile, today: date, topology: Topology | None = None) -> Plan:
    """The plan for a site file.

    Args: today: accepted risks are judged by it. topology: of the site, where it was computed already.
    The order of entries in the file does not matter.
    """
    with _without_collecting():
        return _planned(file, today, topology or Topology(file.site))


@contextmanager
def _without_collecting() -> Iterator[None]:
    """Many small values that all stay: looking through them again and again for garbage would take half the time."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _planned(file: SiteFile, today: date, topology: Topology) -> Plan:
    facts = gather(file, today, topology)
    found = [
        *line.find(facts),
        *address.find(facts),
        *port.find(facts),
        *router.find(facts),
        *name.find(facts),
        *(tunnel.find(facts) if facts.site.tunnels else ()),
        *(account.find(facts) if facts.site.accounts else ()),
        *exposure.find_unmeant(facts),
        *exposure.accept(facts, [*exposure.find(facts), *readiness.find(facts)]),
    ]
    return Plan(facts.forwards, tuple(sorted(dict.fromkeys(found), key=rank)))


def gather(file: SiteFile, today: date, topology: Topology) -> Facts:
    """The ways and rules of a site, without judging them."""
    site = file.site
    hosts, ways, rules = topology.hosts, topology.ways, Rules(site)
    forwards: list[Forward] = []
    no_pinhole: dict[str, RefusedWay] = {}
    lines: dict[str, str] = {}
    lines6: dict[str, str] = {}
    openings: dict[tuple[str, str], list[Forward]] = {}
    for key, service in sorted(site.services.items()):
        if service.reach != "public":
            continue
        way = ways.get(key)
        own = topology.bearer(key) == key
        if way is not None and own:
            forwards += rules.forwards(key, way)
        chain = topology.chain(key)
        lines[key] = chain.line
        if site.devices[service.host].address6 is None:
            continue
        chain = way_of_six(site, service, hosts[service.host], chain)
        lines6[key] = chain.line
        if not own:
            continue
        pinholes = pinholes_of(site, key, chain)
        if isinstance(pinholes, RefusedWay):
            no_pinhole[key] = pinholes
            continue
        twins = openings.setdefault((service.host, chain.line), [])
        other = next((twin for twin in twins for pinhole in pinholes if _meet(twin, pinhole)), None)
        if other is None:
            twins += pinholes
            forwards += pinholes
        elif not _same_opening(other, pinholes):
            no_pinhole[key] = RefusedWay("port-clash", other.gateway, other.transport, 0, other.service)
    forwards += everything_of(ways.values(), rules)
    depth = {key: at for chains in hosts.values() for chain in chains for at, key in enumerate(chain.gateways)}
    forwards.sort(key=lambda rule: _order(rule, depth))
    return Facts(file, site, today, topology, hosts, ways, lines, lines6, tuple(forwards), no_pinhole)


def _order(rule: Forward, depth: dict[str, int]) -> tuple[object, ...]:
    """Outermost gateway first; on it by kind, port, transport and service, what takes all the rest last."""
    rest = rule.service == EVERYTHING
    ports = rule.outside_ports or (0, 0)
    address = rule.outside_address or ""
    return (
        depth.get(rule.gateway, 0),
        rule.gateway,
        rest,
        rule.kind,
        ports,
        rule.transport,
        rule.line,
        address,
        rule.service,
    )


def _meet(one: Forward, other: Forward) -> bool:
    """Whether two pinholes of one host have a port or protocol in common."""
    if one.outside_ports is None or other.outside_ports is None:
        return one.transport == other.transport
    same = "both" in (one.transport, other.transport) or one.transport == other.transport
    a, b = one.outside_ports, other.outside_ports
    return same and a[0] <= b[1] and b[0] <= a[1]


def _same_opening(one: Forward, others: list[Forward]) -> bool:
    """Whether the pinhole that is there lets exactly the same in, so that it serves both."""
    return any(
        (one.gateway, one.transport, one.outside_ports, one.sources)
        == (other.gateway, other.transport, other.outside_ports, other.sources)
        for other in others
    )
