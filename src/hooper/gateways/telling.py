"""What one router says is its outer address, by whatever protocol it answers first."""

from __future__ import annotations

from ipaddress import IPv4Address

import anyio

from hooper.errors import HooperError
from hooper.gateways.asking import natpmp_address
from hooper.gateways.find import find_routers
from hooper.net.types import Door
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.wire import natpmp
from hooper.words.said import say

PATIENCE = 1.5  # seconds; one that answers at all does so at once


async def wan_told(
    here: Door, site: Site, gateway: str, deadline: float, *, by_hand: bool = False
) -> SourcedAddress | None:
    """The outer address that a gateway tells, whatever kind of address that is; None: it was not asked, or says
    nothing.

    Args: deadline: seconds, of which it takes `PATIENCE` at most. by_hand: ask one whose rules are entered by hand too:
    what is not to be driven need not be mute. Never raises for the network.
    """
    control = site.gateways[gateway].control
    if control == "hand" and not by_hand:
        return None
    found: list[SourcedAddress] = []
    patience = min(deadline, PATIENCE)

    async def by_igd(scope: anyio.CancelScope) -> None:
        try:
            search = await find_routers(here, site, [gateway], patience)
            address = await search.routers[gateway].external_address() if gateway in search.routers else None
        except HooperError:
            return
        if address is not None:
            found.append(Sourced(address, say("by-igd", gateway=gateway)))
            scope.cancel()

    async def by_natpmp(scope: anyio.CancelScope) -> None:
        try:
            said = await natpmp_address(here, IPv4Address(site.gateways[gateway].lan.ip), patience)
        except HooperError:
            return
        if said.result == natpmp.SUCCESS and said.address is not None and int(said.address):
            found.append(Sourced(said.address, say("by-nat-pmp", gateway=gateway)))
            scope.cancel()

    with anyio.move_on_after(patience):
        async with anyio.create_task_group() as tasks:
            if control in ("auto", "hand", "igd"):
                tasks.start_soon(by_igd, tasks.cancel_scope)
            if control != "igd":
                tasks.start_soon(by_natpmp, tasks.cancel_scope)
    return found[0] if found else None
