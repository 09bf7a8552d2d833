"""Which key of which table names entries of other tables: one list, for all that checks, renames or removes. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from hooper.site.mistakes import Mistake, Path, unknown

if TYPE_CHECKING:
    from hooper.site.model import Site


class Pointer(NamedTuple):
    """A key whose value, or each of whose values, names an entry of the tables `into`.

    words: what it may say besides. free: it may say other things too, such as a network.
    """

    table: str
    key: str
    into: tuple[str, ...]
    words: tuple[str, ...] = ()
    free: bool = False


POINTERS = (
    Pointer("site", "here", ("hosts",)),
    Pointer("gateways", "line", ("lines",)),
    Pointer("gateways", "behind", ("gateways",)),
    Pointer("gateways", "everything_to", ("gateways",)),
    Pointer("gateways", "tunnel", ("tunnels",)),
    Pointer("hosts", "behind", ("gateways",)),
    Pointer("services", "host", ("hosts", "gateways")),
    Pointer("services", "line", ("lines",)),
    Pointer("services", "hands_to", ("services",)),
    Pointer("services", "name", ("names",), free=True),
    Pointer("names", "line", ("lines",)),
    Pointer("names", "host", ("hosts",)),
    Pointer("names", "updated_by", ("updaters",), ("router", "device")),
    Pointer("accounts", "host", ("hosts", "gateways")),
    Pointer("certificates", "authority", ("authorities",), ("device",)),
    Pointer("certificates", "text_by", ("updaters",)),
    Pointer("certificates", "services", ("services",)),
    Pointer("certificates", "names", ("names",), free=True),
    Pointer("tunnels", "service", ("services",)),
    Pointer("tunnels", "also", ("services",)),
    Pointer("tunnels", "into", ("services", "hosts", "gateways"), free=True),
    Pointer("tunnels", "meet", ("witnesses",)),
    Pointer("peers", "tunnel", ("tunnels",)),
    Pointer("peers", "into", ("services", "hosts", "gateways"), free=True),
    Pointer("meetings", "witness", ("witnesses",)),
)


class Pointing(NamedTuple):
    """One place that names an entry. path: of the value; of a list that may be a single value, of the whole."""

    path: Path
    pointer: Pointer
    value: str


def pointing(site: Site, pointers: tuple[Pointer, ...] = POINTERS) -> Iterator[Pointing]:
    """Each place of the site file that names an entry of another table."""
    for pointer in pointers:
        entries: Mapping[Any, Any] = {None: site.site} if pointer.table == "site" else getattr(site, pointer.table)
        for key, entry in entries.items():
            path: Path = (*((pointer.table,) if key is None else (pointer.table, key)), pointer.key)
            value = getattr(entry, pointer.key)
            if isinstance(value, str):
                yield Pointing(path, pointer, value)
                continue
            for number, one in enumerate(value or ()):
                yield Pointing(path if pointer.table == "gateways" else (*path, number), pointer, one)


def dangling(site: Site, *, gateways: bool) -> Iterator[Mistake]:
    """Those that name nothing: of the gateways, or of all others."""
    for pointer in POINTERS:
        if pointer.free or (pointer.table == "gateways") is not gateways:
            continue
        there = {key: None for table in pointer.into for key in getattr(site, table)}
        for path, _, value in pointing(site, (pointer,)):
            if value not in there and value not in pointer.words:
                yield unknown(path, pointer.into[0], value, there)


def users_of(site: Site, table: str, key: str) -> list[Pointing]:
    """The places that name one entry. A key that a service and a device have is the service (`into_of`)."""
    found = [one for one in pointing(site) if table in one.pointer.into and one.value == key]
    if table != "services" and key in site.services:
        found = [one for one in found if "services" not in one.pointer.into]
    return found
