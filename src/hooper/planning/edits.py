"""What a person changes in a site, as edits of the file's text: hosts, services, ticks, pins, accepted risks. Pure."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from ipaddress import IPv4Address
from typing import TYPE_CHECKING, Any, cast

from hooper import deeds
from hooper.chosen import guess
from hooper.errors import HooperError, UsageError
from hooper.planning.accounts import taken_away
from hooper.planning.documents import ChangedKey
from hooper.planning.free_addresses import free_addresses, network_of
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.values import Plan
from hooper.ports import ports_text
from hooper.site.edit import (
    CannotEdit,
    Value,
    add_entry,
    add_keys,
    add_table,
    dotted_key,
    literal,
    remove_key,
    remove_table,
    rename_table,
    set_item,
    set_key,
)
from hooper.site.fields import dns_name, own_key
from hooper.site.load import SiteFile, parse_site
from hooper.site.mistakes import Path, singular
from hooper.site.model import READY_ITEMS
from hooper.site.pointers import users_of
from hooper.words.catalogue import meanings

if TYPE_CHECKING:
    from hooper.site.model import Site

ACCEPTED_FOR = timedelta(days=90)


class StillUsed(HooperError):
    """Something else in the file needs what is to be removed."""

    code, exit_code = "still-used", UsageError.exit_code
    remedy = "Remove those first."


@dataclass(frozen=True)
class Edited:
    """The new text of a site file, and what is different in it. follows: what a person has to do elsewhere.

    renamed: the table, the old and the new name, where an entry has another one.
    """

    text: str
    action: str
    subject: str
    changes: tuple[ChangedKey, ...]
    follows: tuple[str, ...] = ()
    renamed: tuple[str, str, str] | None = None


def add(file: SiteFile, kind: str, key: str, rows: Mapping[str, Value]) -> Edited:
    """A new entry of a table; a key with a dot is of a table in it. Raises: UsageError: there is one of that name;
    CannotEdit.
    """
    if key in getattr(file.site, kind):
        raise UsageError(f"there is a {singular(kind)} {key!r} already", remedy="Choose another name.")
    nested: dict[str, Value] = {}
    for name, value in rows.items():
        outer, _, inner = name.rpartition(".")
        if outer:
            nested[outer] = {**cast("dict[str, Value]", nested.get(outer, {})), inner: value}
        else:
            nested[name] = value
    text = add_table(file.text, (kind, key), nested)
    changes = [ChangedKey(k, None, _shown(v)) for k, v in rows.items()] or [ChangedKey(f"{kind}.{key}", None, "{}")]
    return Edited(text, "added", f"{kind}.{key}", tuple(changes))


def change(file: SiteFile, kind: str, key: str | None, rows: Mapping[str, Value], clear: Iterable[str] = ()) -> Edited:
    """Other values for some keys; `clear`: keys to take away. key: of the entry; None: the table has none.

    Raises: UsageError, CannotEdit.
    """
    import tomllib

    entry = tomllib.loads(file.text).get(kind, {})
    place: Path = (kind,)
    if key is not None:
        key = _as_written(file, kind, key)
        entry, place = entry[key], (kind, key)
    text, changes = file.text, []
    for name, value in rows.items():
        *inner, last = name.split(".")
        there = entry.get(inner[0], {}) if inner else entry
        if last in there and there[last] == value:
            continue
        text = set_key(text, (*place, *inner), last, value)
        changes.append(ChangedKey(name, _shown(there[last]) if last in there else None, _shown(value)))
    for name in clear:
        *inner, last = name.split(".")
        there = entry.get(inner[0], {}) if inner else entry
        if last not in there:
            raise UsageError(
                f"[{dotted_key(place)}] has no key {name!r}", remedy=f"It has: {', '.join(entry) or 'none'}."
            )
        cut = remove_table if isinstance(there[last], dict | list) and last == "accepted" else None
        text = cut(text, (*place, name)) if cut is not None else remove_key(text, (*place, *inner), last)
        changes.append(ChangedKey(name, _shown(there[last]), None))
    return Edited(text, "changed", dotted_key(place), tuple(changes))


def differences(before: str, after: str) -> Iterator[ChangedKey]:
    """What two texts of a site file say differently, key by key, in the order of the later one. Both are TOML."""
    import tomllib

    old, new = (dict(leaves(tomllib.loads(text))) for text in (before, after))
    for key in dict.fromkeys((*new, *old)):
        if old.get(key) != new.get(key):
            yield ChangedKey(key, old.get(key), new.get(key))


def leaves(value: Mapping[str, Any], path: tuple[str, ...] = ()) -> Iterator[tuple[str, str]]:
    """Each key that has a value, by its path in the file."""
    for key, one in value.items():
        if isinstance(one, dict):
            yield from leaves(one, (*path, key))
        else:
            yield dotted_key((*path, key)), _shown(one)


def measured(file: SiteFile, line: str, situation: str | None, wans: Mapping[str, tuple[str, str]]) -> Edited:
    """What a survey came to, written down.

    Args: situation: None: it is not clear, and what is written stays. wans: for an inner gateway the one before it, and
    its address there.
    Raises: CannotEdit.
    """
    made = Edited(file.text, "measured", f"lines.{line}", ())
    edits: list[tuple[str, str, dict[str, Value]]] = []
    if situation is not None and line in file.site.lines and file.site.lines[line].situation != situation:
        edits.append(("lines", line, {"situation": situation}))
    for key, (outer, address) in wans.items():
        gateway = file.site.gateways[key]
        if str(gateway.wan_behind(outer)) == address:
            continue
        several = [str(address) for address in gateway.wan]
        if len(gateway.behind) > 1 and len(several) == len(gateway.behind):
            several[gateway.behind.index(outer)] = address
            edits.append(("gateways", key, {"wan": several}))
        elif len(gateway.behind) == 1:
            edits.append(("gateways", key, {"wan": address}))
    for kind, key, rows in edits:
        one = change(again(file, made.text), kind, key, rows)
        changes = tuple(ChangedKey(f"{kind}.{key}.{c.key}", c.before, c.after) for c in one.changes)
        made = Edited(one.text, made.action, made.subject, (*made.changes, *changes))
    return made


def change_service(file: SiteFile, key: str, rows: Mapping[str, Value], clear: Iterable[str] = ()) -> Edited:
    """As `change`; a service that becomes public by it gets its outside port written down."""
    made = change(file, "services", key, rows, clear)
    if rows.get("reach") != "public" or file.site.services[key].reach == "public":
        return made
    return _pinned(file, key, made)


def _pinned(file: SiteFile, key: str, made: Edited) -> Edited:
    """With the outside port of the service written down, as the plan of the edited file chooses it."""
    pinned = pin(again(file, made.text), [key])
    named = tuple(ChangedKey(c.key.rpartition(".")[2], c.before, c.after) for c in pinned.changes)
    return Edited(pinned.text, made.action, made.subject, (*made.changes, *named), made.follows)


def remove_host(file: SiteFile, key: str, *, with_services: bool) -> Edited:
    """Without a host. Raises: StillUsed: services, tunnels or [site] name it; CannotEdit."""
    named = _used_by(file, "hosts", key)
    used = [one for one in named if one.startswith("services.")]
    other = [one for one in named if one not in used]
    if other or (used and not with_services):
        more = f"; {deeds.WITH_SERVICES} removes its services too" if used and not other else ""
        raise StillUsed(f"{key} is used by {', '.join((*used, *other))}", remedy=f"Remove those first{more}.")
    text = file.text
    for service in used:
        text = remove_service(again(file, text), service.removeprefix("services.")).text
    text = remove_table(text, ("hosts", key))
    gone = tuple(ChangedKey(name, "", None) for name in (f"hosts.{key}", *used))
    return Edited(text, "removed", f"hosts.{key}", gone, _leftovers(file, [u.removeprefix("services.") for u in used]))


def remove_service(file: SiteFile, key: str) -> Edited:
    """Without a service, and without it in the lists of certificates. Raises: StillUsed, CannotEdit."""
    used = [one for one in _used_by(file, "services", key) if not one.startswith("certificates.")]
    if used:
        raise StillUsed(f"{key} is used by {', '.join(used)}")
    text = remove_table(file.text, ("services", key))
    changes = [ChangedKey(f"services.{key}", "", None)]
    for name, certificate in file.site.certificates.items():
        if key in certificate.services:
            rest = [service for service in certificate.services if service != key]
            text = set_key(text, ("certificates", name), "services", rest)
            changes.append(
                ChangedKey(f"certificates.{name}.services", ", ".join(certificate.services), ", ".join(rest))
            )
    return Edited(text, "removed", f"services.{key}", tuple(changes), _leftovers(file, [key]))


def remove(file: SiteFile, table: str, key: str) -> Edited:
    """Without an entry that nothing else names. Raises: StillUsed; CannotEdit."""
    if used := _used_by(file, table, key):
        raise StillUsed(f"{key} is used by {', '.join(used)}")
    text = remove_table(file.text, (table, _as_written(file, table, key)))
    follows = tuple(taken_away(file.site, key)) if table == "accounts" else ()
    return Edited(text, "removed", f"{table}.{key}", (ChangedKey(f"{table}.{key}", "", None),), follows)


def _as_written(file: SiteFile, table: str, key: str) -> str:
    """The name of an entry as the file spells it; DNS names are read in any case."""
    import tomllib

    there = tomllib.loads(file.text)[table]
    return next(one for one in there if dns_name(one) == key) if table == "names" else key


def rename(file: SiteFile, table: str, old: str, new: str) -> Edited:
    """Another name for an entry, wherever it stands. Raises: UsageError: there is one of that name; CannotEdit."""
    import tomllib

    try:
        new = dns_name(new) if table == "names" else own_key(new)
    except ValueError as exc:
        why = f"{new!r} is not a DNS name" if table == "names" else str(exc)
        raise UsageError(why, remedy="Choose another name; nothing was written.") from None
    if new in getattr(file.site, table):
        raise UsageError(f"there is a {singular(table)} {new!r} already", remedy="Choose another name.")
    written = _as_written(file, table, old)
    text, changes = rename_table(file.text, (table, written), new), [ChangedKey(f"{table}.{old}", old, new)]
    for one in users_of(file.site, table, old):
        *place, key = one.path if isinstance(one.path[-1], str) else one.path[:-1]
        if place[:2] == [table, old]:  # in itself
            place = [table, new]
        elif len(place) == 2:
            place = [place[0], _as_written(file, str(place[0]), str(place[1]))]
        inside = tomllib.loads(text)
        for part in place:
            inside = inside[str(part)]
        if isinstance(inside[str(key)], str):
            text = set_key(text, tuple(place), str(key), new)
        else:
            listed = inside[str(key)]
            number = one.path[-1] if isinstance(one.path[-1], int) else listed.index(old)
            text = set_item(text, tuple(place), str(key), number, new)
        changes.append(ChangedKey(".".join(map(str, (*place, key))), old, new))
    follows = {
        "names": (f"publish it: `{deeds.PUBLISH(new)}`; {old} stays at its provider until you remove it there",),
        "tunnels": (f"make the files of its server anew, which have its name: `{deeds.MAKE_TUNNEL(new)}`",),
    }.get(table, ())
    return Edited(text, "renamed", f"{table}.{new}", tuple(changes), follows, renamed=(table, old, new))


def _used_by(file: SiteFile, table: str, key: str) -> list[str]:
    """The entries that name one, each once."""
    return list(dict.fromkeys(".".join(map(str, one.path[:2])) for one in users_of(file.site, table, key)))


def again(file: SiteFile, text: str) -> SiteFile:
    """The file with another text. Raises: SiteFileError, SeveralErrors: it has no meaning."""
    return parse_site(text.encode(), file.name)


def _leftovers(file: SiteFile, services: Iterable[str]) -> tuple[str, ...]:
    """What stands elsewhere for services that are gone from the file."""
    ways = Topology(file.site).ways
    out = []
    for key in services:
        way = ways.get(key)
        if way is not None and way.ports:
            rule = f"{file.site.services[key].used_transport} {ports_text(way.ports[0])}"
            there = ", ".join(way.gateways)
            out.append(f"take the rule {rule} away on {there}; what Hooper entered: `{deeds.CLOSE(key)}`")
    return tuple(out)


def add_host(file: SiteFile, key: str, rows: Mapping[str, Value]) -> Edited:
    """A new host; without an address it gets the first free one outside the pool.

    Raises: UsageError: none is free, or there is no gateway; CannotEdit, SiteFileError, SeveralErrors.
    """
    if "address" not in rows:
        behind = rows.get("behind")
        gateway = network_of(file.site, str(behind) if behind is not None else None)
        free = next(free_addresses(file.site, gateway), None)
        if free is None:
            raise UsageError(f"no address is free on the network of {gateway}", remedy="Give one that you have chosen.")
        rows = {"address": str(free), **rows}
    return add(file, "hosts", key, rows)


def change_host(file: SiteFile, key: str, rows: Mapping[str, Value], clear: Sequence[str], today: date) -> Edited:
    """A changed host, with all that hangs on its old address. Raises: as `change`."""
    edited, old = change(file, "hosts", key, rows, clear), file.site.hosts[key].address
    if again(file, edited.text).site.hosts[key].address == old:
        return edited
    return replace(edited, follows=tuple(hangs_on(file.site, make_plan(file, today), key, old)))


def tick(file: SiteFile, host: str, items: Mapping[str, bool]) -> Edited:
    """What a person says of a device, or of a gateway itself. Raises: UsageError: no such item; CannotEdit."""
    for item in items:
        if item not in READY_ITEMS:
            hint = f"{guess(item, READY_ITEMS)}There are: {', '.join(READY_ITEMS)}."
            raise UsageError(f"there is nothing to tick called {item!r}", remedy=hint)
    text, changes = file.text, []
    entry = file.site.entry_of(host)
    for item, said in items.items():
        before = getattr(file.site.devices[host].ready, item)
        if before is said:
            continue
        text = set_key(text, (*entry.split("."), "ready"), item, said)
        changes.append(ChangedKey(f"ready.{item}", None if before is None else _shown(before), _shown(said)))
    return Edited(text, "ticked", entry, tuple(changes))


def pin(file: SiteFile, services: Iterable[str] | None = None) -> Edited:
    """The outside port of each public service written down, as the plan has it now. Raises: CannotEdit."""
    rows: list[tuple[Path, str, Value]] = []
    topology = Topology(file.site)
    for key, way in topology.ways.items():
        if topology.bearer(key) != key or not way.ports or file.site.services[key].outside_port is not None:
            continue
        if services is not None and key not in services:
            continue
        ports = way.ports[0]
        value: Value = ports.first if ports.size == 1 else str(ports)
        rows.append((("services", key), "outside_port", value))
    changes = tuple(ChangedKey(f"services.{table[1]}.outside_port", None, _shown(value)) for table, _, value in rows)
    return Edited(add_keys(file.text, rows), "pinned", "services", changes)


def add_service(file: SiteFile, key: str, rows: Mapping[str, Value]) -> Edited:
    """A new service; where it is public, the outside port that the plan chooses is written down with it.

    Raises: UsageError, CannotEdit, SiteFileError, SeveralErrors: with it the file has no meaning.
    """
    if "hands_to" in rows and "reach" not in rows:  # as far as the others at its web server's port
        host, speaks = rows.get("host"), rows.get("speaks", "unknown")
        there = (one.reach for one in file.site.services.values() if (one.host, one.speaks) == (host, speaks))
        rows = {**rows, "reach": next(there, "lan")}
    return _pinned(file, key, add(file, "services", key, rows))


def accept(file: SiteFile, risks: Iterable[tuple[str, str]], reason: str, until: date) -> Edited:
    """Risks that a person takes: (service, code of the finding). Raises: UsageError, CannotEdit."""
    text, changes = file.text, []
    for service, code in risks:
        if not any(meaning.acceptable for meaning in meanings(code)):
            raise UsageError(f"{code!r} is no risk that can be accepted", remedy="See docs/findings.md.")
        now = again(file, text).site.services[service].accepted
        at = next((number for number, one in enumerate(now) if one.finding == code), None)
        path = ("services", service, "accepted")
        if at is None:
            text = add_entry(text, path, {"finding": code, "reason": reason, "until": until})
        else:
            entry = path if len(now) == 1 and not _is_list(text, service) else (*path, at)
            text = set_key(set_key(text, entry, "reason", reason), entry, "until", until)
        changes.append(ChangedKey(f"services.{service}.accepted", None, f"{code} until {until}: {reason}"))
    return Edited(text, "accepted", "services", tuple(changes))


def no_more_accepted(file: SiteFile, service: str, code: str) -> Edited:
    """A risk that is taken no more. Raises: UsageError: it is not; CannotEdit."""
    there = file.site.services[service].accepted
    at = next((number for number, one in enumerate(there) if one.finding == code), None)
    if at is None:
        known = ", ".join(one.finding for one in there) or "none"
        raise UsageError(f"{code!r} is not accepted for {service}", remedy=f"There are: {known}.")
    path: Path = ("services", service, "accepted")
    try:
        text = remove_table(file.text, path if len(there) == 1 else (*path, at))
    except CannotEdit:  # in brackets all on one line
        rest = [one.model_dump() for number, one in enumerate(there) if number != at]
        text = set_key(file.text, path[:-1], "accepted", rest)
    gone = ChangedKey(".".join(map(str, path)), f"{code} until {there[at].until}", None)
    return Edited(text, "changed", f"services.{service}", (gone,))


def _is_list(text: str, service: str) -> bool:
    import tomllib

    return isinstance(tomllib.loads(text)["services"][service]["accepted"], list)


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list | tuple):
        return ", ".join(map(_shown, value)) or "none"
    return literal(value) if isinstance(value, dict) else str(value)


# --- what hangs on an address


def hangs_on(site: Site, plan: Plan, host: str, old: IPv4Address) -> Iterator[str]:
    """All that has to be changed by hand when a host leaves its address, in the order of the work."""
    entry = site.hosts[host]
    text = str(old)
    if entry.address_from == "device":
        yield f"on {host} itself: its address, and nothing else of its network page"
    for rule in plan.forwards:
        if rule.target_address == text:
            where = f"{rule.transport} {ports_text(rule.outside_ports)} ({rule.service})"
            yield f"on {rule.gateway}: the rule for {where}, which leads to {text}"
    if entry.address_from == "reservation":
        yield f"on the gateway of {host}: the reservation of {text}" + (f" for {entry.mac}" if entry.mac else "")
        yield f"on {host}: switch it off and on, so that it asks DHCP for its new address"
    for key, tunnel in site.tunnels.items():
        if site.services[tunnel.service].host == host and tunnel.subnet is not None and tunnel.way_back == "route":
            yield f"the route to {tunnel.subnet} of the tunnel {key}, which goes by {text}"
    names = sorted({*site.names, *(s.name for s in site.services.values() if s.name and s.host == host)})
    if names and any(service.host == host and service.reach == "public" for service in site.services.values()):
        yield f"hosts files of devices inside that say {text} for {', '.join(names)}"
    inner = [key for key, service in site.services.items() if service.host == host]
    if inner:
        yield f"bookmarks and apps inside that ask {text} for {', '.join(inner)}"
