"""What a detour costs: the time until an answer, directly and by a rented machine, where a service has both. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from hooper.check.results import Result
from hooper.planning.topology import Topology
from hooper.site.references import detours
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.site.model import Site


def delays(topology: Topology, results: Iterable[Result]) -> Iterator[Said]:
    """Side by side, the services of one port of one host that answered from the same place by both ways."""
    site = topology.site
    machines = set(detours(site).values())
    by_end: dict[tuple[str, int, str], dict[bool, Result]] = {}
    for result in results:
        if result.expected == "reachable" and result.verdict in ("answered", "connected"):
            around = topology.chain(result.service).gateways[0] in machines
            by_end.setdefault(_end(site, result), {}).setdefault(around, result)
    for found in by_end.values():
        if len(found) == 2:
            direct, detour = found[False], found[True]
            more_ms = detour.took_ms - direct.took_ms
            yield say(
                "detour-delay", direct=direct.service, direct_ms=direct.took_ms, detour=detour.service,
                detour_ms=detour.took_ms, more_ms=more_ms,
            )  # fmt: skip


def _end(site: Site, result: Result) -> tuple[str, int, str]:
    """Where it ends, whatever it is called."""
    service = site.services[result.service]
    return service.host, service.used_ports.first if service.has_ports else 0, result.transport
