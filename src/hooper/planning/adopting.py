"""Devices that were found, taken into the site file with what they offer. Pure."""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Sequence
from typing import TYPE_CHECKING, NamedTuple

from hooper.errors import UsageError
from hooper.planning.documents import ChangedKey
from hooper.planning.edits import Edited, add_host, add_service, again

if TYPE_CHECKING:
    from hooper.site.edit import Value
    from hooper.site.load import SiteFile

PAGES = ("https", "http")  # the first of them that a device has is its page


class NewDevice(NamedTuple):
    """One that was found. called: what it calls itself, or what it is; may be empty. in_pool: DHCP may give its address
    to another. offers: what it speaks, and at which TCP port.
    """

    address: str
    mac: str | None
    called: str
    in_pool: bool
    offers: Sequence[tuple[str, int]]


def adopt(file: SiteFile, devices: Iterable[NewDevice]) -> Edited:
    """The devices as hosts, and what they offer as services that nobody outside reaches; nothing is ticked off.

    One in the pool is written down as having a reservation, which its router's sheet then asks for.
    Raises: UsageError: none was chosen; CannotEdit, SiteFileError, SeveralErrors.
    """
    text, changes, added = file.text, list[ChangedKey](), list[str]()
    for device in devices:
        now = again(file, text)
        key = key_for(device, {*now.site.hosts, *now.site.gateways})
        rows: dict[str, Value] = {"address": device.address}
        rows |= {"mac": device.mac} if device.mac else {}
        rows |= {"address_from": "reservation"} if device.in_pool and device.mac else {}
        made = add_host(now, key, rows)
        changes += [ChangedKey(f"hosts.{key}.{one.key}", one.before, one.after) for one in made.changes]
        added.append(f"hosts.{key}")
        text = made.text
        for name, speaks, port in _services(key, device.offers):
            now = again(file, text)
            while name in now.site.services:
                name += "-2"
            usual = {} if _usual(speaks) == port else {"port": port}
            made = add_service(now, name, {"host": key, "speaks": speaks, **usual, "reach": "lan"})
            changes.append(ChangedKey(f"services.{name}", None, f"{speaks} at port {port}, for the LAN alone"))
            text = made.text
    if not added:
        raise UsageError("no device was chosen", remedy="Name one of those that are not in the site file yet.")
    return Edited(text, "added", ", ".join(added), tuple(changes))


def key_for(device: NewDevice, taken: Container[str]) -> str:
    """A name for a device: its own, else by the end of its address."""
    own = re.sub(r"[^a-z0-9]+", "-", device.called.partition(".")[0].lower()).strip("-")
    key = first = own[:40].strip("-") or f"device-{device.address.rpartition('.')[2]}"
    number = 2
    while key in taken:
        key, number = f"{first}-{number}", number + 1
    return key


def _services(host: str, offers: Sequence[tuple[str, int]]) -> list[tuple[str, str, int]]:
    """A name, the protocol and the port of each service, its page first."""
    ordered = sorted(dict.fromkeys(offers), key=lambda one: PAGES.index(one[0]) if one[0] in PAGES else len(PAGES))
    out, names = [], set[str]()
    for speaks, port in ordered:
        wanted = f"{host}-page" if speaks in PAGES else f"{host}-{speaks}"
        name = next(one for one in (wanted, f"{host}-{speaks}", f"{host}-{speaks}-{port}") if one not in names)
        names.add(name)
        out.append((name, speaks, port))
    return out


def _usual(speaks: str) -> int | None:
    from hooper.site.protocols import SPEECHES

    return SPEECHES[speaks].port
