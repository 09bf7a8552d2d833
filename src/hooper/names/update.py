"""Keeping names current: what they should be, what they are, and an update only where the two differ."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Protocol

import anyio

from hooper import deeds
from hooper.addresses import classify
from hooper.clock import rfc3339, shown_duration
from hooper.errors import HooperError, MachineError
from hooper.line.public import public_addresses
from hooper.line.sources import Given, PublicAddress
from hooper.names.documents import NameRow, ServerShows
from hooper.names.own_servers import authority_for, resolvers_of
from hooper.names.publish import Setting, UpdaterBusy, UpdaterRefuses
from hooper.names.publishers import open_publisher
from hooper.net.dns import QUESTION_S, ZoneServers, all_show
from hooper.net.types import Door, Endpoint
from hooper.planning.values import Finding
from hooper.site.model import Site
from hooper.sourced import SourcedAddress
from hooper.store.updates import LastUpdate
from hooper.words.said import NOTHING, Said, say

FIRST_LOOK, SHOWN_EVERY = 0.02, 1.0  # seconds until the first look whether an update shows, and between looks at most
LAST_S = 1.0  # seconds for this computer's own resolver, once all others were asked in vain
SHOWS_WITHIN = timedelta(minutes=10)  # an update that was taken and does not show by then is made again
RETRY, RETRY_AT_MOST = timedelta(seconds=30), timedelta(hours=1)  # after a failure; it doubles with each further one
Record = tuple[str, str]  # name and type


class UpdateMemory(Protocol):
    """What is remembered of updates."""

    def last_update(self, name: str, kind: str, now: datetime) -> LastUpdate | None: ...

    def save_update(self, name: str, kind: str, last: LastUpdate) -> None: ...


@dataclass
class Names:
    """One run. known: of the lines, before anything is asked. base: the site file's folder.

    deadline: seconds for each question; patience: seconds for an update to show at the authoritative servers. patient:
    a provider that failed is left alone for a while, longer each time.
    """

    here: Door
    site: Site
    base: Path
    known: Given
    deadline: float
    patience: float
    memory: UpdateMemory | None
    patient: bool = False
    trouble: list[HooperError] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    public: dict[str, PublicAddress] = field(default_factory=dict)
    _where: dict[str, ZoneServers] = field(default_factory=dict)
    _unread: set[Record] = field(default_factory=set)  # records whose published value no server of their own tells

    async def look(self, names: Sequence[str]) -> list[NameRow]:
        """How the names stand, one row for each of their records. Raises: NoNetwork."""
        wanted: dict[Record, SourcedAddress] = {}
        rows: dict[Record, NameRow] = {}
        records = [(name, kind) for name in names for kind in self.site.names[name].types]

        async def of_lines() -> None:
            lines = tuple(dict.fromkeys(self.site.names[name].line for name in names))
            self.public = await public_addresses(self.here, self.site, lines, self.known, self.deadline)
            for found in self.public.values():
                self.findings += found.findings()
            for name, kind in records:
                wanted[name, kind] = await self._wanted(name, kind)

        async with anyio.create_task_group() as tasks:
            tasks.start_soon(of_lines)
            for record in records:
                tasks.start_soon(self._read, record, rows)
        now = self.here.clock.now()
        return [self._doubted(_judged(rows[record], wanted[record], now)) for record in records]

    async def _wanted(self, name: str, kind: str) -> SourcedAddress:
        entry = self.site.names[name]
        if kind == "A":
            return self.public[entry.line].address
        from hooper.line.public6 import public6

        return await public6(self.here, self.site, entry.line, entry.host)

    async def _read(self, record: Record, rows: dict[Record, NameRow]) -> None:
        """What is published. The name's own servers are asked; where none answers, resolvers, which may be behind."""
        name, kind = record
        by = self.site.names[name].updated_by
        servers: list[ServerShows] = []
        where = ZoneServers(None, ())
        with anyio.move_on_after(self.deadline):  # for all who are asked about it
            where = await authority_for(self.here, self.site, name, by, self.deadline)
            servers = await self._shows(where, record)
            if where.authoritative and not any(one.values is not None for one in servers):
                resolving = ZoneServers(None, tuple(await resolvers_of(self.here, self.site)))
                servers += await self._shows(resolving, record)
        self._where[name] = where
        first = next((one for one in servers if one.values is not None), None)
        if first is None or first.kind == "resolver":
            self._unread.add(record)
        values: tuple[str, ...] = ()
        source = say("no-resolver-answers")
        if first is not None:
            values = first.values or ()
            source = say("authoritative-server" if first.kind == "authoritative" else "resolver", server=first.server)
        else:  # no server could be asked directly: then as any program would
            with anyio.move_on_after(min(self.deadline, LAST_S)), suppress(HooperError):
                family = "ipv4" if kind == "A" else "ipv6"
                found = await self.here.lookup(name.replace("*", "hooper", 1), family)  # type: ignore[arg-type]
                values, source = tuple(str(address) for address in found), say("this-machines-resolver-itself")
        rows[record] = NameRow(name, kind, by, (), NOTHING, values, source, "unknown", False, NOTHING, tuple(servers))

    async def _shows(self, where: ZoneServers, record: Record) -> list[ServerShows]:
        shown = await all_show(self.here, where, *record, min(self.deadline, QUESTION_S))
        return [
            ServerShows(_words(server), "authoritative" if where.authoritative else "resolver", values, False)
            for server, values in shown.items()
        ]

    def _doubted(self, row: NameRow) -> NameRow:
        """A name whose own servers did not answer is not called current: a resolver may have kept what it has."""
        if row.action == "pending" and row.updated_by not in self.site.updaters:
            row = replace(row, action="watched")
        if (row.name, row.type) not in self._unread or not row.ok:
            return row
        detail = say("its-own-servers-do", published_source=row.published_source)
        return replace(row, action="unknown", ok=False, detail=detail)

    # --- update

    async def update(self, rows: Sequence[NameRow], *, again: bool) -> list[NameRow]:
        """Update those that were seen to need it. again: ask also where the provider said never or later.

        Raises: StateError.
        """
        out = {(row.name, row.type): self.ready(row, again=again) for row in rows}
        needed = [row for row in out.values() if row.action == "needed"]
        for key in dict.fromkeys(row.updated_by for row in needed):
            mine = [row for row in needed if row.updated_by == key]
            out |= {(row.name, row.type): row for row in await self._publish(key, mine)}
        return list(out.values())

    def _last(self, row: NameRow) -> LastUpdate | None:
        return self.memory.last_update(row.name, row.type, self.here.clock.now()) if self.memory is not None else None

    def ready(self, row: NameRow, *, again: bool) -> NameRow:
        """The row as it is to be treated now: whether an update is due, or the provider is to be left alone.

        Raises: StateError.
        """
        updater = self.site.updaters.get(row.updated_by)
        if updater is None or row.action not in ("needed", "current"):
            return row
        last, now = self._last(row), self.here.clock.now()
        if row.action == "current":
            dropped = updater.refresh is not None and (
                last is None or now - last.at >= timedelta(seconds=updater.refresh) or last.outcome != "done"
            )
            if not dropped:
                return row
            row = replace(row, action="needed", detail=say("updated-again-since-the"))
        if last is None or again:
            return row
        done = last.outcome == "done" and last.value == row.wanted[0]
        if done and (row.name, row.type) in self._unread:
            said = say("nobody-tells-what-is", published_source=row.published_source, wanted=row.wanted[0])
            return replace(row, action="unknown", detail=said)
        if done and not row.ok and last.shown:
            said = say("another-hand-has-changed", moment=last.at)
            return self._held(row, last, now) or replace(row, detail=said)
        same_updater = last.mark == mark_of(self.site, row.updated_by, self.base)
        if done and not row.ok and same_updater and now - last.at < SHOWS_WITHIN:
            said = say("the-update-of-was", moment=last.at)
            return replace(row, action="pending", detail=said)
        return self._held(row, last, now) or row

    def _held(self, row: NameRow, last: LastUpdate, now: datetime) -> NameRow | None:
        """Whether the provider is to be left alone, by what it said the last time."""
        until = last.not_before
        if last.outcome == "wait" and until is not None and now < until:
            detail = say("the-provider-asked-to", moment=until)
            return replace(row, action="waiting", detail=detail, again=rfc3339(until))
        if last.outcome == "never" and last.mark == mark_of(self.site, row.updated_by, self.base):
            detail = say("not-asked-again-since", day=last.at, said=last.said)
            return replace(row, action="refused", detail=detail)
        if last.outcome == "failed" and self.patient and until is not None and now < until:
            times = say("times", failures=last.failures) if last.failures > 1 else say("once")
            detail = say("it-failed-and-is", times=times, moment=until, said=last.said)
            return replace(row, action="waiting", detail=detail, again=rfc3339(until))
        spacing = self.site.updaters[row.updated_by].spacing
        if last.outcome == "done" and spacing is not None and now < (free := last.at + timedelta(seconds=spacing)):
            wants = say("the-provider-wants-between", shown_duration=shown_duration(spacing))
            detail = say("so-not-before", wants=wants, moment=free)
            return replace(row, action="waiting", detail=detail, again=rfc3339(free))
        return None

    async def _publish(self, key: str, rows: Sequence[NameRow]) -> list[NameRow]:
        """Update these names by one updater: at once where it takes several, else one after the other."""
        out: list[NameRow] = []
        try:
            publisher = open_publisher(self.here, self.site, key, self.base, self.deadline)
        except HooperError as exc:
            problem = self._told(rows, exc, exc.remedy)
            return [replace(row, action="failed", detail=problem.told) for row in rows]
        for group in [rows] if publisher.together else [[row] for row in rows]:
            start = self.here.clock.monotonic()
            try:
                said = await publisher.set([Setting(row.name, row.type, row.wanted[0]) for row in group])
            except HooperError as exc:
                out += self._not_done(group, exc)
                continue
            for row in group:
                self._remember(row, "done", said.text)
            verified: list[NameRow] = [*group]

            async def one(number: int, row: NameRow, into: list[NameRow], words: str, since: float) -> None:
                into[number] = await self._verified(row, words, since)

            async with anyio.create_task_group() as tasks:
                for number, row in enumerate(group):
                    tasks.start_soon(one, number, row, verified, said.text, start)
            out += verified
        return out

    def _not_done(self, rows: Sequence[NameRow], exc: HooperError) -> list[NameRow]:
        now, remedy = self.here.clock.now(), exc.remedy
        if isinstance(exc, UpdaterBusy):
            until = now + timedelta(seconds=exc.wait_s)
            remedy = f"Run the command again after {rfc3339(until)}; before, it is not asked."
            outcome, action = "wait", "waiting"
        elif isinstance(exc, UpdaterRefuses):
            remedy = f"{exc.remedy} Then give {deeds.ASK_AGAIN}: until then it is not asked any more."
            until, outcome, action = None, "never", "refused"
        else:
            until, outcome, action = None, "failed", "failed"
        problem = self._told(rows, exc, remedy)
        out = []
        for row in rows:
            free = self._remember(row, outcome, exc.message, until)
            row = replace(row, again=rfc3339(free) if free is not None else None)
            out.append(replace(row, action=action, detail=problem.told))  # type: ignore[arg-type]
        return out

    async def _verified(self, row: NameRow, said: str, since: float) -> NameRow:
        """Wait until the authoritative servers show it, then look at the resolvers. `done` alone proves nothing.

        since: when the update was sent, by the monotonic clock.
        """
        where, record, wait = self._where[row.name], (row.name, row.type), FIRST_LOOK
        servers, took = await self._shows(where, record), None
        with anyio.move_on_after(self.patience):
            while not _all_have(servers, row.wanted):
                await self.here.clock.sleep(wait)
                wait = min(wait * 2, SHOWN_EVERY)
                servers = await self._shows(where, record)
        if _all_have(servers, row.wanted):
            took = round(self.here.clock.monotonic() - since, 3)
        resolving = ZoneServers(None, tuple(Endpoint(*server) for server in self.site.measure.resolvers))
        if where.authoritative and resolving.servers:
            servers += await self._shows(resolving, record)
        first = next((one for one in servers if one.values is not None), None)
        servers = _held_against(servers, row.wanted)
        row = replace(row, action="updated", servers=tuple(servers), took_s=took, ok=took is not None, detail=NOTHING)
        if first is None:
            return replace(row, published=(), detail=say("whether-it-shows-could", said=said))
        source = say("authoritative-server" if first.kind == "authoritative" else "resolver", server=first.server)
        row = replace(row, published=first.values or (), published_source=source)
        if took is not None:
            self._remember(row, "done", said, shown=True)
        else:
            return replace(row, detail=say("but-after-s", said=said, patience=self.patience, behind=_behind(servers)))
        late = [one.server for one in servers if one.kind == "resolver" and one.values is not None and not one.ok]
        kept = say("still-has-it" if len(late) == 1 else "still-have-it", late=late)
        return replace(row, detail=kept if late else NOTHING)

    def _told(self, rows: Sequence[NameRow], exc: HooperError, remedy: str) -> HooperError:
        """The trouble of an update that was not made: told once, with all the names that it hit."""
        problem = exc.about(*dict.fromkeys(row.name for row in rows), remedy=remedy)
        self.trouble.append(problem)
        return problem

    def _remember(
        self, row: NameRow, outcome: str, said: str, until: datetime | None = None, *, shown: bool = False
    ) -> datetime | None:
        """Keep what came of an update; until when the provider is left alone. Raises: StateError."""
        if self.memory is None:
            return until
        now, before = self.here.clock.now(), self._last(row)
        failures = (before.failures if before is not None else 0) + 1 if outcome == "failed" else 0
        if outcome == "failed":
            until = now + _backing_off(row, failures)
        mark = mark_of(self.site, row.updated_by, self.base)
        last = LastUpdate(row.wanted[0], now, outcome, said, until, mark, failures, shown)  # type: ignore[arg-type]
        self.memory.save_update(row.name, row.type, last)
        return until


def _words(server: Endpoint) -> str:
    return str(server.address) if server.port == 53 else str(server)


def _all_have(servers: Iterable[ServerShows], wanted: tuple[str, ...]) -> bool:
    """Whether every server that answers has what is wanted, and nothing else; and one does."""
    answers = [one.values for one in servers if one.values is not None]
    return bool(answers) and all(values == wanted for values in answers)


def _held_against(servers: Iterable[ServerShows], wanted: tuple[str, ...]) -> list[ServerShows]:
    return [replace(one, ok=one.values == wanted) for one in servers]


def _behind(servers: Sequence[ServerShows]) -> Said:
    """Which of a name's own servers does not have it yet."""
    own = [one for one in servers if one.kind == "authoritative"] or list(servers)
    late = [one.server for one in own if one.values is not None and not one.ok]
    if not late or len(late) == len(own):
        return say("it-does-not-show")
    return say("does-not-show-yet" if len(late) == 1 else "do-not-show-yet", late=late, own=len(own))


def _backing_off(row: NameRow, failures: int) -> timedelta:
    """How long a provider is left alone after so many failures in a row; a little longer for some names than others."""
    wait = min(RETRY_AT_MOST, RETRY * 2.0 ** min(failures - 1, 16))
    digest = hashlib.sha256(f"{row.name} {row.type} {failures}".encode()).digest()
    return wait + wait * digest[0] / 1024


def _judged(row: NameRow, wanted: SourcedAddress, now: datetime) -> NameRow:
    """The row held against the address that it should have."""
    if wanted.value is None:
        return replace(row, wanted_source=wanted.words(now), detail=say("its-address-is-not", words=wanted.words(now)))
    kind = classify(wanted.value)
    if not kind.reachable:
        detail = say("is-a-name-for", value=wanted.value, meaning=kind.meaning, source=kind.source)
        return replace(row, wanted_source=wanted.words(now), detail=detail)
    row = replace(row, wanted=(str(wanted.value),), wanted_source=wanted.words(now))
    row = replace(row, servers=tuple(_held_against(row.servers, row.wanted)))
    same = row.published == row.wanted
    if row.updated_by in ("router", "device"):
        detail = NOTHING if same else say("it-is-kept-by", updated_by=row.updated_by)
        return replace(row, action="watched", ok=same, detail=detail)
    if not same:
        return replace(row, action="needed")
    own = [one for one in row.servers if one.kind == "authoritative" and one.values is not None]
    if not all(one.ok for one in own):
        return replace(row, action="pending", detail=_behind(row.servers))
    return replace(row, action="current", ok=True)


def mark_of(site: Site, updater: str, base: Path) -> str:
    """A mark of an updater's table and of its secret: changed there, what the provider said before counts no more."""
    entry = site.updaters[updater]
    secret = ""
    if entry.token is not None:
        with suppress(MachineError):
            secret = entry.token.read(base).reveal()
    return hashlib.sha256(f"{entry!r} {secret}".encode()).hexdigest()[:16]
