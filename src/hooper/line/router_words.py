"""What the routers say of themselves by UPnP, NAT-PMP and PCP: those of the file, and those that reveal themselves."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address

import anyio

from hooper.addresses import IPAddress, classify, parse_address
from hooper.errors import HooperError
from hooper.gateways.asking import natpmp_address, pcp_announce
from hooper.gateways.driver import Driver
from hooper.gateways.find import search_routers
from hooper.line.facts import BoxSaid, between
from hooper.line.ground import Ground, side_by_side
from hooper.line.nat_path import Path
from hooper.net.types import Refused
from hooper.wire import natpmp, pcp
from hooper.words.said import say

ROUTER_PATIENCE = 2.5  # seconds
FIRST = 0.5  # seconds that PCP waits for what NAT-PMP says, of this router and the inner one


@dataclass
class RoutersSay:
    """boxes: by the keys of the file. revealed: those on the path that are not in it, by their addresses."""

    ground: Ground
    path: Path
    boxes: dict[str, BoxSaid] = field(default_factory=dict)
    revealed: dict[IPAddress, BoxSaid] = field(default_factory=dict)

    async def ask_upnp(self) -> None:
        if isinstance(self.ground.own, IPv4Address):
            await self._upnp(self.ground.routers(), around=True)

    async def _upnp(self, routers: Mapping[str, IPv4Address], *, around: bool) -> None:
        assert isinstance(self.ground.own, IPv4Address)
        left = self.ground.left(2 * ROUTER_PATIENCE) / 2  # one half for the search, the other for what it finds
        found = await search_routers(self.ground.door, self.ground.own, routers, left, around=around, patience=left)

        async def one(key: str) -> None:
            self._said(key, routers[key], "igd")
            wan, down = await _address_and_state(found.routers[key])
            self._said(key, routers[key], "igd", wan, down=down)

        await side_by_side(one, found.routers)

    async def ask_port_control(self) -> None:
        await self._port_control(self.ground.routers())

    async def _port_control(self, routers: Mapping[str, IPv4Address]) -> None:
        """NAT-PMP first, since PCP through an inner NAT needs what that has outside."""
        told = {key: anyio.Event() for key in routers}
        closed: set[str] = set()

        async def by_natpmp(key: str) -> None:
            try:
                got = await natpmp_address(self.ground.door, routers[key], self.ground.left(ROUTER_PATIENCE))
            except Refused:
                closed.add(key)
                return
            except HooperError:
                return
            finally:
                told[key].set()
            wan = got.address if got.result == natpmp.SUCCESS and got.address and int(got.address) else None
            self._said(key, routers[key], "natpmp", wan, down=got.result == natpmp.NETWORK_FAILURE)

        async def by_pcp(key: str) -> None:
            inner = self._inner_of(key)
            with anyio.move_on_after(FIRST):
                await told[key].wait()
                if inner in told:
                    await told[inner].wait()
            if key in closed:
                return  # both listen at one port
            client = self._client_of(key)
            if client is None:
                return
            try:
                got = await pcp_announce(self.ground.door, routers[key], client, self.ground.left(ROUTER_PATIENCE))
            except HooperError:
                return
            if got is not None and got.result != pcp.UNSUPP_VERSION:
                self._said(key, routers[key], "pcp", between=got.result == pcp.ADDRESS_MISMATCH)

        async with anyio.create_task_group() as tasks:
            for key in routers:
                tasks.start_soon(by_natpmp, key)
                tasks.start_soon(by_pcp, key)

    def _client_of(self, key: str) -> IPAddress | None:
        """This computer's address as the router sees it: behind an inner router, that one's outer address."""
        inner = self._inner_of(key)
        if inner is None:
            return self.ground.own
        said, told = self.boxes.get(inner), self.ground.known.told.get(f"gateways.{inner}/wan")
        if said is not None and said.wan is not None:
            return said.wan
        planned = self.ground.site.gateways[inner].wan_behind(key) if key in self.ground.site.gateways else None
        return parse_address(told.value) if told is not None else planned or self.ground.own

    def _inner_of(self, key: str) -> str | None:
        """The gateway of the file that stands just inside of a router; None: this computer itself does."""
        if key in self.ground.chain:
            place = self.ground.chain.index(key) + 1
            return self.ground.chain[place] if place < len(self.ground.chain) else None
        return (
            self.ground.chain[0]
            if self.ground.chain and self.ground.at is not None and key not in self.ground.routers()
            else None
        )

    def _said(
        self,
        key: str,
        address: IPv4Address,
        protocol: str,
        wan: IPAddress | None = None,
        *,
        down: bool = False,
        between: bool = False,
    ) -> None:
        """Add what a router says by one protocol to what it said by others."""
        table: dict[str, BoxSaid] | None = self.boxes if key in self.ground.site.gateways else None
        old = (self.boxes.get(key) if table is not None else self.revealed.get(address)) or BoxSaid(address)
        control = old.control if protocol in old.control else (*old.control, protocol)
        fresh = replace(old, control=control, down=old.down or down, between=old.between or between)
        if wan is not None and old.wan is None:
            fresh = replace(fresh, wan=wan, by=say(f"by-itself.{protocol}"))
        if table is not None:
            table[key] = fresh
        else:
            self.revealed[address] = fresh

    def _near(self) -> list[IPv4Address]:
        """Routers on this side of the public address that the site file does not have, as far as the path tells.

        Those with public addresses are the provider's and are left alone.
        """
        reach = len(self.path.outward.seen) if self.path.outward is not None else 0
        if self.path.to_self is not None:
            least, most = between(self.path.to_self, self.path.outward if self.path.counted else None)
            reach = most if most is not None else least
        known = {gateway.lan.ip for gateway in self.ground.site.gateways.values()}
        out: list[IPv4Address] = []
        for hops in (self.path.outward, self.path.to_self):
            for hop in hops.seen[:reach] if hops is not None else ():
                if hop is not None and classify(hop).reachable:
                    break
                if isinstance(hop, IPv4Address) and hop not in known and hop not in out:
                    out.append(hop)
        return out

    async def ask_revealed(self) -> None:
        for address in self._near():
            self.revealed.setdefault(address, BoxSaid(address))
        asked = self.ground.routers().values()
        new = {
            str(address): address
            for address in self.revealed
            if isinstance(address, IPv4Address) and address not in asked
        }
        if not new or not isinstance(self.ground.own, IPv4Address):
            return
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self._port_control, new)
            tasks.start_soon(lambda: self._upnp(new, around=False))

    def revealed_in_order(self) -> tuple[BoxSaid, ...]:
        """Nearest first, as they stand on the path; those that the hops do not show come first, being the nearest."""
        order = [hop for hops in (self.path.outward, self.path.to_self) if hops is not None for hop in hops.seen]
        place = {address: number for number, address in reversed(list(enumerate(order)))}
        return tuple(sorted(self.revealed.values(), key=lambda said: place.get(said.address, -1)))


async def _address_and_state(router: Driver) -> tuple[IPAddress | None, bool]:
    """A router's outer address, and whether it says that its line is down."""
    try:
        wan = await router.external_address()
        return wan, wan is None and not await router.connected()
    except HooperError:
        return None, False
