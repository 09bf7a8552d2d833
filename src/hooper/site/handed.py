"""Names that a web server tells apart on one port, and hands on to other devices. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.ports import Ports
from hooper.site.mistakes import Mistake, Path

if TYPE_CHECKING:
    from hooper.site.model import Site

AS_ITS_BEARER = ("speaks", "reach", "family", "sources")  # what one rule cannot have for one name alone
BY_ITS_BEARER = ("outside_port", "outside_address", "line")  # left out: as that has it
WEB = ("http", "https")  # what is handed on by name


def bearers(site: Site) -> dict[str, str]:
    """The services that have no rule of their own, since a web server tells them apart by name: each with the one of
    the same port whose rule it is reached by. That is the one that hands nothing on, else the first by key.
    """
    hosts = {service.host for service in site.services.values() if service.hands_to is not None}
    groups: dict[tuple[str, str, Ports], list[str]] = {}
    for key, service in site.services.items() if hosts else ():
        if service.host in hosts and service.has_ports and (service.port or service.speech.port) is not None:
            groups.setdefault((service.host, service.used_transport, service.used_ports), []).append(key)
    out: dict[str, str] = {}
    for keys in groups.values():
        first, *rest = sorted(keys, key=lambda key: (site.services[key].hands_to is not None, key))
        out |= {key: first for key in rest if site.services[key].hands_to is not None}
    return out


def sharing(site: Site) -> dict[str, tuple[str, ...]]:
    """The services that one rule lets in together, by each of them: first the one whose rule it is."""
    groups: dict[str, list[str]] = {}
    for key, by in bearers(site).items():
        groups.setdefault(by, [by]).append(key)
    return {key: tuple(keys) for keys in groups.values() for key in keys}


def handed_mistakes(site: Site) -> Iterator[Mistake]:
    """What stands against handing names on: no name, two alike, no web page, another rule than that of its port."""
    borne = bearers(site)
    names = {(key, site.services[key].name): key for key in borne.values()}
    for key, service in site.services.items():
        path: Path = ("services", key)
        behind = site.services.get(service.hands_to or "")
        if behind is None:
            continue
        if service.speaks not in WEB:
            yield (*path, "hands_to"), f"{service.speaks} is not handed on by name", 'Write `speaks = "https"`.'
        elif behind.speaks not in WEB or behind.hands_to is not None:
            what = f"speaks {behind.speaks}" if behind.speaks not in WEB else "hands on itself"
            yield (*path, "hands_to"), f"{service.hands_to} {what}", "Name the page of the device itself."
        by = borne.get(key, key)
        if service.name is None:
            yield path, "the key 'name' is missing, by which its web server tells it apart", 'Add `name = "NAME"`.'
        elif (other := names.setdefault((by, service.name), key)) != key:
            yield (*path, "name"), f"{other} has this name at the same port", "Give each a name of its own."
        for field in (*AS_ITS_BEARER, *BY_ITS_BEARER):
            own, its = getattr(service, field), getattr(site.services[by], field)
            if own != its and not (field in BY_ITS_BEARER and own is None):
                message = f"`{field}` is another one than that of {by}, and one rule leads to both"
                yield (*path, field), message, f"Write the same at both{', or leave it out here' if own else ''}."
