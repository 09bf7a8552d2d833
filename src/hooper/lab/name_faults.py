"""The faults that the name, its servers and resolvers can have."""

from __future__ import annotations

from functools import partial

from hooper import deeds
from hooper.lab.boathouse import NAME
from hooper.lab.fault import Fault, NothingToBreak, Undo
from hooper.lab.town import Town

STALE = "203.0.113.40"  # what the line had last week, and somebody else has now


def _zone_down(town: Town, service: str) -> Undo:
    """The zone's own server is down, and what resolvers still have is last week's address."""
    stale = _name_stale(town, service)
    node = town.nodes["name-server"]
    node.off = True

    def undo() -> None:
        node.off = False
        stale()

    return undo


def _name_stale(town: Town, service: str) -> Undo:
    """The name still has the address of last week, which is somebody else's now."""
    del service
    current, stale = town.zone.get(NAME, "A"), [STALE]
    town.zone.set(NAME, "A", stale)

    def undo() -> None:
        if town.zone.get(NAME, "A") == stale:  # else it was updated meanwhile
            town.zone.set(NAME, "A", current)

    return undo


def _name_private(town: Town, service: str) -> Undo:
    """The device itself keeps the name, and has written the address that it has at home."""
    del service
    current = town.zone.get(NAME, "A")
    town.zone.set(NAME, "A", ["10.44.7.50"])

    def undo() -> None:
        if town.zone.get(NAME, "A") == ["10.44.7.50"]:
            town.zone.set(NAME, "A", current)

    return undo


def _name_missing(town: Town, service: str) -> Undo:
    """Somebody has cleared the name's records."""
    del service
    current = town.zone.get(NAME, "A")
    town.zone.set(NAME, "A", [])

    def undo() -> None:
        if not town.zone.get(NAME, "A"):
            town.zone.set(NAME, "A", current)

    return undo


def _other_family(town: Town, service: str) -> Undo:
    """The provider's box has published its own IPv6 address under the name."""
    del service
    if town.zone.get(NAME, "AAAA"):
        raise NothingToBreak(f"{NAME} has an IPv6 address already")
    town.zone.set(NAME, "AAAA", ["2001:db8:44::1"])

    def undo() -> None:
        town.zone.remove(NAME, "AAAA", "2001:db8:44::1")

    return undo


def _contested(town: Town, service: str) -> Undo:
    """An old machine somewhere goes on writing the address that it knows."""
    stale = _name_stale(town, service)
    town.zone.rival = NAME, STALE

    def undo() -> None:
        town.zone.rival = None
        stale()

    return undo


def _resolver(town: Town, service: str) -> Undo:
    """The resolver that everybody here uses leads those who ask for this name to a page of its own."""
    del service
    machine = town.nodes["resolver"]
    machine.udp[53] = partial(town.zone.liar, about=NAME)

    def undo() -> None:
        machine.udp[53] = town.zone.resolver

    return undo


NAME_FAULTS = (
    Fault("name-missing", _name_missing, touches="the name's address"),
    Fault("name-private", _name_private, touches="the name's address"),
    Fault("name-stale", _name_stale, touches="the name's address"),
    Fault("name-contested", _contested, touches="the name's address"),
    Fault("name-other-family", _other_family),
    Fault("resolver-broken", _resolver),
    Fault("zone-down", _zone_down, look=f"{deeds.NAMES}", touches="the name's address"),
)
