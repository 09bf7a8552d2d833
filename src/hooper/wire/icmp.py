"""ICMP errors: what they mean for a probe, and how Linux tells them (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443)."""

from __future__ import annotations

import struct
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv6Address, ip_address

_EXTENDED = struct.Struct("=IBBBBII")  # struct sock_extended_err, linux/errqueue.h
ORIGIN_ICMP, ORIGIN_ICMP6 = 2, 3  # SO_EE_ORIGIN_*, linux/errqueue.h
# Someone answered and says no: port unreachable, and the administratively prohibited ones.
_REFUSALS = {(4, 3, 3), (4, 3, 9), (4, 3, 10), (4, 3, 13), (6, 1, 1), (6, 1, 4), (6, 1, 5), (6, 1, 6)}
_NAMES = {
    (4, 3, 0): "network unreachable",
    (4, 3, 1): "host unreachable",
    (4, 3, 2): "protocol unreachable",
    (4, 3, 3): "port unreachable",
    (4, 3, 4): "packet too large",
    (4, 3, 9): "network prohibited",
    (4, 3, 10): "host prohibited",
    (4, 3, 13): "prohibited by a filter",
    (4, 11, 0): "too many hops",
    (6, 1, 0): "no route",
    (6, 1, 1): "prohibited by a filter",
    (6, 1, 3): "address unreachable",
    (6, 1, 4): "port unreachable",
    (6, 1, 5): "source address refused",
    (6, 1, 6): "route refused",
    (6, 3, 0): "too many hops",
}


@dataclass(frozen=True, slots=True)
class Icmp:
    """An ICMP error message. version: 4 or 6."""

    type: int
    code: int
    version: int = 4

    @property
    def refuses(self) -> bool:
        """Whether it is a refusal; else it says that nobody is there."""
        return (self.version, self.type, self.code) in _REFUSALS

    @property
    def name(self) -> str:
        return _NAMES.get((self.version, self.type, self.code), f"ICMP type {self.type} code {self.code}")


@dataclass(frozen=True, slots=True)
class SocketError:
    """One entry of a socket's error queue. errno: the system's number. icmp, by: None where no packet came in."""

    errno: int
    icmp: Icmp | None
    by: IPv4Address | IPv6Address | None


def parse_extended_error(data: bytes) -> SocketError | None:
    """Read struct sock_extended_err and the offender's address behind it; None: it is cut short."""
    if len(data) < _EXTENDED.size:
        return None
    number, origin, kind, code, *_ = _EXTENDED.unpack_from(data)
    if origin not in (ORIGIN_ICMP, ORIGIN_ICMP6):
        return SocketError(number, None, None)
    start, length = (20, 4) if origin == ORIGIN_ICMP else (24, 16)  # after family, port and, in IPv6, flow label
    raw = data[start : start + length]
    by = ip_address(raw) if len(raw) == length else None
    return SocketError(number, Icmp(kind, code, 4 if origin == ORIGIN_ICMP else 6), by)
