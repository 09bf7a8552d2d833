"""Keeping names current: what they should be, what they are, and an update only where the two differ."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Protocol

import anyio

from hooper import deeds
from hooper.addresses import classify
from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.line.public import public_addresses
from hooper.line.sources import Given, PublicAddress
from hooper.names.authority import (
    QUESTION_S,
    Published,
    ZoneServers,
    authority_for,
    published,
    resolvers_of,
    shown_by_all,
)
from hooper.names.publish import UpdaterBusy, UpdaterRefuses, open_publisher
from hooper.names.rows import NameRow
from hooper.net.types import Door
from hooper.planning.values import Finding
from hooper.site.model import Site
from hooper.sourced import SourcedAddress
from hooper.store.updates import LastUpdate

SHOWN_EVERY = 1.0  # seconds between looks whether an update has arrived


LAST_S = 1.0  # seconds for this machine's own resolver, once all others were asked in vain


class UpdateMemory(Protocol):
    """What is remembered of updates."""

    def last_update(self, name: str, kind: str, now: datetime) -> LastUpdate | None: ...

    def save_update(self, name: str, kind: str, last: LastUpdate) -> None: ...


@dataclass
class Names:
    """One run. known: of the lines, before anything is asked. base: the site file's folder.

    deadline: seconds for each question; patience: seconds for an update to show at the authoritative servers.
    """

    here: Door
    site: Site
    base: Path
    known: Given
    deadline: float
    patience: float
    memory: UpdateMemory | None
    trouble: list[HooperError] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    public: dict[str, PublicAddress] = field(default_factory=dict)
    _unread: set[str] = field(default_factory=set)  # names whose published address nobody tells

    async def look(self, names: Sequence[str]) -> list[NameRow]:
        """How the names stand. Raises: NoNetwork."""
        rows, _ = await self._look(names)
        return [rows[name] for name in names]

    async def _look(self, names: Sequence[str]) -> tuple[dict[str, NameRow], dict[str, ZoneServers]]:
        wanted: dict[str, SourcedAddress] = {}
        where: dict[str, ZoneServers] = {}
        rows: dict[str, NameRow] = {}

        async def of_lines() -> None:
            lines = tuple(dict.fromkeys(self.site.names[name].line for name in names))
            self.public = await public_addresses(self.here, self.site, lines, self.known, self.deadline)
            for line, found in self.public.items():
                wanted[line] = found.address
                self.findings += found.findings()

        async def of_name(name: str) -> None:
            entry = self.site.names[name]
            where[name] = ZoneServers(None, ())
            shown = Published(None, f"no server has told it within {self.deadline:g} s")
            with anyio.move_on_after(self.deadline):  # for all who are asked about it
                where[name] = await authority_for(self.here, self.site, name, entry.updated_by, self.deadline)
                shown = await published(self.here, where[name], name, "A", min(self.deadline, QUESTION_S))
                if shown.values is None or not where[name].authoritative:
                    self._unread.add(name)  # what resolvers have may be old
                if shown.values is None and where[name].authoritative:
                    resolving = ZoneServers(None, tuple(await resolvers_of(self.here, self.site)))
                    shown = await published(self.here, resolving, name, "A", min(self.deadline, QUESTION_S))
            if shown.values is None:
                self._unread.add(name)
            values = shown.values
            if values is None:  # no server could be asked directly: then as any program would
                values, source = (), "no resolver answers"
                with anyio.move_on_after(min(self.deadline, LAST_S)), suppress(HooperError):
                    found = await self.here.lookup(name.replace("*", "hooper", 1), "ipv4")
                    values, source = tuple(str(address) for address in found), "this machine's resolver"
            else:
                source = shown.source
            rows[name] = NameRow(name, "A", entry.updated_by, (), "", values, source, "unknown", False, "")

        async with anyio.create_task_group() as tasks:
            tasks.start_soon(of_lines)
            for name in names:
                tasks.start_soon(of_name, name)
        judged = {
            name: _judged(rows[name], wanted[self.site.names[name].line], self.here.clock.now()) for name in names
        }
        return {name: self._doubted(row) for name, row in judged.items()}, where

    def _doubted(self, row: NameRow) -> NameRow:
        """A name whose own servers did not answer is not called current: a resolver may have kept what it has."""
        if row.name not in self._unread or not row.ok:
            return row
        detail = f"its own servers do not answer; {row.published_source} has this, which may be old"
        return replace(row, action="unknown", ok=False, detail=detail)

    # --- update

    async def update(self, names: Sequence[str], *, again: bool, dry: bool) -> list[NameRow]:
        """Update those that are not as they should be. again: ask also where the provider said never or later.

        Raises: NoNetwork; StateError.
        """
        rows, where = await self._look(names)
        out: list[NameRow] = []
        for name in names:
            row = rows[name]
            if row.action == "needed" and name in self._unread and self._was_done(row):
                detail = (
                    f"nobody tells what is published: {row.published_source}; the last update was for {row.wanted[0]}"
                )
                row = replace(row, action="unknown", detail=detail)
            elif row.action == "needed" and not dry:
                row = await self._update(row, where[name], again=again)
            out.append(row)
        return out

    def _last(self, row: NameRow) -> LastUpdate | None:
        return self.memory.last_update(row.name, row.type, self.here.clock.now()) if self.memory is not None else None

    def _was_done(self, row: NameRow) -> bool:
        """Whether the last update was for the address that is wanted, and was taken."""
        last = self._last(row)
        return last is not None and last.outcome == "done" and last.value == row.wanted[0]

    async def _update(self, row: NameRow, where: ZoneServers, *, again: bool) -> NameRow:
        now, value = self.here.clock.now(), row.wanted[0]
        mark = mark_of(self.site, row.updated_by)
        last = self._last(row)
        if last is not None and not again:
            held = _held(row, last, mark, now)
            if held is not None:
                return held
        try:
            publisher = open_publisher(self.here, self.site, row.updated_by, self.base, self.deadline)
            said = await publisher.set(row.name, row.type, value)
        except UpdaterBusy as exc:
            until = now + timedelta(seconds=exc.wait_s)
            self._remember(row, LastUpdate(value, now, "wait", exc.message, until, mark))
            exc.remedy = f"Run the command again after {rfc3339(until)}; before, it is not asked."
            return self._failed(row, exc, "waiting")
        except UpdaterRefuses as exc:
            self._remember(row, LastUpdate(value, now, "never", exc.message, None, mark))
            exc.remedy += f" Then give {deeds.ASK_AGAIN}: until then it is not asked any more."
            return self._failed(row, exc, "refused")
        except HooperError as exc:
            self._remember(row, LastUpdate(value, now, "failed", exc.message, None, mark))
            return self._failed(row, exc, "failed")
        self._remember(row, LastUpdate(value, now, "done", said.text, None, mark))
        return await self._verified(row, where, said.text)

    async def _verified(self, row: NameRow, where: ZoneServers, said: str) -> NameRow:
        """Wait until the authoritative servers show it. `done` alone proves nothing."""
        with anyio.move_on_after(self.patience):
            while True:
                if await shown_by_all(self.here, where, row.name, row.type, row.wanted[0], self.deadline):
                    break
                await self.here.clock.sleep(SHOWN_EVERY)
        shown = await published(self.here, where, row.name, row.type, self.deadline)
        row = replace(row, action="updated", published=shown.values or (), published_source=shown.source)
        if row.published == row.wanted:
            return replace(row, ok=True, detail="")
        if shown.values is None:
            return replace(row, detail=f"{said}; whether it shows could not be asked: {shown.source}")
        detail = f"{said}, but after {self.patience:g} s it does not show yet"
        return replace(row, detail=detail)

    def _failed(self, row: NameRow, exc: HooperError, action: str) -> NameRow:
        exc.message = f"{row.name}: {exc.message}"
        self.trouble.append(exc)
        return replace(row, action=action, detail=exc.message)  # type: ignore[arg-type]

    def _remember(self, row: NameRow, last: LastUpdate) -> None:
        if self.memory is not None:
            self.memory.save_update(row.name, row.type, last)


def _judged(row: NameRow, wanted: SourcedAddress, now: datetime) -> NameRow:
    """The row held against the address that it should have."""
    if wanted.value is None:
        return replace(row, wanted_source=wanted.words(now), detail=f"its address is not known: {wanted.words(now)}")
    kind = classify(wanted.value)
    if not kind.reachable:
        detail = f"{wanted.value} is {kind.meaning} ({kind.source}): a name for it leads nobody here"
        return replace(row, wanted_source=wanted.words(now), detail=detail)
    row = replace(row, wanted=(str(wanted.value),), wanted_source=wanted.words(now))
    same = row.published == row.wanted
    if row.updated_by in ("router", "device"):
        detail = "" if same else f"it is kept by the {row.updated_by}: have it updated there"
        return replace(row, action="watched", ok=same, detail=detail)
    return replace(row, action="current" if same else "needed", ok=same)


def _held(row: NameRow, last: LastUpdate, mark: str, now: datetime) -> NameRow | None:
    """Whether the provider is to be left alone, by what it said the last time."""
    if last.outcome == "wait" and last.not_before is not None and now < last.not_before:
        detail = f"the provider asked to wait until {rfc3339(last.not_before)}; {deeds.ASK_AGAIN} asks now"
        return replace(row, action="waiting", detail=detail)
    if last.outcome == "never" and last.mark == mark:
        day = rfc3339(last.at)[:10]
        detail = f"not asked again, since on {day} {last.said}; correct it, then give {deeds.ASK_AGAIN}"
        return replace(row, action="refused", detail=detail)
    return None


def mark_of(site: Site, updater: str) -> str:
    """A mark of an updater's table: changed there, what the provider said before counts no more."""
    return hashlib.sha256(repr(site.updaters[updater]).encode()).hexdigest()[:16]
