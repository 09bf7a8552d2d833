"""Whose site is silent for longer than agreed, and what there is to see of it from outside meanwhile.

A site's address may be somebody else's soon after it is gone: it is looked at once, as soon as it is silent, and never
again until the site is back. What people are told is kept, so that nothing is told twice, whoever restarts.
"""

from __future__ import annotations

import json
from collections.abc import Awaitable, Callable, Collection
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta
from typing import TYPE_CHECKING, NamedTuple

import anyio

from hooper.addresses import parse_address
from hooper.clock import shown_duration
from hooper.errors import HooperError, WireError
from hooper.site.protocols import SPEECHES
from hooper.wire import witness_talk as wire
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.net.types import Door
    from hooper.witness.register import KnownSite, Register

AT_ONCE = 32  # sites that something is told of
PORTS, NAMES = 8, 8  # that are looked at
LOOK_S, LOOKUP_S = 3.0, 3.0  # seconds
LOOKED_WITHIN = timedelta(minutes=20)  # after the last word: then the address may be somebody else's
REACHED = ("answered", "connected", "mismatched", "refused")
ENDS_WITHIN = timedelta(days=1)


class ToldOf(NamedTuple):
    """What people are told. code: what it comes to; empty: the site is back. says: in words."""

    code: str
    says: Said


Telling = Callable[["KnownSite", ToldOf], Awaitable[bool]]  # whether it was told; False: not now, it is tried again


@dataclass
class Watching:
    """door: by which it looks. tell: tells people. since: since when this witness hears at all."""

    door: Door
    register: Register
    tell: Telling
    since: datetime = field(default_factory=lambda: datetime.fromtimestamp(0, UTC))
    _looks: dict[bytes, tuple[datetime, str, Said]] = field(default_factory=dict)  # each site's, by its last word

    def __post_init__(self) -> None:
        self.start_anew()

    async def tick(self) -> list[tuple[KnownSite, ToldOf]]:
        """Look at all sites once; what was told. Raises: StateError."""
        done: list[tuple[KnownSite, ToldOf]] = []
        failed: list[HooperError] = []
        room = anyio.Semaphore(AT_ONCE)

        async def one(site: KnownSite) -> None:
            try:
                async with room:
                    told = await self._about(site)
                    if told is not None and await self.tell(site, told):
                        self.register.tell(site.key, told.code, (site.silent or site.seen) if told.code else None)
                        self._looks.pop(site.key, None)
                        done.append((site, told))
            except HooperError as exc:
                failed.append(exc)

        async with anyio.create_task_group() as tasks:
            for site in self.register.sites():
                if site.told or self._is_silent(site):
                    tasks.start_soon(one, site)
        if failed:
            raise failed[0]
        return done

    def start_anew(self) -> None:
        """This witness may have been cut off itself: what it did not hear and see until now says nothing."""
        self.since = self.door.clock.now()
        self._looks.clear()

    def _is_silent(self, site: KnownSite) -> bool:
        if site.seen is None:
            return False
        agreed = timedelta(seconds=_beat_of(site).agreed_s)
        return self.door.clock.now() - max(site.seen, self.since) > agreed

    async def _about(self, site: KnownSite) -> ToldOf | None:
        """What has to be told of a site now; None: nothing."""
        if site.seen is None:
            return None
        now = self.door.clock.now()
        beat = _beat_of(site)
        if not self._is_silent(site):
            if not site.told or site.seen <= self.since:
                return None
            away = round((site.seen - (site.silent or site.seen)).total_seconds())
            return ToldOf("", say("witness-back", away=shown_duration(away)))
        since = site.seen.astimezone(UTC)
        ends = _ends_soon(beat, now.date())
        if not site.told:
            looked = self._looks.get(site.key)
            if looked is None or looked[0] != site.seen:
                looked = self._looks[site.key] = (site.seen, *await self._look(site, beat, now))
            _, code, seen = looked
            return ToldOf(_with(code, ends), say(f"witness-silent.{code}", since=since, seen=seen) + _ending(ends))
        if ends and ends != _ends_in(site.told):
            return ToldOf(_with(_code_in(site.told), ends), say("witness-still", since=since) + _ending(ends))
        return None

    async def _look(self, site: KnownSite, beat: wire.Beat, now: datetime) -> tuple[str, Said]:
        """What there is to see: line-gone, keeper-gone, name-elsewhere, not-looked."""
        address = parse_address(site.address)
        elsewhere = await self._elsewhere(beat.names, site.address)
        if elsewhere is not None:
            return "name-elsewhere", say("witness-name", name=elsewhere[0], address=elsewhere[1])
        tcp = [one for one in beat.watch if one.transport == "tcp" and one.speaks in SPEECHES][:PORTS]
        if not tcp or site.seen is None or now - site.seen > LOOKED_WITHIN:
            return "not-looked", say("witness-not-looked")
        verdicts: dict[str, str] = {}

        async def one(watched: wire.Watched) -> None:
            from hooper.check.probes import probe  # which the witness needs for a silent site alone
            from hooper.check.targets import Target

            target = Target.alone(address, watched.port, watched.speaks)
            seen = await probe(self.door, replace(target, server_name=watched.name or None), LOOK_S)
            verdicts[watched.service] = seen.verdict

        async with anyio.create_task_group() as tasks:
            for watched in tcp:
                tasks.start_soon(one, watched)
        there = sorted(key for key, verdict in verdicts.items() if verdict in REACHED)
        if there:
            return "keeper-gone", say("witness-answers", services=there)
        return "line-gone", say("witness-nothing", services=sorted(verdicts))

    async def _elsewhere(self, names: Collection[str], address: str) -> tuple[str, str] | None:
        """The first name that leads elsewhere than where the site was seen; it is asked for, and not gone to."""
        for name in list(names)[:NAMES]:
            with suppress(HooperError, TimeoutError), anyio.fail_after(LOOKUP_S):
                found = await self.door.lookup(name, "ipv6" if ":" in address else "ipv4")
                if found and address not in map(str, found):
                    return name, str(found[0])
        return None


def _beat_of(site: KnownSite) -> wire.Beat:
    nonce = wire.in_base64(bytes(wire.NONCE))
    try:
        return wire.Beat.of({**json.loads(site.beat), "nonce": nonce})
    except (WireError, ValueError):
        return wire.Beat(bytes(wire.NONCE), 86_400)


def _ends_soon(beat: wire.Beat, today: date) -> str:
    """The first certificate that ends within a day, with that day; empty: none."""
    for key, day in beat.ends:
        with suppress(ValueError):
            if date.fromisoformat(day) - today <= ENDS_WITHIN:
                return f"{key}={day}"
    return ""


def _with(code: str, ends: str) -> str:
    return f"{code}/{ends}" if ends else code


def _code_in(told: str) -> str:
    return told.split("/")[0]


def _ends_in(told: str) -> str:
    return "/".join(told.split("/")[1:])


def _ending(ends: str) -> Said:
    key, _, day = ends.partition("=")
    return say("witness-ends", certificate=key, day=day) if ends else NOTHING
