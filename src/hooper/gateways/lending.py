"""A rule in a router's table for as long as a test takes: what stood at its port is put back afterwards.

What is lent is written down before each deed. A run that was killed is tidied up after by the next, or by its guardian.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from hooper import deeds
from hooper.clock import Clock, shown_duration
from hooper.errors import CounterpartError, HooperError, NeedsAPerson, NoAnswer
from hooper.gateways.driver import Driver, RouterRefuses
from hooper.gateways.rules import is_ours
from hooper.net.types import ConnectFailed
from hooper.store.entries import Lent, LiveRule
from hooper.store.journal import Journal, LentRules

LENT_S = 120  # seconds that such a rule lasts by itself, so that it ends even where nobody can tidy up
RENEWED_EVERY = LENT_S / 3


class PortNotLent(CounterpartError):
    """The router keeps the port for another rule."""

    code = "port-not-lent"
    remedy = f"Look at `{deeds.TABLES}`; without a service, a port that is free is taken."


class PutBackShorter(NeedsAPerson):
    """A rule that had no end was put back, and the router gave it one."""

    code = "put-back-shorter"
    remedy = "Enter it again on the router's own pages, where it has no end."


class LentRuleLeft(CounterpartError):
    """Rules for a test could not be taken back."""

    code = "test-rule-left"
    remedy = f"`{deeds.TABLES}` takes them back once the router answers."


@dataclass(frozen=True)
class Lending:
    """One router. Everything raises NoAnswer, ConnectFailed, WireError where it does not answer."""

    gateway: str
    driver: Driver
    lent: LentRules
    journal: Journal
    clock: Clock

    async def put(self, rule: LiveRule, *, take_over: bool) -> LiveRule:
        """Let `rule` stand at its port; gives what the router made of it.

        take_over: also where somebody else's rule stands there that has no end: many routers give it one when it is
        put back. Raises: PortNotLent, RouterRefuses, RouterLied: then what stood there stands there again.
        """
        before = tuple(there for there in await self._table() if there.key == rule.key)
        mine = self.journal.entries(self.gateway)
        kept = next((one for one in before if not one.lease_s and not is_ours(one, mine, self.clock.now())), None)
        if kept is not None and not take_over:
            where = f"{kept.transport} {kept.outside_port} leads to {kept.target_address}:{kept.target_port}"
            raise PortNotLent(
                f"on {self.gateway}, {where} by somebody else's permanent rule",
                remedy=f"Leave the service out, so that a free port is taken; or give {deeds.TAKE_OVER}: it is put back"
                " then, but some routers give it an end.",
            )
        one = Lent(self.gateway, rule, before, self.clock.now() + timedelta(seconds=rule.lease_s))
        self.lent.write(one)
        try:
            for there in before:
                await self.driver.delete(there)
            granted = await self.driver.add(rule)
        except HooperError as exc:
            await self.take_back(one)
            if isinstance(exc, RouterRefuses) and exc.reason == "taken":
                raise PortNotLent(f"{self.gateway} does not lend {rule.transport} {rule.outside_port}: {exc}") from None
            raise
        if not granted.lease_s:
            self.lent.write(Lent(self.gateway, rule, before, None))
        return granted

    async def stands(self, rule: LiveRule) -> bool:
        """Whether a rule stands there as it is wanted, whoever made it."""
        return any(there.leads_as(rule) and there.enabled for there in await self._table())

    async def renew(self, rule: LiveRule) -> None:
        """Let a rule that was put last longer. Raises: RouterRefuses, RouterLied."""
        await self.driver.renew(rule)
        for one in self.lent.all(self.gateway):
            if one.rule.key == rule.key and one.until is not None:
                self.lent.write(Lent(one.gateway, rule, one.before, self.clock.now() + timedelta(seconds=rule.lease_s)))

    async def take_back(self, one: Lent, table: Sequence[LiveRule] | None = None) -> None:
        """Take a rule away and put back what it took the place of. table: as it stood just now; None: it is read.

        Raises: RouterRefuses, RouterLied; PutBackShorter: it is put back, and now has an end.
        """
        table = table if table is not None else await self.driver.table()
        stands = [there for there in table or () if there.key == one.rule.key]
        ours = table is None or any(there.leads_as(one.rule) for there in stands)
        if ours:
            await self.driver.delete(one.rule)
        back: list[LiveRule] = []
        if ours or not stands:  # else somebody else has used the port meanwhile
            back = [await self.driver.add(before) for before in one.before]
        self.lent.forget(one)
        for before, now in zip(one.before, back, strict=False):
            if not before.lease_s and now.lease_s:
                where = f"{before.transport} {before.outside_port} to {before.target_address}:{before.target_port}"
                ends = shown_duration(now.lease_s)
                raise PutBackShorter(f"{self.gateway} has {where} again, and keeps it for {ends}; it had no end before")

    async def tidy(self) -> list[HooperError]:
        """Take back all that was lent here, each by itself; what is wrong with it.

        A router that does not answer is not asked for all the rest; what is left then is named.
        """
        problems: list[HooperError] = []
        gone: HooperError | None = None
        table: Sequence[LiveRule] | None = None
        for one in self.lent.all(self.gateway):
            try:
                if gone is None and table is None:
                    table = await self.driver.table()
                if gone is None:
                    await self.take_back(one, table)
            except PutBackShorter as exc:
                problems.append(exc)
            except HooperError as exc:
                gone = exc if isinstance(exc, NoAnswer | ConnectFailed) else None
                problems += [exc] if gone is None else []
        left = [f"{one.rule.transport} {one.rule.outside_port}" for one in self.lent.all(self.gateway)]
        if left:
            why = gone or next((one for one in problems if not isinstance(one, PutBackShorter)), None)
            said = f"{', '.join(left)}{f': {why.message}' if why is not None else ''}"
            shorter = [one for one in problems if isinstance(one, PutBackShorter)]
            return [*shorter, LentRuleLeft(f"{self.gateway} may still have what was entered for a test, {said}")]
        return problems

    async def _table(self) -> list[LiveRule]:
        """What stands there; where the protocol shows no table, what we entered."""
        table = await self.driver.table()
        if table is None:
            return [entry.rule for entry in self.journal.entries(self.gateway).values() if entry.state == "open"]
        return table
