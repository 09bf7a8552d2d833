"""IPv6 in the town: nothing is translated, and the routers on the way let in what their openings say."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv6Address
from typing import Protocol

from hooper.lab.things import SWALLOWED, Arrival, Attachment, Box, Machine, Transport, Turned
from hooper.net.types import Endpoint


class Passable(Protocol):
    """What of the town packets over IPv6 meet."""

    boxes: dict[str, Box]
    nodes: dict[str, Machine]
    cut: bool
    without_ipv6: bool


def leaves_by(node: Machine, to: IPv6Address, interface: str | None) -> Attachment | None:
    """The interface by which a packet leaves: the one on the same network, else the preferred one. interface: the one
    that it is bound to; None: any.
    """
    usable = [one for one in node.attachments if interface in (None, one.name) and one.address6 is not None]
    return min(usable, key=lambda one: (not _same_network(one, to), one.metric), default=None)


def _same_network(own: Attachment, to: IPv6Address) -> bool:
    return own.address6 is not None and int(own.address6) >> 64 == int(to) >> 64


def walls(town: Passable, segment: str, until: str) -> Iterator[Box]:
    """The routers that a packet passes into a segment from another one, the innermost first."""
    while segment != until:
        box = next((one for one in town.boxes.values() if one.inner == segment and one.is_router), None)
        if box is None:
            return
        yield box
        segment = box.outer


def route6(
    town: Passable,
    node: Machine,
    to: IPv6Address,
    transport: Transport,
    port: int,
    source_port: int,
    interface: str | None,
) -> Arrival | Turned:
    """What becomes of a packet that `node` sends. interface: as for `leaves_by`."""
    own = leaves_by(node, to, interface)
    if own is None or own.address6 is None:
        return Turned(local=True)
    if town.cut or town.without_ipv6:
        return SWALLOWED
    found = [(one, at) for one in town.nodes.values() for at in one.attachments if at.address6 == to]
    if not found or found[0][0].off:
        return SWALLOWED
    target, at = found[0]
    near = at.segment == own.segment
    if not near and not all(
        any(opening.lets_in(transport, to, port, own.address6) for opening in box.openings)
        for box in walls(town, at.segment, own.segment)
    ):
        return SWALLOWED
    if target.hears == "nobody" or (not near and (target.hears == "lan" or not target.way_out)):
        return SWALLOWED
    return Arrival(target, to, port, Endpoint(own.address6, source_port), to)
