"""What the files of all kinds of tunnels have in common."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from ipaddress import IPv6Network
from typing import TYPE_CHECKING, ClassVar

from hooper import deeds
from hooper.errors import NeedsAPerson
from hooper.planning.access import peers_of
from hooper.planning.typed import Typed, typed

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer


NO_IPV6 = IPv6Network("fd00:6e6f:7069:7076::/64")  # "nopipv": an end for IPv6 that goes nowhere


class KeyMissing(NeedsAPerson):
    """A private key is wanted that is not kept here any more, or never was."""

    code = "key-missing"


class NoEndpoint(NeedsAPerson):
    """Neither a name nor an address is known that a peer could find its server by."""

    code = "no-endpoint"
    remedy = f"Add a [names.*] for the line, or give its address: `{deeds.SURVEY}` measures it."


@dataclass(frozen=True)
class Profile:
    """What a peer's file says. endpoint: as host:port. public_key: the peer's own. allowed: what goes into the tunnel.

    server: what the server is known by. mark: tells whether a file that was handed still is so. ending: of its file.
    addresses, dns: of the peer, where its file says them.
    """

    peer: str
    tunnel: str
    endpoint: str
    public_key: str
    server: str
    allowed: tuple[str, ...]

    ending: ClassVar[str] = ".conf"
    addresses: tuple[str, ...] = field(default=(), kw_only=True)
    dns: tuple[str, ...] = field(default=(), kw_only=True)

    @property
    def mark(self) -> str:
        return mark_of(repr(self))


@dataclass(frozen=True)
class ServerFiles:
    """The files of a server, by name, and the mark of what they say. secret: the names of those that hold keys.

    folder: of those for single peers; empty: there is none.
    """

    files: Mapping[str, str] = field(repr=False)
    secret: frozenset[str]
    mark: str
    folders: tuple[str, ...] = ()


def mark_of(text: str) -> str:
    """A short mark of a text: another text has another one."""
    return hashlib.sha256(text.encode()).hexdigest()[:16]


def at(where: Typed) -> str:
    """An endpoint as the files have it."""
    return f"[{where.host}]:{where.port}" if ":" in where.host else f"{where.host}:{where.port}"


def found_at(topology: Topology, key: str, service: str, public: Mapping[str, IPAddress] | None) -> Typed:
    """Where a peer finds a service of its server. key: of the peer. Raises: NoEndpoint."""
    where = typed(topology, service, public)
    if where is None:
        raise NoEndpoint(f"nobody can tell {key} where {service} is: its line has no name and no known address")
    return where


def keys_of(site: Site, key: str) -> tuple[str, str]:
    """The public keys of a peer's server, and its own. Raises: KeyMissing."""
    peer = site.peers[key]
    server = site.tunnels[peer.tunnel].public_key
    if peer.public_key is None:
        raise KeyMissing(f"{key} has no key yet", remedy=f"`{deeds.RENEW_PEER(key)}` makes it.")
    if server is None:
        raise KeyMissing(f"{peer.tunnel} has no key yet", remedy="Give its `public_key`, as its own page shows it.")
    return server, peer.public_key


def let_in(site: Site, key: str, today: date) -> dict[str, Peer]:
    """The peers that the server knows: those that have a key, and whose time is not over."""
    return {
        name: peer
        for name, peer in peers_of(site, key).items()
        if peer.public_key is not None and peer.revoked is None and (peer.until is None or peer.until >= today)
    }


def title_of(site: Site) -> str:
    """What the site is called in files; a title is somebody's text, and stands in a comment."""
    from hooper.visible import shown

    return shown(site.site.title or "this site")


def user_of(peer: Peer, key: str) -> str:
    """Whom a peer logs in as on the device."""
    return peer.user or key
