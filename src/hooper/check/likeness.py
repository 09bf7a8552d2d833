"""Whom it looks like that answers in place of a service: another host of ours, a router's own page."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace

import anyio

from hooper.check.probes import probe
from hooper.check.results import InsideSeen, Result, Seen
from hooper.check.targets import Target
from hooper.net.types import Door
from hooper.planning.topology import Topology
from hooper.words.said import say

PAGE_S, LEAST_S = 1.5, 0.2  # seconds for a router's page, at most and at least
PAGES = (("https", 443), ("http", 80))


async def likened(
    here: Door,
    topology: Topology,
    results: Sequence[Result],
    inside: Mapping[tuple[str, str, int], InsideSeen],
    showing: Callable[[str], tuple[str, ...]],
    deadline: float,
) -> list[Result]:
    """The results of a look from outside, each stranger's with whom it looks like.

    inside: as seen now; empty: from here the routers cannot be looked at either. showing: the services that ever showed
    a certificate or host key from inside. deadline: seconds that are left for looking at the routers.
    """
    known = [
        _another_of_ours(topology, one, inside, showing) if one.verdict == "mismatched" else one for one in results
    ]
    return await _routers_likeness(here, topology, known, deadline) if inside else known


def _another_of_ours(
    topology: Topology,
    result: Result,
    inside: Mapping[tuple[str, str, int], InsideSeen],
    showing: Callable[[str], tuple[str, ...]],
) -> Result:
    """With the service of ours that looks so from inside, where one does."""
    if result.verdict != "mismatched":
        return result
    services, greeting = topology.site.services, result.evidence.greeting
    own = services[result.service]
    if result.fingerprint is not None:
        now = (key[0] for key, one in inside.items() if one.fingerprint == result.fingerprint)
        shown = (*now, *showing(result.fingerprint))
        twin = next((one for one in shown if one in services and services[one].host != own.host), None)
        sign, code = say("host-key" if own.speaks == "ssh" else "certificate"), "like-fingerprint"
    else:
        twins = {key[0] for key, one in inside.items() if greeting and one.greeting == greeting} - {result.service}
        twin, sign, code = next(iter(twins)) if len(twins) == 1 else None, None, "like-greeting"
    if twin is None:
        return result
    values = {"service": twin, "host": services[twin].host} | ({"sign": sign} if sign is not None else {})
    return replace(result, detail=result.detail + say(code, **values), looks_like=f"service:{twin}")


async def _routers_likeness(here: Door, topology: Topology, results: Sequence[Result], deadline: float) -> list[Result]:
    """The results, with those that a router's own page answered told so. Looks at the routers only where that helps:
    where a stranger answered, or something whose certificate was not seen inside.

    deadline: seconds that are left for it.
    """
    strange = [one for one in results if one.looks_like is None and (one.verdict == "mismatched" or _unlike(one))]
    if not strange or deadline < LEAST_S:
        return list(results)
    pages = await _pages(here, topology, min(PAGE_S, deadline))
    return [_told(one, pages) if one in strange else one for one in results]


async def _pages(here: Door, topology: Topology, deadline: float) -> dict[str, list[Seen]]:
    """What the routers show on their LAN side."""
    found: dict[str, list[Seen]] = {key: [] for key in topology.site.gateways}

    async def look(key: str, speaks: str, port: int) -> None:
        found[key].append(await probe(here, Target.alone(topology.site.gateways[key].lan.ip, port, speaks), deadline))

    async with anyio.create_task_group() as tasks:
        for key in found:
            for speaks, port in PAGES:
                tasks.start_soon(look, key, speaks, port)
    return found


def _unlike(result: Result) -> bool:
    """Whether it answered with a certificate that the service does not show inside."""
    inside = result.evidence.inside
    known = inside.fingerprint if inside is not None else None
    return result.verdict == "answered" and result.fingerprint not in (None, known)


def _told(result: Result, pages: Mapping[str, Sequence[Seen]]) -> Result:
    for key, shown in pages.items():
        for page in shown:
            same = page.fingerprint is not None and page.fingerprint == result.fingerprint
            title = result.evidence.page.title if result.evidence.page is not None else None
            alike = page.page is not None and page.page.title is not None and page.page.title == title
            if same or alike:
                words = result.detail + say("page-of-router", gateway=key)
                return replace(
                    result, verdict="mismatched", ok=False, problems=(), detail=words, looks_like=f"gateway:{key}"
                )
    return result
