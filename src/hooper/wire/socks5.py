"""SOCKS version 5 (RFC 1928) with user name and password (RFC 1929): both sides, CONNECT only."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, ip_address

from hooper.addresses import IPAddress
from hooper.errors import WireError

VERSION, LOGIN_VERSION = 5, 1
NO_LOGIN, LOGIN, NO_METHOD = 0, 2, 0xFF  # RFC 1928 section 3
CONNECT = 1
GRANTED, FAILURE, NOT_ALLOWED, NET_UNREACHABLE, HOST_UNREACHABLE, REFUSED, TTL_EXPIRED, BAD_COMMAND, BAD_ADDRESS = (
    range(9)
)
REPLIES = {
    GRANTED: "granted",
    FAILURE: "general failure",
    NOT_ALLOWED: "not allowed by its rules",
    NET_UNREACHABLE: "network unreachable",
    HOST_UNREACHABLE: "host unreachable",
    REFUSED: "connection refused",
    TTL_EXPIRED: "too many hops",
    BAD_COMMAND: "command not supported",
    BAD_ADDRESS: "address type not supported",
}


@dataclass(frozen=True, slots=True)
class SocksReply:
    """The answer to a request. bound: the address that the proxy uses, or names as the one that refused."""

    code: int
    bound: IPAddress | str
    port: int


@dataclass(frozen=True, slots=True)
class Asked:
    """A client's request."""

    command: int
    target: IPAddress | str
    port: int


def serialize_greeting(*, login: bool) -> bytes:
    return bytes([VERSION, 1, LOGIN if login else NO_LOGIN])


def serialize_login(user: str, password: str) -> bytes:
    """RFC 1929 section 2. Raises: ValueError: either is empty or longer than 255 bytes."""
    name, word = user.encode(), password.encode()
    if not (0 < len(name) < 256 and 0 < len(word) < 256):
        raise ValueError("a SOCKS user name and password have 1 to 255 bytes each")
    return bytes([LOGIN_VERSION, len(name)]) + name + bytes([len(word)]) + word


def _address(target: IPAddress | str) -> bytes:
    if isinstance(target, IPv4Address):
        return b"\x01" + target.packed
    if isinstance(target, IPv6Address):
        return b"\x04" + target.packed
    name = target.encode("idna")
    return bytes([3, len(name)]) + name


def serialize_request(target: IPAddress | str, port: int) -> bytes:
    return bytes([VERSION, CONNECT, 0]) + _address(target) + struct.pack("!H", port)


def serialize_reply(code: int, bound: IPAddress, port: int = 0) -> bytes:
    return bytes([VERSION, code, 0]) + _address(bound) + struct.pack("!H", port)


def address_length(kind: int, first: int) -> int:
    """How many bytes follow address type and first byte, the port included. Raises: WireError: no such type."""
    if kind == 1:
        return 3 + 2
    if kind == 4:
        return 15 + 2
    if kind == 3:
        return first + 2
    raise WireError("address type", 3, f"{kind} is none of 1, 3, 4")


def parse_address(kind: int, data: bytes) -> tuple[IPAddress | str, int]:
    """The address and port in the bytes after the address type. A name that is an address is that: browsers send it so.

    Raises: WireError: more or fewer than it takes.
    """
    if len(data) != 1 + address_length(kind, data[0] if data else 0):
        raise WireError("address", 4, f"{len(data)} bytes do not fit the address type {kind}")
    (port,) = struct.unpack("!H", data[-2:])
    if kind == 3:
        name = data[1:-2].decode("ascii", "replace")
        try:
            return ip_address(name.strip("[]")), port
        except ValueError:
            return name, port
    return ip_address(data[:-2]), port
