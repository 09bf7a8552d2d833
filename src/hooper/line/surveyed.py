"""What a survey measured of a line and what is kept of it for an hour: who comes later need not measure again. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from hooper.addresses import IPAddress
from hooper.line.facts import Hops, LineFacts
from hooper.sourced import FRESH, Sourced
from hooper.words.said import Said, say


@dataclass(frozen=True)
class KeptWay:
    """The hops from one place to one's own public address and outward, by which NATs could be counted.

    own: this computer's address; gateway: its default gateway; chain: the gateways that were thought to be on the way.
    """

    own: IPAddress
    gateway: IPAddress | None
    chain: tuple[str, ...]
    to_self: Hops
    outward: Hops | None


@dataclass(frozen=True)
class Surveyed:
    """wan: the outer addresses that routers told, with the words for how. way: null where no NATs could be counted."""

    wan: Mapping[str, tuple[str, Said]]
    way: KeptWay | None


def worth_keeping(facts: LineFacts) -> Surveyed:
    """What of a survey is kept beside the public address."""
    wan = {key: (said.value, said.source) for key, said in facts.wan.items() if said.measured}
    measured, own = facts.measured, facts.own.value
    if measured is None or measured.to_self is None or not measured.counted or own is None:
        return Surveyed(wan, None)
    way = KeptWay(own, facts.default_gateway.value, facts.chain, measured.to_self, measured.outward)
    return Surveyed(wan, way)


def recalled(
    told: Mapping[str, Sourced[str]], surveys: Mapping[str, tuple[datetime, Surveyed]], now: datetime
) -> tuple[dict[str, Sourced[str]], dict[str, KeptWay]]:
    """What was told, with what surveys of the last hour measured since, and the ways that they read, by line."""
    known, ways = dict(told), {}
    for line, (at, kept) in surveys.items():
        if not at <= now <= at + FRESH:
            continue
        for gateway, (address, source) in kept.wan.items():
            older = known.get(f"gateways.{gateway}/wan")
            if older is None or older.at is None or older.at < at:
                known[f"gateways.{gateway}/wan"] = Sourced(address, say("surveyed", source=source), at, "surveyed")
        if kept.way is not None:
            ways[line] = kept.way
    return known, ways
