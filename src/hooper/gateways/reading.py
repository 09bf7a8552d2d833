"""What the routers' own tables say of the rules for one service."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import anyio

from hooper.errors import HooperError
from hooper.gateways.find import find_routers
from hooper.gateways.rules import wanted_rules
from hooper.planning.openers import not_driven

if TYPE_CHECKING:
    from datetime import datetime

    from hooper.gateways.driver import Driver
    from hooper.net.types import Door
    from hooper.planning.values import Forward
    from hooper.site.model import Site
    from hooper.store.entries import LiveRule


@dataclass(frozen=True)
class ShownTable:
    """A router's own table, as it showed it just now."""

    gateway: str
    router: Driver
    rows: Sequence[LiveRule]

    def said(
        self, forwards: Sequence[Forward], service: str, entered: Mapping[str, datetime | None], now: datetime
    ) -> str | None:
        """What it says of a service's rule: there, off, limited, transport, lost, ended, the address and port that
        it names, or unseen: one that is not shown may still be there, made by hand, unless it was Hooper that had
        entered it. None: nothing of that kind can be said to it by a program.

        entered: the services whose rules Hooper has entered there, and until when. now: in UTC.
        """
        planned = {one.rule.key for one in wanted_rules(self.router, forwards, self.gateway, 0) if one.rule is not None}
        own = [one for one in forwards if one.service == service]
        found = None
        for wanted in (one.rule for one in wanted_rules(self.router, own, self.gateway, 0)):
            if wanted is None:
                continue
            at_port = [entry for entry in self.rows if entry.key == wanted.key]
            entry = next((one for one in at_port if one.source == wanted.source), None)
            if entry is not None:
                target = f"{entry.target_address}:{entry.target_port}"
                found = "off" if not entry.enabled else "there" if entry.leads_as(wanted) else target
            elif at_port and not wanted.source:
                found = "limited"
            else:  # rules that were made by hand may not be shown to programs
                led = (wanted.outside_port, wanted.target_address)
                other = (one for one in self.rows if (one.outside_port, one.target_address) == led)
                until = entered.get(service)
                gone = "unseen" if service not in entered else "ended" if until and until <= now else "lost"
                found = "transport" if any(one.key not in planned for one in other) else gone
        return found


class Tables:
    """The tables of these routers, read once for all who ask. deadline: seconds for all of it."""

    def __init__(self, here: Door, site: Site, gateways: Iterable[str], deadline: float) -> None:
        self._of, self._reading = (here, site, tuple(gateways), deadline), anyio.Lock()
        self._read: dict[str, ShownTable] | None = None

    async def read(self) -> dict[str, ShownTable]:
        """Those of the routers that answer to programs."""
        async with self._reading:
            if self._read is None:
                self._read = await _tables_of(*self._of)
            return self._read


async def _tables_of(here: Door, site: Site, gateways: Iterable[str], deadline: float) -> dict[str, ShownTable]:
    driven = [key for key in gateways if not_driven(site, key) is None]
    tables: dict[str, ShownTable] = {}
    try:
        routers = (await find_routers(here, site, driven, deadline)).routers if driven else {}
    except HooperError:
        return tables
    for key, router in routers.items():
        try:
            rows = await router.table()
        except HooperError:
            continue
        if rows is not None:
            tables[key] = ShownTable(key, router, rows)
    return tables
