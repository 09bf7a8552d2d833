"""Whether devices on this computer's own networks are there now, whatever the system remembers of them."""

from __future__ import annotations

from collections.abc import Iterable

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.types import Door, Neighbour, Refused

DISCARD = 9  # the port of RFC 863: nobody minds what comes in there
PATIENCE = 4.0  # seconds: a system that doubts an entry asks for it in five, and three times more
LOOK_EVERY = 0.25  # seconds
NOISE = 0.05  # seconds that clocks and ticks differ by


async def neighbours_since(
    here: Door, addresses: Iterable[IPAddress], since: float, patience: float
) -> tuple[Neighbour, ...]:
    """This computer's neighbours, those at `addresses` only if it is known that they are there now."""
    wanted = set(addresses)
    there = await those_there(here, wanted, since, patience)
    return tuple(
        entry
        for entry in (await here.surroundings()).neighbours
        if entry.address in there or entry.address not in wanted
    )


async def those_there(
    here: Door, addresses: Iterable[IPAddress], since: float, patience: float
) -> frozenset[IPAddress]:
    """Of some addresses on this computer's own networks those at which somebody has shown itself.

    Args: since: by the door's clock. patience: seconds; it ends once each has shown itself, or is gone.
    """
    wanted, heard = set(addresses), set[IPAddress]()
    end = here.clock.monotonic() + min(patience, PATIENCE)
    async with anyio.create_task_group() as tasks:
        for address in wanted:
            tasks.start_soon(_knock, here, address, heard)
        while True:
            asked = [entry for entry in (await here.surroundings()).neighbours if entry.address in wanted]
            heard |= {entry.address for entry in asked if seen_since(here, entry, since)}
            if {entry.address for entry in asked} <= heard or here.clock.monotonic() >= end:
                tasks.cancel_scope.cancel()
                break
            await here.clock.sleep(LOOK_EVERY)
    return frozenset(heard)


def seen_since(here: Door, entry: Neighbour, since: float) -> bool:
    """Whether a neighbour has shown itself since then; a system that does not say when is not believed."""
    return entry.silent_s is not None and entry.silent_s <= here.clock.monotonic() - since + NOISE


async def _knock(here: Door, address: IPAddress, heard: set[IPAddress]) -> None:
    """Make the system ask for the device where it is in doubt; one that accepts or refuses is there at once."""
    try:
        stream = await here.connect(address, DISCARD)
    except Refused:
        heard.add(address)
    except HooperError:
        return
    else:
        heard.add(address)
        await stream.aclose()
