"""What a person changes in tunnels and peers, as edits of the site file, and what is left to do elsewhere. Pure."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from ipaddress import IPv6Network, ip_network
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.addresses import parse_address
from hooper.errors import UsageError
from hooper.planning.access import ends, granted_services, handing, interface_name, peers_of
from hooper.planning.documents import ChangedKey
from hooper.planning.edits import Edited, add, add_service, again, change
from hooper.planning.free_addresses import free_prefix
from hooper.planning.free_ports import transports
from hooper.planning.routes import return_routes
from hooper.planning.topology import Topology
from hooper.planning.typed import outside_port
from hooper.site.edit import Value, remove_table
from hooper.site.protocols import SPEECHES
from hooper.site.tunnel_kinds import TunnelKind, tunnel_kind

if TYPE_CHECKING:
    from datetime import date

    from hooper.site.load import SiteFile
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel


LOGIN = "tunnel"  # the user of SSH where the file names none


def free_prefix6(seed: bytes) -> IPv6Network:
    """A private prefix that nobody else has, by chance (RFC 4193 section 3.2.2)."""
    number = 0xFD << 120 | int.from_bytes(hashlib.sha256(seed).digest()[:5], "big") << 80
    return IPv6Network((number, 64))


@dataclass(frozen=True)
class Placing:
    """Where a new tunnel's packets are to arrive.

    host: where a service for it is to be made; None: `service` names one, or the file has just one that fits. second:
    a TCP port by which an OpenVPN server can be found too; None: none.
    """

    host: str | None = None
    second: int | None = None


ANYWHERE = Placing()


def add_tunnel(
    file: SiteFile, key: str, rows: Mapping[str, Value], where: Placing, keys: Mapping[str, Value], seed: bytes
) -> Edited:
    """A new tunnel, with what was not said chosen for it.

    Args: rows: as written. keys: the public ones of the server, where we make it, and of the probe. seed: by chance.
    Raises: UsageError, CannotEdit.
    """
    if key in file.site.tunnels:
        raise UsageError(f"there is a tunnel {key!r} already", remedy="Choose another name.")
    chosen: dict[str, Value] = {"kind": "wireguard", **rows}
    kind = tunnel_kind(str(chosen["kind"]))
    if not kind.servers:
        chosen.setdefault("made_by", "device")
    with_services, changes = _with_services(file, key, kind, chosen, where)
    if "subnet" in kind.fields:
        chosen.setdefault("subnet", str(free_prefix(file.site, 24, seed)))
        if "subnet6" not in rows and kind.servers and "subnet6" in kind.fields:
            chosen["subnet6"] = str(free_prefix6(seed))
    if not chosen.get("subnet6", "-"):
        del chosen["subnet6"]
    chosen |= keys
    edited = add(with_services, "tunnels", key, chosen)
    after = again(file, edited.text)
    return replace(edited, changes=(*changes, *edited.changes), follows=tuple(_to_make(after.site, key)))


def _with_services(
    file: SiteFile, key: str, kind: TunnelKind, chosen: dict[str, Value], where: Placing
) -> tuple[SiteFile, tuple[ChangedKey, ...]]:
    """The file with the services that a new tunnel needs, which are named in what is chosen."""
    changes = tuple[ChangedKey, ...]()

    def made(file: SiteFile, service: str, rows: dict[str, Value]) -> SiteFile:
        nonlocal changes
        if kind.movable:
            rows |= _own_port(file.site, rows)
        one = add_service(file, service, rows)
        changes += tuple(replace(change, key=f"services.{service}.{change.key}") for change in one.changes)
        return again(file, one.text)

    host = where.host
    if "service" not in chosen and host is not None:
        chosen["service"] = key if key not in file.site.services else f"{key}-tunnel"
        file = made(file, str(chosen["service"]), {"host": host, "speaks": kind.speaks, "reach": "public"})
    elif "service" not in chosen:
        chosen["service"] = _only_service(file.site, kind.speaks)
    if "also" in chosen or str(chosen["service"]) not in file.site.services:
        return file, changes
    first = file.site.services[str(chosen["service"])]
    rows: dict[str, Value] = {"host": first.host, "reach": "public"}
    if kind.speaks_too is not None:  # every IPsec server behind NAT needs both (RFC 3947)
        wanted = first.host, kind.speaks_too
        there = (name for name, one in file.site.services.items() if (one.host, one.speaks) == wanted)
        chosen["also"] = next(there, f"{chosen['service']}-nat")
        rows["speaks"] = kind.speaks_too
    elif where.second is not None:
        other = "tcp" if first.used_transport == "udp" else "udp"
        chosen["also"] = f"{chosen['service']}-{other}"
        rows |= {"speaks": kind.speaks, "transport": other, "port": where.second}
    if "also" in chosen and chosen["also"] not in file.site.services:
        file = made(file, str(chosen["also"]), rows)
    return file, changes


def _own_port(site: Site, rows: Mapping[str, Value]) -> dict[str, Value]:
    """A port of its host that none of its other services has: two servers cannot listen at one.

    Raises: UsageError: the one that is wanted is taken.
    """
    speech = SPEECHES[str(rows["speaks"])]
    transport, wanted = str(rows.get("transport", speech.transport)), rows.get("port", speech.port)
    if not isinstance(wanted, int):
        return {}
    taken = {
        port: key
        for key, one in site.services.items()
        if one.host == rows["host"]
        and one.has_ports
        and set(transports(one.used_transport)) & set(transports(transport))
        for port in range(one.used_ports.first, one.used_ports.last + 1)
    }
    if wanted in taken and "port" in rows:
        message = f"{taken[wanted]} has {transport.upper()} {wanted} on {rows['host']} already"
        raise UsageError(message, remedy="Give another port; outside it can be another one all the same.")
    free = next((port for port in range(wanted, 65536) if port not in taken), wanted)
    return {"port": free} if free != wanted else {}


def _only_service(site: Site, speaks: str) -> str:
    used = {tunnel.service for tunnel in site.tunnels.values()}
    fitting = [key for key, service in site.services.items() if service.speaks == speaks and key not in used]
    if len(fitting) != 1:
        there = f"there are {', '.join(fitting)}" if fitting else f"there is none that speaks {speaks}"
        raise UsageError(
            f"it cannot be told where its packets arrive: {there}",
            remedy=f"Give {deeds.TUNNEL_SERVICE}, or {deeds.TUNNEL_HOST} and the service is made.",
        )
    return fitting[0]


def _to_make(site: Site, key: str) -> Iterator[str]:
    """What a new or changed tunnel asks for."""
    tunnel = site.tunnels[key]
    host = site.services[tunnel.service].host
    if tunnel.of.seen_key and tunnel.public_key is None:
        yield f"the host key of {host}, by which peers know it: at home, `{deeds.RENEW_TUNNEL(key)}` looks at it"
    if tunnel.made_by == "hooper":
        yield f"on {host}: load its files, which `{deeds.MAKE_TUNNEL(key)}` writes"
    elif tunnel.of.keyed:
        yield f"on the pages of {host}: the fields of `{deeds.SHOW_TUNNEL(key)}`; then write its `public_key` here"
    else:
        yield f"on the pages of {host}: the fields of `{deeds.SHOW_TUNNEL(key)}`"
    for gateway, routes in return_routes(site).items():
        for route in routes:
            if route.prefix == str(tunnel.subnet):
                yield f"on {gateway}: the route {route.prefix} by {route.via}; `{deeds.SHEET(gateway)}` has it"


def change_tunnel(file: SiteFile, key: str, rows: Mapping[str, Value], clear: Iterable[str] = ()) -> Edited:
    """Other values for a tunnel. Raises: UsageError, CannotEdit."""
    made = _renumbered(file, key, change(file, "tunnels", key, rows, clear), rows)
    if not made.changes:
        return made
    site = again(file, made.text).site
    follows = list(_to_make(site, key))
    told = {"subnet", "subnet6", "dns", "service", "also", "public_key"} & {one.key for one in made.changes}
    for name, peer in peers_of(site, key).items():
        if told or (peer.into is None and "into" in rows):
            follows += _new_file(site, name)
    return replace(made, follows=tuple(follows))


def _renumbered(file: SiteFile, key: str, made: Edited, rows: Mapping[str, Value]) -> Edited:
    """Peers go with their tunnel into another network, each with its number, where that has room for it."""
    tunnel, text, changes = file.site.tunnels[key], made.text, list(made.changes)
    for field, old in (("subnet", tunnel.subnet), ("subnet6", tunnel.subnet6)):
        if field not in rows or old is None or not rows[field]:
            continue
        new, name = ip_network(str(rows[field])), "address6" if field == "subnet6" else "address"
        for peer_key, peer in peers_of(file.site, key).items():
            was = getattr(peer, name)
            if was is None or (was.version == new.version and was in new):
                continue
            number = int(was) - int(old.network_address)
            if number >= new.num_addresses - 1:
                raise UsageError(f"{new} has no room for {peer_key}", remedy="Give the tunnel a larger one.")
            one = change(replace(file, text=text), "peers", peer_key, {name: str(new[number])})
            text = one.text
            changes += [replace(entry, key=f"peers.{peer_key}.{entry.key}") for entry in one.changes]
    return replace(made, text=text, changes=tuple(changes))


def device_of(peer: Peer, key: str) -> str:
    """A peer's device in words: the cox's phone (cox-phone)."""
    whose = f"{peer.person}'s" if peer.person else "the"
    return f"{whose} {peer.device} ({key})"


def remove_tunnel(file: SiteFile, key: str) -> Edited:
    """Without a tunnel and its peers, and all that has to be taken away elsewhere so that nothing of it stays.

    Raises: CannotEdit.
    """
    site, text = file.site, file.text
    tunnel = site.tunnels[key]
    gone = list(peers_of(site, key))
    for name in gone:
        text = remove_table(text, ("peers", name))
    text = remove_table(text, ("tunnels", key))
    changes = tuple(ChangedKey(path, "", None) for path in (f"tunnels.{key}", *(f"peers.{name}" for name in gone)))
    return Edited(text, "removed", f"tunnels.{key}", changes, tuple(_to_take_away(site, key, tunnel)))


def _to_take_away(site: Site, key: str, tunnel: Tunnel) -> Iterator[str]:
    """All places where something of a tunnel stands."""
    service = site.services[tunnel.service]
    yield f"on {service.host}: the tunnel itself; {stopping(tunnel, key)}"
    for gateway, routes in return_routes(site).items():
        for route in routes:
            if route.prefix == str(tunnel.subnet):
                yield f"on {gateway}: the route {route.prefix} by {route.via}"
    for name, peer in peers_of(site, key).items():
        yield f"on {device_of(peer, name)}: the profile, in {tunnel.of.software}; and where its file was kept"
    for offered in (tunnel.service, tunnel.also):
        if offered is not None and site.services[offered].reach == "public":
            one, port = site.services[offered], outside_port(Topology(site), offered)
            yield (
                f"the rules for {one.used_transport} {port}: `{deeds.CLOSE(offered)}` takes away what Hooper entered;"
                f" then `{deeds.REMOVE_SERVICE(offered)}`, unless {one.host} offers it to others"
            )


def stopping(tunnel: Tunnel, key: str) -> str:
    """How the server is stopped and what of it stays on the disk, in words."""
    name = interface_name(key)
    if tunnel.made_by == "device":
        return "switch it off on the page where it was made"
    how = tunnel.of.stopped if tunnel.server == "linux" else tunnel.of.stopped_by_app
    return how.format(name=name, login=tunnel.login or LOGIN)


# --- peers


def add_peer(file: SiteFile, key: str, rows: Mapping[str, Value]) -> Edited:
    """A new peer, with free addresses of its tunnel. Raises: UsageError, CannotEdit."""
    tunnel = file.site.tunnels[str(rows["tunnel"])]
    chosen: dict[str, Value] = dict(rows)
    chooses = tunnel.made_by == "hooper" or tunnel.of.keyed  # else the device gives them out
    if tunnel.subnet is not None and chooses:
        chosen |= _addresses_for(file.site, str(rows["tunnel"]), chosen)
    edited = add(file, "peers", key, chosen)
    site = again(file, edited.text).site
    return replace(edited, follows=(*_server_anew(site, str(rows["tunnel"])), *_to_hand(site, key)))


def _addresses_for(site: Site, key: str, chosen: Mapping[str, Value]) -> dict[str, Value]:
    """Free addresses of a tunnel's networks for a new peer. Raises: UsageError: there is none."""
    tunnel, out = site.tunnels[key], dict[str, Value]()
    used = {peer.address for peer in site.peers.values()}
    (whole, *_), (usable, *_) = tunnel.subnets, ends(site, key)[0].subnets
    if "address" not in chosen:
        # from .11 on, as routers and servers like the low ones; then what is left
        numbers = [*range(11, usable.num_addresses - 1), *range(2, min(11, usable.num_addresses - 1))]
        free = next((usable[number] for number in numbers if usable[number] not in used), None)
        if free is None:
            raise UsageError(f"{usable} is full", remedy="Give the tunnel a larger subnet.")
        out["address"] = str(free)
    if tunnel.subnet6 is not None and "address6" not in chosen:
        number = int(parse_address(str(chosen.get("address", out.get("address"))))) - int(whole.network_address)
        out["address6"] = str(tunnel.subnet6[number])
    return out


def _server_anew(site: Site, key: str) -> Iterator[str]:
    tunnel = site.tunnels[key]
    host = site.services[tunnel.service].host
    if tunnel.made_by == "hooper":
        yield f"on {host}: load the new files, which `{deeds.MAKE_TUNNEL(key)}` writes"
    else:
        yield f"on the pages of {host}: the list of peers of `{deeds.SHOW_TUNNEL(key)}`"


def _to_hand(site: Site, key: str) -> Iterator[str]:
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    if tunnel.made_by == "hooper" or tunnel.of.typed_in:
        yield f"on {device_of(peer, key)}: its file, which `{handing(site, key)}` gives it"
    else:
        yield f"on {device_of(peer, key)}: the file that the server's page exports; `{deeds.CHECK_PROFILE}` first"


def _new_file(site: Site, key: str) -> Iterator[str]:
    """What gives a device another file that had one: its old key is forgotten, so that it gets another one too."""
    peer = site.peers[key]
    if site.tunnels[peer.tunnel].made_by == "hooper":
        yield f"on {device_of(peer, key)}: a new file: `{deeds.RENEW_PEER(key)}`, then `{handing(site, key)}`"
    else:
        yield from _to_hand(site, key)


def change_peer(file: SiteFile, key: str, rows: Mapping[str, Value], clear: Iterable[str] = ()) -> Edited:
    """Other values for a peer. Raises: UsageError, CannotEdit."""
    made = change(file, "peers", key, rows, clear)
    if not made.changes:
        return made
    site = again(file, made.text).site
    changed = {one.key for one in made.changes}
    follows = list(_server_anew(site, site.peers[key].tunnel)) if changed - {"person", "device"} else []
    if changed & {"address", "address6", "into"}:
        follows += _new_file(site, key)
    return replace(made, follows=tuple(follows))


def renew_peer(file: SiteFile, key: str, public: str) -> Edited:
    """Another key for a peer: the old one is worth nothing once the server has the new file. Raises: CannotEdit."""
    clear = ("revoked",) if file.site.peers[key].revoked is not None else ()
    made = change(file, "peers", key, {"public_key": public}, clear)
    site = again(file, made.text).site
    follows = (*_server_anew(site, site.peers[key].tunnel), *_to_hand(site, key))
    return replace(made, action="renewed", follows=follows)


def revoke_peer(file: SiteFile, key: str, today: date) -> Edited:
    """A peer from which its way in is taken; what has to be done so that it stays out is told.

    Raises: UsageError: it has nothing that could be taken; CannotEdit.
    """
    site, peer = file.site, file.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    if peer.revoked is not None:
        raise UsageError(
            f"{key} was revoked on {peer.revoked}",
            remedy=f"Once its server lets it in no more, `{deeds.SHUT_OUT(key)}`.",
        )
    if peer.public_key is None and (tunnel.made_by != "device" or tunnel.of.keyed):
        raise UsageError(f"{key} has no key that could be revoked", remedy=f"`{deeds.RENEW_PEER(key)}` gives it one.")
    follows = (*_out(site, key), *_had(site, key))
    clear = ("public_key",) if peer.public_key is not None else ()
    made = change(file, "peers", key, {"revoked": today}, clear)
    return replace(made, action="revoked", follows=follows)


def _out(site: Site, key: str) -> Iterator[str]:
    """What keeps a peer out of its tunnel, and whom that concerns."""
    peer, tunnel = site.peers[key], site.tunnels[site.peers[key].tunnel]
    host = site.services[tunnel.service].host
    if tunnel.made_by == "hooper":
        yield from _server_anew(site, peer.tunnel)
    elif tunnel.of.certified and not tunnel.one_secret:
        yield f"on the pages of {host}: revoke the certificate of {peer.user or key}, and take its user away"
    else:
        yield f"on the pages of {host}: take {peer.user or key} away"
    others = [name for name, one in peers_of(site, peer.tunnel).items() if name != key and one.revoked is None]
    if tunnel.one_secret or tunnel.of.one_secret:
        all_of_them = f": {', '.join(others)}" if others else ""
        yield (
            f"on the pages of {host}: another secret, since {key} knows this one; `{deeds.RENEW_TUNNEL(peer.tunnel)}`"
            f" proposes it, and every other peer gets it{all_of_them}"
        )
    yield f"once that is done: `{deeds.SHUT_OUT(key)}`"


def remove_peer(file: SiteFile, key: str) -> Edited:
    """Without a peer. Raises: CannotEdit."""
    site, peer = file.site, file.site.peers[key]
    text = remove_table(file.text, ("peers", key))
    follows = (
        *_out(site, key),
        f"on {device_of(peer, key)}: the profile, in {site.tunnels[peer.tunnel].of.software}; and where its file was"
        " kept",
        *_had(site, key),
    )
    return Edited(text, "removed", f"peers.{key}", (ChangedKey(f"peers.{key}", "", None),), follows)


def _had(site: Site, key: str) -> Iterator[str]:
    """What else a person's device had, for who has lost it or goes."""
    peer = site.peers[key]
    reached = granted_services(site, key)
    hosts = list(dict.fromkeys(site.services[name].host for name in reached))
    if hosts:
        words = ", ".join(hosts)
        yield f"passwords and keys that {device_of(peer, key)} has kept for {words}: change them there"
    own = {one for tunnel in site.tunnels.values() for one in (tunnel.service, tunnel.also)}
    public = [name for name in reached if site.services[name].reach == "public" and name not in own]
    if public:
        yield f"{', '.join(public)}: reached from the internet without the tunnel too; this takes nothing of that away"
    for name, updater in site.updaters.items():
        if peer.device in ("router", "server") and updater.token is not None:
            yield f"the token of {name} ({updater.token}), if that device had it"
    others = [name for name, other in site.peers.items() if other.person == peer.person and name != key and peer.person]
    still = [name for name in others if site.peers[name].public_key is not None]
    if still:
        yield f"{peer.person} still comes in by {', '.join(still)}: `{deeds.REVOKE(still[0])}` ends that"
