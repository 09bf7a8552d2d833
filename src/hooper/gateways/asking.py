"""Asking one router by NAT-PMP and PCP what it says of itself. Neither leaves anything behind there."""

from __future__ import annotations

from ipaddress import IPv4Address

from hooper.addresses import IPAddress
from hooper.errors import WireError
from hooper.net.exchange import exchange
from hooper.net.types import Datagram, Door, Endpoint
from hooper.wire import natpmp, pcp

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

    client: this machine's address as the router sees it: behind another NAT, that one's outer address.
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
