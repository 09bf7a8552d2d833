"""Whether devices on this machine's own networks are there now, whatever the system remembers of them."""

from __future__ import annotations

from collections.abc import Iterable

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.types import Door, Endpoint, Neighbour

DISCARD = 9  # the port of RFC 863: nobody minds what comes in there
PATIENCE = 4.0  # seconds: a system that doubts an entry asks for it in five, and three times more
LOOK_EVERY = 0.25  # seconds
NOISE = 0.05  # seconds that clocks and ticks differ by


async def neighbours_since(
    here: Door, addresses: Iterable[IPAddress], since: float, patience: float
) -> tuple[Neighbour, ...]:
    """This machine's neighbours, those at `addresses` asked again until each has shown itself since, or is gone.

    Args: since: by the door's clock. patience: seconds.
    Returns: those of whom it is known that they are there, at the addresses in question; and all others as they stand.
    """
    wanted = set(addresses)
    end = here.clock.monotonic() + min(patience, PATIENCE)
    await _knock(here, wanted)
    while True:
        entries = (await here.surroundings()).neighbours
        doubtful = {
            entry.address for entry in entries if entry.address in wanted and not seen_since(here, entry, since)
        }
        if not doubtful or here.clock.monotonic() >= end:
            return tuple(entry for entry in entries if entry.address not in doubtful)
        await here.clock.sleep(LOOK_EVERY)


def seen_since(here: Door, entry: Neighbour, since: float) -> bool:
    """Whether a neighbour has shown itself since then; a system that does not say when is not believed."""
    return entry.silent_s is not None and entry.silent_s <= here.clock.monotonic() - since + NOISE


async def _knock(here: Door, addresses: Iterable[IPAddress]) -> None:
    """One datagram makes the system ask for the device, where it is in doubt."""
    for address in addresses:
        try:
            async with await here.datagrams() as socket:
                await socket.send(b"", Endpoint(address, DISCARD))
        except HooperError:
            continue
