"""The faults that the name, its servers and resolvers can have."""

from __future__ import annotations

from functools import partial

from hooper import deeds
from hooper.lab.boathouse import NAME
from hooper.lab.fault import Apply, Fault, NothingToBreak, Undo, both, changed, placed
from hooper.lab.town import Town

STALE = "203.0.113.40"  # what the line had last week, and somebody else has now


def recorded(town: Town, kind: str, values: list[str]) -> Undo:
    """The name has other records, until somebody updates it."""
    current = town.zone.get(NAME, kind)
    town.zone.set(NAME, kind, values)

    def undo() -> None:
        if town.zone.get(NAME, kind) == values:
            town.zone.set(NAME, kind, current)

    return undo


def _has(*values: str) -> Apply:
    return lambda town, service: recorded(town, "A", list(values))


def _zone_down(town: Town, service: str) -> Undo:
    """The zone's own server is down, and what resolvers still have is last week's address."""
    return both(recorded(town, "A", [STALE]), changed(town.nodes["name-server"], off=True))


def _other_family(town: Town, service: str) -> Undo:
    """The provider's box has published its own IPv6 address under the name."""
    if town.zone.get(NAME, "AAAA"):
        raise NothingToBreak(f"{NAME} has an IPv6 address already")
    return recorded(town, "AAAA", ["2001:db8:44::1"])


def _contested(town: Town, service: str) -> Undo:
    """An old machine somewhere goes on writing the address that it knows."""
    return both(recorded(town, "A", [STALE]), changed(town.zone, rival=(NAME, STALE)))


def _resolver(town: Town, service: str) -> Undo:
    """The resolver that everybody here uses leads those who ask for this name to a page of its own."""
    return placed(town.nodes["resolver"].udp, 53, partial(town.zone.liar, about=NAME))


NAME_FAULTS = (
    Fault("name-missing", _has(), touches="the name's address"),
    Fault(
        "name-private",
        _has("10.44.7.50"),  # the device keeps it, and writes the address that it has at home
        touches="the name's address",
    ),
    Fault("name-stale", _has(STALE), touches="the name's address"),
    Fault("name-contested", _contested, touches="the name's address"),
    Fault("name-other-family", _other_family),
    Fault("resolver-broken", _resolver),
    Fault("zone-down", _zone_down, look=f"{deeds.NAMES}", touches="the name's address"),
)
