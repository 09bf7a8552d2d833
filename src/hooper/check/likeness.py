"""Whom it looks like that answers in place of a service: another host of ours, a router's own page."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

import anyio

from hooper.check.probes import probe
from hooper.check.results import InsideSeen, Result, Seen
from hooper.check.targets import Target
from hooper.net.types import Door
from hooper.planning.topology import Topology
from hooper.words.said import Said, say

PAGE_S, LEAST_S = 1.5, 0.2  # seconds for a router's page, at most and at least
PAGES = (("https", 443), ("http", 80))


def likened(
    topology: Topology,
    target: Target,
    seen: Seen,
    result: Result,
    inside: Mapping[tuple[str, str, int], InsideSeen],
    showing: Callable[[str], tuple[str, ...]],
) -> Result:
    """A stranger's answer with whom it looks like, where that is another host of ours. Takes: as `another_of_ours`."""
    like = another_of_ours(topology, target, seen, inside, showing) if result.verdict == "mismatched" else None
    return result if like is None else replace(result, detail=result.detail + like.words, looks_like=like.who)


class Likeness(NamedTuple):
    """Whom it looks like. who: "service:KEY" or "gateway:KEY"."""

    who: str
    words: Said


def another_of_ours(
    topology: Topology,
    target: Target,
    seen: Seen,
    inside: Mapping[tuple[str, str, int], InsideSeen],
    showing: Callable[[str], tuple[str, ...]],
) -> Likeness | None:
    """The service of ours that looks so from inside; None: none does.

    inside: as seen now. showing: the services that ever showed a certificate or host key from inside.
    """
    services = topology.site.services
    if seen.fingerprint is not None:
        now = (key[0] for key, one in inside.items() if one.fingerprint == seen.fingerprint)
        what, own = say("host-key" if target.speaks == "ssh" else "certificate"), services[target.service].host
        shown = (*now, *showing(seen.fingerprint))
        twin = next((one for one in shown if one in services and services[one].host != own), None)
        if twin is not None:
            return Likeness(
                f"service:{twin}", say("like-fingerprint", sign=what, service=twin, host=services[twin].host)
            )
        return None
    if seen.greeting is None:
        return None
    twins = {key[0] for key, one in inside.items() if one.greeting == seen.greeting} - {target.service}
    twin = next(iter(twins)) if len(twins) == 1 else None
    if twin is None:
        return None
    return Likeness(f"service:{twin}", say("like-greeting", service=twin, host=services[twin].host))


async def routers_likeness(here: Door, topology: Topology, results: Sequence[Result], deadline: float) -> list[Result]:
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
        lan = topology.site.gateways[key].lan.ip
        line = next(iter(topology.site.lines), "")
        target = Target(key, speaks, "tcp", line, lan, port, (lan, port), "reachable")
        found[key].append(await probe(here, target, deadline))

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
