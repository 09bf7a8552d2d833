"""Putting the plan into a router's table and taking it back. The journal is written before each deed.

A run that was killed is taken up by the next: the journal says what was meant, the router's table what came of it.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Literal

from hooper.addresses import classify
from hooper.clock import Clock, rfc3339
from hooper.errors import HooperError, NoAnswer, RefusedForSafety, StateError
from hooper.gateways.documents import ChangedRule, GatewayTable, Outcome, RuleChange
from hooper.gateways.driver import Driver, RouterLied, RouterRefuses, SourceDropped
from hooper.gateways.refusals import (
    LabelledUnknown,
    NotRemembered,
    PlanForbids,
    PortLent,
    PortTaken,
    RouterPrivate,
    RouterStrict,
)
from hooper.gateways.rules import Wanted, is_labelled, is_made_of, is_ours, labelled_for, rows
from hooper.net.types import ConnectFailed
from hooper.planning.values import Finding
from hooper.ports import single
from hooper.store.entries import Entered, Key, LiveRule, key_of
from hooper.store.journal import Journal
from hooper.words.said import NOTHING, Said, quoted, say, together

LEASE_S = 604_800  # a week


class _Table:
    """A router's entries, by their key, and by their port."""

    def __init__(self, rules: Iterable[LiveRule]) -> None:
        self._rules: dict[Key, LiveRule] = {}
        self._at: dict[tuple[str, int], dict[Key, LiveRule]] = {}
        for rule in rules:
            self.put(rule)

    def put(self, rule: LiveRule) -> None:
        key = key_of(rule)
        self._rules[key] = self._at.setdefault(rule.key, {})[key] = rule

    def drop(self, rule: LiveRule) -> None:
        key = key_of(rule)
        self._rules.pop(key, None)
        self._at.get(rule.key, {}).pop(key, None)

    def get(self, key: Key) -> LiveRule | None:
        return self._rules.get(key)

    def at(self, rule: LiveRule) -> list[LiveRule]:
        """All at the port of a rule, whatever their source."""
        return list(self._at.get(rule.key, {}).values())

    def values(self) -> Collection[LiveRule]:
        return self._rules.values()


@dataclass
class Work:
    """One router being changed. dry: nothing is done, only told. lent: ports that a test has: they are left alone.

    remembers: whether the journal outlasts this process; else nothing is entered, and what is ours is renewed.
    """

    gateway: str
    driver: Driver
    own: str  # this computer's address
    journal: Journal
    clock: Clock
    dry: bool = False
    lent: frozenset[tuple[str, int]] = frozenset()
    remembers: bool = True
    changes: list[RuleChange] = field(default_factory=list)
    trouble: list[HooperError] = field(default_factory=list)
    _failed: bool = False  # the journal, in the middle
    _hit: dict[str, tuple[HooperError, int, list[str]]] = field(default_factory=dict)
    _drops_sources: Said = NOTHING
    _renew_left: float = 0.5
    _table: _Table = field(default_factory=lambda: _Table(()))  # as it stands, what was done since included
    _mine: dict[Key, Entered] = field(default_factory=dict)  # what the journal has

    # --- open

    async def open(
        self,
        wanted: Sequence[Wanted],
        findings: Sequence[Finding] = (),
        *,
        take_over: bool,
        kept_back: Mapping[str, HooperError] | None = None,
        services: Collection[str] | None = None,
        renew_left: float = 0.5,
    ) -> None:
        """Enter what is missing, and take away what is ours and wanted no more.

        Args: wanted: all that the plan wants of `services`, None: of all. findings: of the plan; a service with an
        error is not entered. kept_back: services that are not ready to be exposed, with the error that says why.
        renew_left: what is left of a lease when it is renewed, as a share of what is wanted.
        Raises: NoAnswer, ConnectFailed, RouterRefuses, WireError: its table cannot be read.
        """
        wrong = {item.subject.removeprefix("services."): item for item in findings if item.severity == "error"}
        for service in sorted(wrong.keys() - {one.service for one in wanted}):  # it has no rule at all
            self._trouble(PlanForbids(str(wrong[service].message), remedy=str(wrong[service].remedy)), service)
        self._renew_left = renew_left
        await self._look()
        keys = {key_of(one.rule) for one in wanted if one.rule is not None}
        stale = [e for k, e in self._mine.items() if k not in keys and (services is None or e.service in services)]
        stale = [entry for entry in stale if entry.rule.key not in self.lent]
        await self._take_away(stale, say("the-plan-has-it"), heirs=[one for one in wanted if one.rule is not None])
        gone: HooperError | None = None
        for one in wanted:
            if (finding := wrong.get(one.service)) is not None:
                self._say("open", changed(one), "refused", None, finding.message)
                self._trouble(PlanForbids(str(finding.message), remedy=str(finding.remedy)), one.service)
            elif kept_back is not None and (unready := kept_back.get(one.service)) is not None:
                self._say("open", changed(one), "refused", None, quoted(unready.message))
                self._trouble(unready, one.service)
            elif one.rule is None:
                self._say("open", changed(one), "by-hand", None, quoted(one.reason))
            elif gone is not None:
                self._say("open", changed(one), "failed", None, say("not-tried-any-more"))
            elif one.rule.key in self.lent:
                self._say("open", changed(one), "left", None, say("a-test-has-this"))
            else:
                try:
                    if one.rule.source and self._drops_sources:
                        raise SourceDropped(str(self._drops_sources))
                    await self._open_one(one, one.rule, take_over=take_over)
                except SourceDropped:
                    self._drops_sources = say("does-not-show-that", gateway=self.gateway)
                    self._say("open", changed(one), "by-hand", None, self._drops_sources)
                except HooperError as exc:
                    problem = await self._understood(exc, one.rule)
                    self._say("open", changed(one), "failed", None, quoted(problem.message))
                    if isinstance(exc, NoAnswer | ConnectFailed):
                        gone = exc
                    self._trouble(problem, one.service)

    async def _open_one(self, one: Wanted, rule: LiveRule, *, take_over: bool) -> None:
        there, mine = self._table.get(key_of(rule)), self._mine.get(key_of(rule))
        ours = there is not None and is_ours(there, self._mine, self.clock.now())
        before = mine.before if mine is not None else ()
        if there is not None and there.leads_as(rule) and there.enabled:
            if not ours and not is_labelled(there):
                self._say("open", changed(one), "left", self._until(there), say("another-hand-made-it"))
                return
            if there.lease_s == 0 or there.lease_s >= rule.lease_s * self._renew_left:
                self._keep(one, there, before)
                detail = NOTHING if ours else say("taken-up-by-its")
                self._say("open", changed(one), "already", self._until(there), detail)
                return
            await self._add(one, rule, before, "renewed")
            return
        taken = self._others_at(rule)
        if taken:
            await self._replace(one, rule, taken, before, take_over=take_over)
        elif there is not None:  # ours, for an older plan
            await self._delete(there)
            await self._add(one, rule, before, "replaced")
        else:
            lost = mine is not None and mine.state == "open"
            await self._add(one, rule, before, "restored" if lost else "added")

    def _others_at(self, rule: LiveRule) -> list[LiveRule]:
        """Somebody else's entries at the same port: many routers have one there, whatever its source."""
        return [there for there in self._table.at(rule) if not self._is_known(there)]

    async def _replace(
        self, one: Wanted, rule: LiveRule, taken: Sequence[LiveRule], before: tuple[LiveRule, ...], *, take_over: bool
    ) -> None:
        """Take the place of others' entries; they are put back where it does not come to that."""
        leads = ", ".join(_leads(there) for there in taken)
        if not take_over:
            labels = ", ".join(dict.fromkeys(there.label for there in taken if there.label))
            label = f" ({labels})" if labels else ""
            raise PortTaken(f"{rule.transport} {rule.outside_port} is taken: it leads to {leads}{label}")
        if self.dry:
            self._say("open", changed(one), "replaced", None, say("it-leads-to", leads=leads))
            return
        self._refuse_forgotten()
        known = self._mine.get(key_of(rule))
        self._note(Entered(self.gateway, one.service, rule, "opening", (*before, *taken), None))
        deleted: list[LiveRule] = []
        try:
            for there in taken:
                await self._delete(there)
                deleted.append(there)
            detail = say("it-led-to-puts", leads=leads)
            await self._add(one, rule, (*before, *taken), "replaced", detail)
        except HooperError:
            for there in deleted:
                await self._put_back(there)
            self._undo(rule, known)
            raise

    async def _add(
        self, one: Wanted, rule: LiveRule, before: tuple[LiveRule, ...], outcome: Outcome, detail: Said = NOTHING
    ) -> None:
        if self.dry:
            self._say("open", changed(one), outcome, self._until(rule), detail)
            return
        known = self._mine.get(key_of(rule))
        if outcome == "renewed":  # it stands already: a journal that fails now must not let it run out
            self._note_if_possible(Entered(self.gateway, one.service, rule, "opening", before, None))
        else:
            self._refuse_forgotten()
            self._note(Entered(self.gateway, one.service, rule, "opening", before, None))
        try:
            granted = await (self.driver.renew(rule) if outcome == "renewed" else self.driver.add(rule))
        except (RouterRefuses, SourceDropped):
            self._undo(rule, known)  # a clear no: nothing of ours is there
            raise
        self._table.put(granted)
        self._keep(one, granted, before)
        asked, got = rule.lease_s, granted.lease_s
        if asked and got and abs(asked - got) > 60 and not detail:
            detail = say("asked-for-s-the", asked=asked, got=got)
        self._say("open", changed(one), outcome, self._until(granted), detail)

    def _undo(self, rule: LiveRule, known: Entered | None) -> None:
        """The journal as it was before a deed that came to nothing."""
        if known is None:
            self._forget([key_of(rule)])
        else:
            self._note(known)

    def _keep(self, one: Wanted, granted: LiveRule, before: tuple[LiveRule, ...]) -> None:
        assert one.rule is not None
        until = self._until(granted)
        self._note_if_possible(Entered(self.gateway, one.service, one.rule, "open", before, until))

    def _refuse_forgotten(self) -> None:
        """Raises: NotRemembered: what is entered now, nobody would know to be ours."""
        if not self.remembers:
            raise NotRemembered(f"nothing is entered at {self.gateway} while the state cannot be used")

    def _note_if_possible(self, entry: Entered) -> None:
        """Keep what came of a deed; that it is known to be meant stands there already, or its label tells."""
        if not self._failed:
            try:
                self._note(entry)
            except StateError as exc:  # told once; the next would wait as long, and a lease runs out meanwhile
                self._failed = True
                self.remembers = False
                self.trouble.append(exc)

    async def _understood(self, exc: HooperError, rule: LiveRule) -> HooperError:
        """A refusal in terms of what this router will not do at all."""
        if not isinstance(exc, RouterRefuses):
            return exc
        foreign = rule.target_address != self.own
        if exc.reason == "taken" and foreign and not self._table.at(rule):
            message = f"{self.gateway} opens ports only for the device that asks, which is {self.own}"
            return RouterStrict(f"{message}, not for others ({exc.said})")
        if exc.reason == "taken":
            return PortTaken(
                f"{rule.transport} {rule.outside_port} is taken by a rule that {self.gateway} shows nobody"
            )
        if exc.reason == "not-now":
            try:
                address = await self.driver.external_address()
            except HooperError:
                return exc
            if address is None or not classify(address).reachable:
                return RouterPrivate(f"{self.gateway} has no public address itself and opens nothing ({exc.said})")
        return exc

    # --- close

    async def close(self, services: Collection[str] | None, *, labelled: bool = False) -> None:
        """Take away what is ours, and put back what it replaced.

        Args: services: only these; None: all. labelled: what carries Hooper's label too, though the journal does not
        have it. Raises: as `open`.
        """
        await self._look()
        wanted = [e for e in self._mine.values() if services is None or e.service in services]
        for entry in wanted:
            if entry.rule.key in self.lent:
                busy = PortLent(f"a test has {entry.rule.transport} {entry.rule.outside_port} now")
                self._trouble(busy, entry.service)
        await self._take_away([entry for entry in wanted if entry.rule.key not in self.lent])
        unknown = [there for there in self._table.values() if is_labelled(there) and not self._is_known(there)]
        unknown = [there for there in unknown if there.key not in self.lent]
        unknown = [there for there in unknown if services is None or labelled_for(there) in services]
        if not labelled and unknown:
            names = ", ".join(f"{there.transport} {there.outside_port} ({there.label})" for there in unknown)
            message = f"{self.gateway} has rules with Hooper's label that this state does not know: {names}"
            self.trouble.append(LabelledUnknown(message))
            return
        for there in unknown:
            rule = _rule(labelled_for(there), there)
            try:
                await self._delete(there)
            except HooperError as exc:
                self._say("close", rule, "failed", None, quoted(exc.message))
                self._trouble(exc, labelled_for(there))
            else:
                self._say("close", rule, "removed", None, say("known-by-its-label"))

    def _is_known(self, there: LiveRule) -> bool:
        return is_ours(there, self._mine, self.clock.now())

    async def _take_away(self, entries: Sequence[Entered], why: Said = NOTHING, heirs: Sequence[Wanted] = ()) -> None:
        """Take entries of ours away, and put back what they replaced; the table is read again before any is forgotten.

        heirs: what is entered next: where one of them has the same port, what was replaced is left to it.
        """
        done: list[tuple[Entered, Outcome, Said]] = []
        gone, follows = False, {one.rule.key: one for one in reversed(heirs) if one.rule is not None}
        if not self.dry:
            self._note(*(replace(entry, state="closing") for entry in entries))
        for entry in entries:
            if gone:
                self._say("close", entered_rule(entry), "failed", None, say("not-tried-any-more"))
                continue
            try:
                heir = follows.get(entry.rule.key)
                if heir is not None and heir.rule is not None and entry.before:
                    self._inherit(heir.service, heir.rule, entry.before)
                    entry = replace(entry, before=())
                done.append((entry, *await self._close_one(entry)))
            except HooperError as exc:
                self._say("close", entered_rule(entry), "failed", None, quoted(exc.message))
                gone = isinstance(exc, NoAnswer | ConnectFailed)
                self._trouble(exc, entry.service)
        if not done:
            return
        if not self.dry:
            try:
                await self._read_table()
            except HooperError as exc:
                for entry, _, __ in done:
                    self._say("close", entered_rule(entry), "failed", None, say("its-table-could-not"))
                self.trouble.append(exc)
                return
        left = set() if self.dry else {e.key for e, how, _ in done if how != "left" and self._still_has(e)}
        self._forget([entry.key for entry, _, __ in done if entry.key not in left])
        for entry, outcome, detail in done:
            if entry.key in left:
                problem = RouterLied(f"{self.gateway} has {entry.rule.transport} {entry.rule.outside_port} again")
                self._say("close", entered_rule(entry), "failed", None, quoted(problem.message))
                self._trouble(problem, entry.service)
            else:
                self._say("close", entered_rule(entry), outcome, None, together((why, detail)))

    def _inherit(self, service: str, rule: LiveRule, before: tuple[LiveRule, ...]) -> None:
        known = self._mine.get(key_of(rule)) or Entered(self.gateway, service, rule, "opening", (), None)
        self._note(replace(known, before=tuple(dict.fromkeys((*known.before, *before)))))

    def _still_has(self, entry: Entered) -> bool:
        there = self._standing_for(entry)
        return there is not None and is_ours(there, {entry.key: entry}, self.clock.now()) and there not in entry.before

    def _standing_for(self, entry: Entered) -> LiveRule | None:
        """What stands at the place of an entry of ours: under its key, or as the router made it without the source."""
        there = self._table.get(entry.key)
        beside = self._table.at(entry.rule)
        made = (row for row in beside if key_of(row) not in self._mine and is_made_of(row, entry.rule))
        return there if there is not None else next(made, None)

    async def _close_one(self, entry: Entered) -> tuple[Outcome, Said]:
        """Take one away; nothing is forgotten yet."""
        there = self._standing_for(entry)
        ours = there is not None and is_ours(there, {entry.key: entry}, self.clock.now())
        if there is not None and not ours:
            back = any(there.leads_as(before) for before in entry.before)
            return ("put-back", NOTHING) if back else ("left", say("another-hand-has-led", leads=_leads(there)))
        if there is not None:
            await self._delete(there)
        for before in entry.before:
            if not any(stands.leads_as(before) for stands in self._table.at(before)):
                await self._put_back(before)
        if entry.before:
            return "put-back", say("leads-to-again", before=map(_leads, entry.before))
        return ("removed", NOTHING) if there is not None else ("gone", say("the-router-had-it"))

    # --- shared

    async def _look(self) -> None:
        """What the journal has, and what stands there; where the protocol shows no table, what the journal has."""
        self._mine = self.journal.entries(self.gateway)
        await self._read_table()

    async def _read_table(self) -> None:
        table = await self.driver.table()
        if table is None:
            table = [entry.rule for entry in self._mine.values() if entry.state != "closing"]
        self._table = _Table(table)

    async def _delete(self, there: LiveRule) -> None:
        if not self.dry:
            await self.driver.delete(there)
            self._table.drop(there)

    async def _put_back(self, before: LiveRule) -> None:
        if not self.dry:
            self._table.put(await self.driver.add(before))

    def _note(self, *entries: Entered) -> None:
        if not self.dry and entries:
            self.journal.write(*entries)
            self._mine.update({entry.key: entry for entry in entries})

    def _forget(self, keys: Collection[Key]) -> None:
        if not self.dry and keys:
            self.journal.forget(self.gateway, keys)
            for key in keys:
                self._mine.pop(key, None)

    def _until(self, rule: LiveRule) -> datetime | None:
        return self.clock.now() + timedelta(seconds=rule.lease_s) if rule.lease_s else None

    def _say(
        self,
        action: Literal["open", "close"],
        rule: ChangedRule,
        outcome: Outcome,
        until: datetime | None,
        detail: Said = NOTHING,
    ) -> None:
        ends = rfc3339(until) if until is not None else None
        self.changes.append(RuleChange(self.gateway, action, rule, outcome, ends, detail))

    def _trouble(self, problem: HooperError, service: str) -> None:
        """Each kind of trouble is told once, with the services that it hit."""
        key = problem.message if isinstance(problem, PortTaken | RefusedForSafety) else problem.code
        if key not in self._hit:
            self._hit[key] = (problem, len(self.trouble), [])
            self.trouble.append(problem)
        first, place, services = self._hit[key]
        services.append(service)
        self.trouble[place] = first.about(*dict.fromkeys(services))


def _leads(rule: LiveRule) -> str:
    """Where an entry leads, as people write it."""
    return f"{rule.target_address}:{rule.target_port}" + (f" from {rule.source}" if rule.source else "")


def changed(one: Wanted) -> ChangedRule:
    """The rule as a change tells it."""
    if one.rule is not None:
        return _rule(one.service, one.rule)
    forward = one.forward
    ports, inner = forward.outside_ports or single(0), forward.target_ports or single(0)
    source = ", ".join(forward.sources) or None
    return ChangedRule(one.service, forward.transport, ports, forward.target_address, inner, source)


def entered_rule(entry: Entered) -> ChangedRule:
    """The rule of an entry of ours as a change tells it."""
    return _rule(entry.service, entry.rule)


def _rule(service: str, rule: LiveRule) -> ChangedRule:
    outside, inside = single(rule.outside_port), single(rule.target_port)
    return ChangedRule(service, rule.transport, outside, rule.target_address, inside, rule.source or None)


async def read_gateway(
    gateway: str,
    driver: Driver,
    wanted: Sequence[Wanted],
    journal: Mapping[Key, Entered],
    now: datetime,
    lent: Collection[tuple[str, int]] = (),
) -> GatewayTable:
    """A router's table as it stands. lent: ports that a test has.

    Raises: RouterRefuses, NoAnswer, ConnectFailed, WireError.
    """
    try:
        address = await driver.external_address()
    except RouterRefuses:
        address = None
    table = await driver.table()
    if table is None:
        table = [entry.rule for entry in journal.values()]
    told = str(address) if address is not None else None
    shown = rows(driver.protocol, table, wanted, journal, now, lent)
    return GatewayTable(gateway, driver.protocol, driver.device or None, told, shown)
