"""IPv4 addresses inside IPv6 ones, as a NAT64 translates them (RFC 6052), and finding its prefix (RFC 7050). Pure."""

from __future__ import annotations

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv6Address, IPv6Network

LENGTHS = (96, 64, 56, 48, 40, 32)  # RFC 6052 section 2.2, the usual one first
U = 8  # the octet that must be zero (bits 64 to 71)
ASKED_FOR = "ipv4only.arpa"  # RFC 7050 section 8.2: it has these two addresses, and no IPv6 one of its own
KNOWN = (IPv4Address("192.0.0.170"), IPv4Address("192.0.0.171"))


def _places(length: int) -> list[int]:
    """Where the four octets of the IPv4 address stand (RFC 6052 section 2.2). length: of the prefix, in bits."""
    places: list[int] = []
    at = length // 8
    while len(places) < 4:
        if at != U:
            places.append(at)
        at += 1
    return places


def embedded(prefix: IPv6Network, address: IPv4Address) -> IPv6Address:
    """The IPv6 address by which a NAT64 leads to an IPv4 one. Raises: ValueError: no length that a prefix may have."""
    if prefix.prefixlen not in LENGTHS:
        raise ValueError(f"a NAT64 prefix has one of the lengths {', '.join(map(str, sorted(LENGTHS)))}")
    octets = bytearray(prefix.network_address.packed)
    for place, octet in zip(_places(prefix.prefixlen), address.packed, strict=True):
        octets[place] = octet
    return IPv6Address(bytes(octets))


def extracted(prefix: IPv6Network, address: IPv6Address) -> IPv4Address | None:
    """The IPv4 address inside; None: it is none of this prefix. Raises: ValueError: as `embedded`."""
    if address not in prefix:
        return None
    found = IPv4Address(bytes(address.packed[place] for place in _places(prefix.prefixlen)))
    return found if embedded(prefix, found) == address else None


def prefix_in(answers: Iterable[IPv6Address]) -> IPv6Network | None:
    """The prefix that made these addresses of ASKED_FOR (RFC 7050 section 3); None: none did.

    The well-known addresses must be found at one place only, else nobody knows which of them the prefix ends before.
    """
    for address in answers:
        fitting = [
            network
            for length in LENGTHS
            if extracted(network := IPv6Network((address, length), strict=False), address) in KNOWN
        ]
        if len(fitting) == 1:
            return fitting[0]
    return None
