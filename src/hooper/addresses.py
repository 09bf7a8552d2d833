"""One table of address blocks, and how people and devices write addresses.

The table is our own, since what matters here is what a block means for reaching a host, and Python's own
`is_private` and `is_global` change between releases.
"""

from __future__ import annotations

import re
from functools import lru_cache
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import NamedTuple

IPAddress = IPv4Address | IPv6Address
IPNetwork = IPv4Network | IPv6Network


class AddressClass(NamedTuple):
    """What an address block is for. `reachable`: packets from the internet can arrive at such an address."""

    key: str
    network: IPNetwork
    meaning: str
    source: str
    reachable: bool = False


def _block(key: str, network: str, meaning: str, source: str, *, reachable: bool = False) -> AddressClass:
    return AddressClass(key, ip_network(network), meaning, source, reachable)


TABLE: tuple[AddressClass, ...] = (
    _block("unspecified", "0.0.0.0/32", "no address at all", "RFC 1122 section 3.2.1.3"),
    _block("this-network", "0.0.0.0/8", "an address on this network, only while starting", "RFC 791 section 3.2"),
    _block("private", "10.0.0.0/8", "private, only inside a LAN", "RFC 1918"),
    _block("carrier", "100.64.0.0/10", "shared by a provider among its customers", "RFC 6598"),
    _block("loopback", "127.0.0.0/8", "this computer itself", "RFC 1122 section 3.2.1.3"),
    _block("link-local", "169.254.0.0/16", "made up by a device that got no address", "RFC 3927"),
    _block("private", "172.16.0.0/12", "private, only inside a LAN", "RFC 1918"),
    _block("dual-stack-lite", "192.0.0.0/29", "the inside of a DS-Lite line, shared by a provider", "RFC 6333"),
    _block("protocol", "192.0.0.0/24", "kept for protocols", "RFC 6890"),
    _block("documentation", "192.0.2.0/24", "kept for examples", "RFC 5737", reachable=True),
    _block("private", "192.168.0.0/16", "private, only inside a LAN", "RFC 1918"),
    _block("benchmark", "198.18.0.0/15", "kept for measuring devices", "RFC 2544"),
    _block("documentation", "198.51.100.0/24", "kept for examples", "RFC 5737", reachable=True),
    _block("documentation", "203.0.113.0/24", "kept for examples", "RFC 5737", reachable=True),
    _block("multicast", "224.0.0.0/4", "a group, not a host", "RFC 5771"),
    _block("broadcast", "255.255.255.255/32", "everyone on this LAN", "RFC 919"),
    _block("reserved", "240.0.0.0/4", "not in use", "RFC 1112"),
    _block("unspecified", "::/128", "no address at all", "RFC 4291 section 2.5.2"),
    _block("loopback", "::1/128", "this computer itself", "RFC 4291 section 2.5.3"),
    _block("ipv4-mapped", "::ffff:0:0/96", "an IPv4 address inside a program", "RFC 4291 section 2.5.5.2"),
    _block("nat64", "64:ff9b::/96", "an IPv4 address behind a translator", "RFC 6052"),
    _block("documentation", "2001:db8::/32", "kept for examples", "RFC 3849", reachable=True),
    _block("documentation", "3fff::/20", "kept for examples", "RFC 9637", reachable=True),
    _block("private", "fc00::/7", "private, only inside a site", "RFC 4193"),
    _block("link-local", "fe80::/10", "only on one cable or Wi-Fi", "RFC 4291 section 2.5.6"),
    _block("multicast", "ff00::/8", "a group, not a host", "RFC 4291 section 2.7"),
)
_PUBLIC4 = _block("public", "0.0.0.0/0", "public", "", reachable=True)
_PUBLIC6 = _block("public", "2000::/3", "public", "RFC 4291 section 2.4", reachable=True)
_OTHER6 = _block("reserved", "::/0", "not in use", "RFC 4291 section 2.4")


@lru_cache(maxsize=4096)
def classify(address: IPAddress) -> AddressClass:
    """The class of `address`: the narrowest block of the table that holds it, else public (or, for IPv6, reserved)."""
    fitting = [row for row in TABLE if address.version == row.network.version and address in row.network]
    if fitting:
        return max(fitting, key=lambda row: row.network.prefixlen)
    if address.version == 4:
        return _PUBLIC4
    return _PUBLIC6 if address in _PUBLIC6.network else _OTHER6


_DOTTED = re.compile(r"[0-9]+(?:\.[0-9]+){3}")
_PADDED = re.compile(r"(?:^|\.)0[0-9]")


def has_leading_zeros(text: str) -> bool:
    """Whether `text` starts with an IPv4 address that pads its numbers, as 010.044.007.022 does."""
    dotted = _DOTTED.match(text)
    return dotted is not None and _PADDED.search(dotted[0]) is not None


def plain_digits(text: str) -> str:
    """`text` with the padding of an IPv4 address taken away: decimal, never octal, as the devices that pad mean it.

    010.044.007.022 becomes 10.44.7.22. A text that holds no dotted quad at its start comes back unchanged.
    """
    dotted = _DOTTED.match(text)
    if dotted is None:
        return text
    return ".".join(str(int(part)) if len(part) <= 4 else part for part in dotted[0].split(".")) + text[dotted.end() :]


def parse_address(text: str) -> IPAddress:
    """Read an address as people and devices write it. Raises: ValueError: it is none."""
    return ip_address(plain_digits(text.strip()))


def parse_network(text: str) -> IPNetwork:
    """Read a prefix, or an address for just that host. Raises: ValueError: it is none, or host bits are set."""
    return ip_network(plain_digits(text.strip()))
