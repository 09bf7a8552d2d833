"""Asking one router by NAT-PMP and PCP what it says of itself. Neither leaves anything behind there."""

from __future__ import annotations

from ipaddress import IPv4Address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError, WireError
from hooper.gateways.find import find_routers
from hooper.net.exchange import exchange
from hooper.net.types import Datagram, Door, Endpoint
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.wire import natpmp, pcp
from hooper.words.said import say

SCHEDULE = (0.0, 0.25, 0.75, 1.75)  # seconds: RFC 6886 section 3.1, doubling from 250 ms


async def natpmp_address(door: Door, router: IPv4Address, deadline: float) -> natpmp.NatPmpResponse:
    """What the router says is its outer address (RFC 6886 section 3.2). Raises: NoAnswer, ConnectFailed."""

    def matches(came: Datagram) -> bool:
        try:
            return natpmp.NatPmpResponse.parse(came.data).opcode == natpmp.ADDRESS
        except WireError:
            return False

    asked = natpmp.NatPmpRequest(natpmp.ADDRESS).serialize()
    came = await exchange(
        door, Endpoint(router, natpmp.PORT), asked, schedule=SCHEDULE, deadline=deadline, matches=matches
    )
    return natpmp.NatPmpResponse.parse(came.data)


async def pcp_announce(door: Door, router: IPv4Address, client: IPAddress, deadline: float) -> pcp.PcpResponse | None:
    """What the router says to a PCP ANNOUNCE (RFC 6887 section 14.1); None: it answers by NAT-PMP, knowing no PCP.

    client: this computer's address as the router sees it: behind another NAT, that one's outer address.
    Raises: NoAnswer, ConnectFailed.
    """

    def read(data: bytes) -> pcp.PcpResponse | None:
        try:
            return pcp.PcpResponse.parse(data)
        except WireError:
            natpmp.NatPmpResponse.parse(data)
            return None

    def matches(came: Datagram) -> bool:
        try:
            got = read(came.data)
        except WireError:
            return False
        return got is None or got.opcode == pcp.ANNOUNCE

    asked = pcp.PcpRequest(pcp.ANNOUNCE, 0, client).serialize()
    came = await exchange(
        door, Endpoint(router, pcp.PORT), asked, schedule=SCHEDULE, deadline=deadline, matches=matches
    )
    return read(came.data)


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
