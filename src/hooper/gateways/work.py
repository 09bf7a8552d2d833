"""Putting the plan into a router's table and taking it back. The journal is written before each deed.

A run that was killed is taken up by the next: the journal says what was meant, the router's table what came of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Literal

from hooper import deeds
from hooper.addresses import classify
from hooper.clock import Clock, rfc3339
from hooper.errors import CounterpartError, HooperError, NoAnswer, RefusedForSafety
from hooper.gateways.driver import Driver, RouterRefuses, SourceDropped
from hooper.gateways.rules import Wanted, is_ours, rows
from hooper.gateways.tables import ChangedRule, GatewayTable, Outcome, RuleChange
from hooper.net.types import ConnectFailed
from hooper.planning.values import Finding
from hooper.ports import single
from hooper.store.entries import Entered, Key, LiveRule, key_of
from hooper.store.journal import Journal

LEASE_S = 604_800  # a week
DONE: tuple[Outcome, ...] = ("added", "renewed", "already", "replaced", "removed", "put-back", "gone", "left")


class PlanForbids(RefusedForSafety):
    """The plan has an error for this service, such as sources that no box would keep: it is not entered."""

    code = "plan-error"
    remedy = f"See `{deeds.PLAN}`."


class RouterStrict(CounterpartError):
    """The router lets a device open ports for itself only."""

    code = "router-strict"
    remedy = (
        f"Enter these rules by hand (`{deeds.SHEET}`), let the device itself ask for its ports,"
        " or allow in the router's pages that one device opens ports for others."
    )


class RouterPrivate(CounterpartError):
    """The router has no public address itself and therefore opens nothing."""

    code = "router-behind-another"
    remedy = f"Enter these rules by hand on its pages (`{deeds.SHEET}`); those do not mind."


class PortTaken(CounterpartError):
    """Another hand has the outside port."""

    code = "port-taken"
    remedy = (
        f"Look at `{deeds.TABLES}`; choose another outside port, or give {deeds.TAKE_OVER} to replace what is there."
    )


@dataclass
class Work:
    """One router being changed. dry: nothing is done, only told."""

    gateway: str
    driver: Driver
    own: str  # this machine's address
    journal: Journal
    clock: Clock
    dry: bool = False
    changes: list[RuleChange] = field(default_factory=list)
    trouble: list[HooperError] = field(default_factory=list)
    _hit: dict[str, tuple[HooperError, list[str]]] = field(default_factory=dict)
    _drops_sources: str = ""
    _words: dict[str, str] = field(default_factory=dict)

    # --- open

    async def open(
        self,
        wanted: Sequence[Wanted],
        findings: Sequence[Finding] = (),
        *,
        take_over: bool,
        kept_back: Mapping[str, HooperError] | None = None,
    ) -> None:
        """Enter what is missing. findings: of the plan; a service with an error is not entered. kept_back: services
        that are not ready to be exposed, with the error that says why.

        Raises: NoAnswer, ConnectFailed, RouterRefuses, WireError: its table cannot be read.
        """
        wrong = {item.subject.removeprefix("services."): item for item in findings if item.severity == "error"}
        for service in sorted(wrong.keys() - {one.service for one in wanted}):  # it has no rule at all
            self._trouble(PlanForbids(wrong[service].message, remedy=wrong[service].remedy), service)
        table = await self._table()
        journal = self.journal.entries(self.gateway)
        gone: HooperError | None = None
        for one in wanted:
            if (finding := wrong.get(one.service)) is not None:
                self._say("open", changed(one), "refused", None, finding.message)
                self._trouble(PlanForbids(finding.message, remedy=finding.remedy), one.service)
            elif kept_back is not None and (unready := kept_back.get(one.service)) is not None:
                self._say("open", changed(one), "refused", None, unready.message)
                self._trouble(unready, one.service)
            elif one.rule is None:
                self._say("open", changed(one), "by-hand", None, one.reason)
            elif gone is not None:
                self._say("open", changed(one), "failed", None, "not tried any more")
            else:
                try:
                    if one.rule.source and self._drops_sources:
                        raise SourceDropped(self._drops_sources)
                    await self._open_one(one, one.rule, table, journal, take_over=take_over)
                except SourceDropped:
                    self._drops_sources = f"{self.gateway} does not show that it keeps a rule to one source"
                    self._say("open", changed(one), "by-hand", None, self._drops_sources)
                except HooperError as exc:
                    problem = await self._understood(exc, one.rule, table)
                    self._say("open", changed(one), "failed", None, problem.message)
                    if isinstance(exc, NoAnswer | ConnectFailed):
                        gone = exc
                    self._trouble(problem, one.service)

    async def _open_one(
        self,
        one: Wanted,
        rule: LiveRule,
        table: Mapping[Key, LiveRule],
        journal: Mapping[Key, Entered],
        *,
        take_over: bool,
    ) -> None:
        key, now = key_of(rule), self.clock.now()
        there, mine = table.get(key), journal.get(key)
        ours = there is not None and is_ours(there, journal, now)
        before = mine.before if mine is not None else None
        if there is not None and there.leads_as(rule) and there.enabled:
            if not ours:
                self._say("open", changed(one), "left", self._until(there), "another hand made it; it meets the plan")
                return
            if there.lease_s == 0 or there.lease_s * 2 >= rule.lease_s:
                self._keep(one, there, before)
                self._say("open", changed(one), "already", self._until(there))
                return
            await self._add(one, rule, before, "renewed")
        elif there is not None and ours:
            if not self.dry:  # ours, for an older plan
                await self.driver.delete(there)
            await self._add(one, rule, before, "replaced")
        elif there is not None:
            target = f"{there.target_address}:{there.target_port}"
            if not take_over:
                label = f" ({there.label})" if there.label else ""
                raise PortTaken(f"{rule.transport} {rule.outside_port} is taken: it leads to {target}{label}")
            self._note(Entered(self.gateway, one.service, rule, "opening", there, None))
            if not self.dry:
                try:
                    await self.driver.delete(there)
                except RouterRefuses:
                    self.journal.forget(self.gateway, key)  # theirs stands, and nothing of ours is there
                    raise
                try:
                    await self._add(one, rule, there, "replaced", f"it led to {target}; `router close` puts that back")
                except HooperError:
                    await self.driver.add(there)  # as it was
                    self.journal.forget(self.gateway, key)
                    raise
            else:
                self._say("open", changed(one), "replaced", None, f"it leads to {target}")
        else:
            await self._add(one, rule, before, "added")

    async def _add(
        self, one: Wanted, rule: LiveRule, before: LiveRule | None, outcome: Outcome, detail: str = ""
    ) -> None:
        if self.dry:
            self._say("open", changed(one), outcome, self._until(rule), detail)
            return
        known = self.journal.entries(self.gateway).get(key_of(rule))
        self._note(Entered(self.gateway, one.service, rule, "opening", before, None))
        try:
            granted = await (self.driver.renew(rule) if outcome == "renewed" else self.driver.add(rule))
        except (RouterRefuses, SourceDropped):
            if known is None:
                self.journal.forget(self.gateway, key_of(rule))  # a clear no: nothing of ours is there
            else:
                self._note(known)
            raise
        self._keep(one, granted, before)
        asked, got = rule.lease_s, granted.lease_s
        if asked and got and abs(asked - got) > 60 and not detail:
            detail = f"asked for {asked} s, the router grants {got} s"
        self._say("open", changed(one), outcome, self._until(granted), detail)

    def _keep(self, one: Wanted, granted: LiveRule, before: LiveRule | None) -> None:
        assert one.rule is not None
        until = self._until(granted)
        self._note(Entered(self.gateway, one.service, one.rule, "open", before, until))

    async def _understood(self, exc: HooperError, rule: LiveRule, table: Mapping[Key, LiveRule]) -> HooperError:
        """A refusal in terms of what this router will not do at all."""
        if not isinstance(exc, RouterRefuses):
            return exc
        foreign = rule.target_address != self.own
        if exc.reason == "taken" and foreign and key_of(rule) not in table:
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

    async def close(self, services: Iterable[str] | None) -> None:
        """Take away what is ours, and put back what it replaced. services: only these; None: all.

        Raises: as `open`.
        """
        chosen = None if services is None else set(services)
        table = await self._table()
        gone = False
        for entry in self.journal.entries(self.gateway).values():
            if chosen is not None and entry.service not in chosen:
                continue
            if gone:
                self._say("close", _entered(entry), "failed", None, "not tried any more")
                continue
            try:
                await self._close_one(entry, table.get(entry.key))
            except HooperError as exc:
                self._say("close", _entered(entry), "failed", None, exc.message)
                gone = isinstance(exc, NoAnswer | ConnectFailed)
                self._trouble(exc, entry.service)

    async def _close_one(self, entry: Entered, there: LiveRule | None) -> None:
        ours = there is not None and is_ours(there, {entry.key: entry}, self.clock.now())
        before = entry.before
        if there is not None and not ours:
            back = before is not None and there.leads_as(before)
            self._forget(entry)
            detail = "" if back else f"another hand has led it to {there.target_address}:{there.target_port}"
            self._say("close", _entered(entry), "put-back" if back else "left", None, detail)
            return
        outcome: Outcome = "removed" if there is not None else "gone"
        detail = "" if there is not None else "the router had it no more"
        if not self.dry:
            self._note(replace(entry, state="closing"))
            if there is not None:
                await self.driver.delete(there)
            if before is not None:
                await self.driver.add(before)
        if before is not None:
            outcome, detail = "put-back", f"leads to {before.target_address}:{before.target_port} again"
        self._forget(entry)
        self._say("close", _entered(entry), outcome, None, detail)

    # --- shared

    async def _table(self) -> dict[Key, LiveRule]:
        """What stands there; where the protocol shows no table, what the journal has."""
        table = await self.driver.table()
        if table is None:
            return {key: entry.rule for key, entry in self.journal.entries(self.gateway).items()}
        return {key_of(rule): rule for rule in table}

    def _note(self, entry: Entered) -> None:
        if not self.dry:
            self.journal.write(entry)

    def _forget(self, entry: Entered) -> None:
        if not self.dry:
            self.journal.forget(self.gateway, entry.key)

    def _until(self, rule: LiveRule) -> datetime | None:
        return self.clock.now() + timedelta(seconds=rule.lease_s) if rule.lease_s else None

    def _say(
        self,
        action: Literal["open", "close"],
        rule: ChangedRule,
        outcome: Outcome,
        until: datetime | None,
        detail: str = "",
    ) -> None:
        ends = rfc3339(until) if until is not None else None
        self.changes.append(RuleChange(self.gateway, action, rule, outcome, ends, detail))

    def _trouble(self, problem: HooperError, service: str) -> None:
        """Each kind of trouble is told once, with the services that it hit."""
        key = problem.message if isinstance(problem, PortTaken | RefusedForSafety) else problem.code
        known, services = self._hit.setdefault(key, (problem, []))
        services.append(service)
        if known is problem:
            self.trouble.append(problem)
            self._words[key] = problem.message
        known.message = f"{', '.join(dict.fromkeys(services))}: {self._words[key]}"


def changed(one: Wanted) -> ChangedRule:
    """The rule as a change tells it."""
    if one.rule is not None:
        return _rule(one.service, one.rule)
    forward = one.forward
    ports, inner = forward.outside_ports or single(0), forward.target_ports or single(0)
    source = ", ".join(forward.sources) or None
    return ChangedRule(one.service, forward.transport, ports, forward.target_address, inner, source)


def _entered(entry: Entered) -> ChangedRule:
    return _rule(entry.service, entry.rule)


def _rule(service: str, rule: LiveRule) -> ChangedRule:
    outside, inside = single(rule.outside_port), single(rule.target_port)
    return ChangedRule(service, rule.transport, outside, rule.target_address, inside, rule.source or None)


async def read_gateway(
    gateway: str, driver: Driver, wanted: Sequence[Wanted], journal: Mapping[Key, Entered], now: datetime
) -> GatewayTable:
    """A router's table as it stands. Raises: RouterRefuses, NoAnswer, ConnectFailed, WireError."""
    try:
        address = await driver.external_address()
    except RouterRefuses:
        address = None
    table = await driver.table()
    if table is None:
        table = [entry.rule for entry in journal.values()]
    told = str(address) if address is not None else None
    shown = rows(driver.protocol, table, wanted, journal, now)
    return GatewayTable(gateway, driver.protocol, driver.device or None, told, shown)
