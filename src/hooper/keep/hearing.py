"""What tells a keeper that something happened, so that it need not wait for its next look.

Each of these only ever makes it look: nothing that anybody sends is believed. What cannot be listened to is done
without, since everything is looked at by itself now and then.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from ipaddress import IPv4Address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError, WireError
from hooper.gateways.subscribing import follow
from hooper.keep.tasks import ADDRESS, NETWORK, ROUTER, TABLE, WOKE
from hooper.net.types import Datagram, Datagrams, Door, Endpoint
from hooper.net.whereabouts import standing
from hooper.planning.openers import driven_gateways
from hooper.site.model import Site
from hooper.wire import natpmp, pcp, ssdp

ALL_HOSTS, ANNOUNCED = IPv4Address("224.0.0.1"), 5350  # RFC 6886 section 3.2.1, RFC 6887 section 14.1
AGAIN_S = 60.0  # seconds until what cannot be listened to is tried again
NAP_S = 10.0  # seconds between looks at the clocks
STEP_S = 30.0  # seconds by which the time of day may run away from the steady clock before it counts as a step
Heard = Callable[[str, str], None]  # what happened, and who says so


@dataclass
class Ears:
    """What is listened to, at one place.

    heard: is told of each event. nap_s: seconds between looks at the clocks.
    """

    door: Door
    site: Site
    heard: Heard
    nap_s: float = NAP_S
    _epochs: dict[IPAddress, tuple[int, float]] = field(default_factory=dict)
    _places: dict[IPAddress, str] = field(default_factory=dict)

    async def listen(self) -> None:
        """Until cancelled. Raises nothing for the network."""
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self._changes)
            tasks.start_soon(self._clocks)
            if self.site.gateways:
                tasks.start_soon(self._lasting, self._announcements)
                tasks.start_soon(self._lasting, self._notices)
                driven = driven_gateways(self.site)
                if driven:
                    tasks.start_soon(self._lasting, lambda: follow(self.door, self.site, driven, self._told))

    async def _lasting(self, ear: Callable[[], Awaitable[None]]) -> None:
        """Again and again: the network may be gone for a while, or another interface be the one."""
        while True:
            with suppress(HooperError, OSError, anyio.BrokenResourceError, anyio.ClosedResourceError):
                await ear()
            await self.door.clock.sleep(AGAIN_S)

    async def _changes(self) -> None:
        """Changes of this computer's own networks."""
        while True:
            with suppress(HooperError, OSError):
                async for change in self.door.changes():
                    self.heard(NETWORK, f"{change.kind} of this computer")
            await self.door.clock.sleep(AGAIN_S)

    async def _clocks(self) -> None:
        """The time of day and the steady clock run apart: this computer slept, or its clock was set."""
        clock = self.door.clock
        day, steady = clock.now(), clock.monotonic()
        while True:
            await clock.sleep(self.nap_s)
            apart = (clock.now() - day).total_seconds() - (clock.monotonic() - steady)
            if abs(apart) > STEP_S:
                self.heard(WOKE, f"the time of day moved by {apart:+.0f} s")
            day, steady = clock.now(), clock.monotonic()

    async def _announcements(self) -> None:
        """What routers tell of their outer address and of their restarts (NAT-PMP and PCP)."""
        async with await self._group(ALL_HOSTS, ANNOUNCED) as socket:
            while True:
                came = await socket.receive()
                if isinstance(came, Datagram) and self._is_gateway(came.sender.address):
                    self._announced(came)

    def _announced(self, came: Datagram) -> None:
        """An epoch that went back means that its table may be lost: it is looked at, and no more than that."""
        now, sender = self.door.clock.monotonic(), came.sender.address
        try:
            if came.data[:1] == bytes([natpmp.VERSION]):
                epoch, anew = natpmp.NatPmpResponse.parse(came.data).epoch_s, natpmp.started_anew
            else:
                epoch, anew = pcp.PcpResponse.parse(came.data).epoch_s, pcp.lost_state
        except WireError:
            return
        before = self._epochs.get(sender)
        self._epochs[sender] = epoch, now
        restarted = before is not None and anew(before[0], epoch, now - before[1])
        self.heard(ROUTER if restarted or epoch == 0 else ADDRESS, f"{sender} announces")

    async def _notices(self) -> None:
        """Routers that come and go (SSDP): one that comes may have lost its rules."""
        async with await self._group(IPv4Address(ssdp.GROUP), ssdp.PORT) as socket:
            while True:
                came = await socket.receive()
                if not isinstance(came, Datagram) or not self._is_gateway(came.sender.address):
                    continue
                with suppress(WireError):
                    told = ssdp.parse_notice(came.data)
                    if "InternetGatewayDevice" in told.target or "upnp:rootdevice" in told.target:
                        self._come_or_gone(came.sender.address, told)

    def _come_or_gone(self, sender: IPAddress, told: ssdp.Notice) -> None:
        """Routers repeat that they are there; what counts is that one was gone, or is found elsewhere than before."""
        known = self._places.get(sender)
        self._places[sender] = told.location if told.kind != "byebye" else ""
        if known is not None and known != self._places[sender] and told.kind != "byebye":
            self.heard(ROUTER, f"{sender} is there again")

    def _told(self, gateway: str, variables: Mapping[str, str]) -> None:
        """What a router that was subscribed to tells."""
        if {"ExternalIPAddress", "ConnectionStatus"} & variables.keys():
            self.heard(ADDRESS, f"{gateway} tells")
        elif "PortMappingNumberOfEntries" in variables:
            self.heard(TABLE, f"{gateway} tells that its table changed")

    def _is_gateway(self, sender: IPAddress) -> bool:
        return any(sender == gateway.lan.ip for gateway in self.site.gateways.values())

    async def _group(self, group: IPv4Address, port: int) -> Datagrams:
        """A socket for what is sent to a group on the site's network. Raises: HooperError."""
        interface = standing(self.site, await self.door.surroundings()).interface
        return await self.door.datagrams(local=Endpoint(group, port), interface=interface, groups=(group,))
