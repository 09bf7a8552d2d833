"""What Linux tells of its networks by rtnetlink (RFC 3549; linux/netlink.h, rtnetlink.h, neighbour.h, if_link.h)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_address
from typing import Literal

from hooper.addresses import IPAddress
from hooper.errors import WireError

Kind = Literal["link", "address", "route"]
GROUPS = 0x1 | 0x10 | 0x40 | 0x100 | 0x400  # RTMGRP_LINK, IPV4_IFADDR, IPV4_ROUTE, IPV6_IFADDR, IPV6_ROUTE
GET_LINKS, GET_NEIGHBOURS = 18, 30  # RTM_GETLINK, RTM_GETNEIGH
_ERROR, _DONE, _NEW_LINK, _NEW_NEIGHBOUR = 2, 3, 16, 28
_REQUEST_DUMP = 0x0001 | 0x0300  # NLM_F_REQUEST, NLM_F_DUMP
_HEADER, _ATTRIBUTE = struct.Struct("=IHHII"), struct.Struct("=HH")
_NEIGHBOUR, _LINK = struct.Struct("=BBHiHBB"), struct.Struct("=BBHiII")  # ndmsg, ifinfomsg
_KNOWN = 0x02 | 0x04 | 0x08 | 0x10 | 0x80  # NUD_REACHABLE, STALE, DELAY, PROBE, PERMANENT
_PERMANENT, _TICKS = 0x80, 100  # NUD_PERMANENT; USER_HZ
_DST, _LLADDR, _CACHEINFO = 1, 2, 3  # NDA_*
_LINKINFO, _INFO_KIND, _NESTED = 18, 1, 0x3FFF  # IFLA_LINKINFO, IFLA_INFO_KIND, NLA_TYPE_MASK
# linux/if_arp.h: kinds of link that are tunnels by themselves; tun and WireGuard have ARPHRD_NONE, as modems do
_TUNNELS, _NONE = {768, 769, 776, 778, 823}, 65534
_TUNNEL_KINDS = {b"tun", b"wireguard", b"xfrm", b"vti", b"vti6"}
_CHANGES: dict[int, Kind] = {
    **dict.fromkeys((16, 17), "link"),
    **dict.fromkeys((20, 21), "address"),
    **dict.fromkeys((24, 25), "route"),
}


@dataclass(frozen=True, slots=True)
class Link:
    """An interface by its number. tunnel: what goes in there comes out elsewhere, wrapped."""

    index: int
    tunnel: bool


@dataclass(frozen=True, slots=True)
class NeighbourMessage:
    """A device on a network of this computer, as far as it has answered.

    index: of the interface. silent_s: seconds since it was confirmed (nda_cacheinfo, in ticks of a hundredth of a
    second); None: it is not told, or set by hand for good.
    """

    index: int
    address: IPAddress
    mac: str
    silent_s: float | None = None


@dataclass(frozen=True, slots=True)
class Messages:
    """What one datagram held. done: a dump ends here. failed: the system's error number, negative; 0: none."""

    links: tuple[Link, ...] = ()
    neighbours: tuple[NeighbourMessage, ...] = ()
    changes: tuple[Kind, ...] = ()
    done: bool = False
    failed: int = 0


def serialize_dump(kind: int, family: int = 0) -> bytes:
    """The request for a whole table: GET_LINKS or GET_NEIGHBOURS. family: AF_*, 0 for all."""
    body = struct.pack("=B15x" if kind == GET_LINKS else "=B11x", family)
    return _HEADER.pack(_HEADER.size + len(body), kind, _REQUEST_DUMP, 1, 0) + body


def parse(data: bytes) -> Messages:
    """Read one datagram from the kernel. Raises: WireError."""
    links: list[Link] = []
    neighbours: list[NeighbourMessage] = []
    changes: list[Kind] = []
    done, failed = False, 0
    for kind, body in _messages(data):
        if kind == _DONE:
            done = True
        elif kind == _ERROR:
            if len(body) < 4:
                raise WireError("error", 0, "cut short")
            (failed,) = struct.unpack_from("=i", body)
        elif kind == _NEW_NEIGHBOUR:
            neighbours += _neighbour(body)
        elif kind == _NEW_LINK:
            links.append(_link(body))
        if kind in _CHANGES:
            changes.append(_CHANGES[kind])
    return Messages(tuple(links), tuple(neighbours), tuple(changes), done, failed)


def _messages(data: bytes) -> Iterator[tuple[int, bytes]]:
    at = 0
    while at + _HEADER.size <= len(data):
        length, kind, *_ = _HEADER.unpack_from(data, at)
        if not _HEADER.size <= length <= len(data) - at:
            raise WireError("message length", at, f"{length} bytes, where {len(data) - at} are left")
        yield kind, data[at + _HEADER.size : at + length]
        at += length + -length % 4


def _attributes(data: bytes) -> dict[int, bytes]:
    out: dict[int, bytes] = {}
    at = 0
    while at + _ATTRIBUTE.size <= len(data):
        length, name = _ATTRIBUTE.unpack_from(data, at)
        if not _ATTRIBUTE.size <= length <= len(data) - at:
            raise WireError("attribute length", at, f"{length} bytes, where {len(data) - at} are left")
        out.setdefault(name & _NESTED, data[at + _ATTRIBUTE.size : at + length])
        at += length + -length % 4
    return out


def _neighbour(body: bytes) -> Iterator[NeighbourMessage]:
    if len(body) < _NEIGHBOUR.size:
        raise WireError("neighbour", 0, "cut short")
    _, _, _, index, state, *_ = _NEIGHBOUR.unpack_from(body)
    found = _attributes(body[_NEIGHBOUR.size :])
    raw, mac = found.get(_DST, b""), found.get(_LLADDR, b"")
    if state & _KNOWN and len(raw) in (4, 16) and len(mac) == 6 and any(mac):
        told = found.get(_CACHEINFO, b"")
        silent = struct.unpack_from("=I", told)[0] / _TICKS if len(told) >= 4 and not state & _PERMANENT else None
        yield NeighbourMessage(index, ip_address(raw), mac.hex(":"), silent)


def _link(body: bytes) -> Link:
    if len(body) < _LINK.size:
        raise WireError("link", 0, "cut short")
    _, _, kind, index, *_ = _LINK.unpack_from(body)
    info = _attributes(_attributes(body[_LINK.size :]).get(_LINKINFO, b""))
    name = info.get(_INFO_KIND, b"").rstrip(b"\0")
    return Link(index, kind in _TUNNELS or (kind == _NONE and name in _TUNNEL_KINDS))
