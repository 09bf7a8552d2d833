"""Where a survey stands: this computer's place, the way out from it, the time that is left."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Coroutine, Iterable
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Any, TypeVar

import anyio

from hooper.addresses import IPAddress
from hooper.errors import MachineError
from hooper.line.sources import Given
from hooper.net.types import Door, Endpoint, Interface, Surroundings
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.site.model import Site
from hooper.site.references import chain_of, first_line

INTERNET = IPv4Address("192.0.2.1")  # anywhere outside, to look up a route; nothing is sent there (RFC 5737)
ASIDE = 0.15  # seconds of the deadline that are kept for what comes after an answer

T = TypeVar("T")


@dataclass(frozen=True)
class Ground:
    """What all measurements of one survey share.

    here: this computer as it is; door: bound to the interface that the line is reached by. at: the gateway whose LAN it
    is on, None: none of the site's; own: its address. chain: the gateways before it, outermost first. tunnel: the
    interface of a tunnel that its default route leads through. deadline: seconds for all; end: by the clock.
    """

    here: Door
    door: Door
    site: Site
    known: Given
    around: Surroundings
    interface: str | None
    at: str | None
    own: IPAddress | None
    chain: tuple[str, ...]
    line: str
    default_gateway: IPAddress | None
    tunnel: Interface | None
    deadline: float
    end: float

    def left(self, at_most: float = 60.0) -> float:
        """Seconds that one request may take, so that its silence is still told in time."""
        return max(min(self.end - self.here.clock.monotonic() - ASIDE, at_most), 0.01)

    def servers(self, version: int) -> list[Endpoint]:
        """The STUN servers of [measure] that have such an address."""
        return [Endpoint(address, port) for address, port in self.site.measure.stun if address.version == version]

    def routers(self) -> dict[str, IPv4Address]:
        """The gateways on the way out from here, nearest first, and the one of the system, where that is another.

        None where this computer is not at the site: those of another network say nothing of this line.
        """
        if self.at is None:
            return {}
        known = {key: self.site.gateways[key].lan.ip for key in reversed(self.chain)}
        if isinstance(self.default_gateway, IPv4Address) and self.default_gateway not in known.values():
            known[str(self.default_gateway)] = self.default_gateway
        return known


async def stand(here: Door, site: Site, known: Given, deadline: float) -> Ground:
    """Raises: NoNetwork: this computer is on no network."""
    end = here.clock.monotonic() + deadline
    around = await connected_surroundings(here)
    interface, at, own4 = standing(site, around)
    own: IPAddress | None = own4
    way = await here.source_towards(INTERNET)
    by = around.holder(way) if way is not None else None
    if interface is None and by is not None and not by.tunnel:
        interface, own = by.name, by.ipv4
    door = here
    if interface is not None and (by is None or by.name != interface or await _can_be_bound(here, interface)):
        door = here.through(interface)
    chains = [chain_of(site, key) for key in ([at] if at is not None else site.gateways)]
    chain = max(chains, key=len, default=())
    return Ground(
        here=here,
        door=door,
        site=site,
        known=known,
        around=around,
        interface=interface,
        at=at,
        own=own,
        chain=chain,
        line=first_line(site, chain),
        default_gateway=around.default_gateway(interface),
        tunnel=by if by is not None and by.tunnel else None,
        deadline=deadline,
        end=end,
    )


async def _can_be_bound(here: Door, interface: str) -> bool:
    """Whether this system lets programs choose the interface; where it is the usual way out, it does without."""
    try:
        await (await here.through(interface).datagrams()).aclose()
    except MachineError:
        return False
    return True


async def side_by_side(work: Callable[[T], Coroutine[Any, Any, None]], things: Iterable[T]) -> None:
    """One task for each."""
    async with anyio.create_task_group() as tasks:
        for thing in list(things):
            tasks.start_soon(work, thing)


Job = Callable[[], Awaitable[None]]
