"""What macOS says of its networks: the output of `netstat -rn`, `scutil --dns`, `arp -an` and `ndp -an`, read."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv4Network, IPv6Network, ip_address

from hooper.addresses import IPAddress, IPNetwork
from hooper.net.types import Neighbour, Route

COMMANDS = {
    "routes4": ("/usr/sbin/netstat", "-rn", "-f", "inet"),
    "routes6": ("/usr/sbin/netstat", "-rn", "-f", "inet6"),
    "resolvers": ("/usr/sbin/scutil", "--dns"),
    "neighbours4": ("/usr/sbin/arp", "-an"),
    "neighbours6": ("/usr/sbin/ndp", "-an"),
}
TUNNELS = re.compile(r"(utun|ipsec|gif|stf|ppp|tun|wg)\d+$")
SCOPED = 1000  # added to the metric of a route that only counts for what is bound to its interface
_MAC = r"[0-9a-fA-F]{1,2}(?::[0-9a-fA-F]{1,2}){5}"


def parse_routes(text: str) -> Iterator[Route]:
    """Read `netstat -rn -f inet` or `inet6`. There are no metrics; the order stands for them."""
    for order, line in enumerate(text.splitlines()):
        fields = line.split()
        if len(fields) < 4 or "U" not in fields[2] or not fields[2].isalpha():
            continue
        version = 6 if ":" in fields[0] or (":" in fields[1] and not re.fullmatch(_MAC, fields[1])) else 4
        network = _network(fields[0], version)
        if network is None or ("H" in fields[2] and "L" in fields[2]):  # a neighbour, not a route
            continue
        gateway: IPAddress | None = None
        with suppress(ValueError):
            gateway = ip_address(fields[1].partition("%")[0])
        yield Route(network, gateway, fields[3], order + (SCOPED if "I" in fields[2] else 0))


def _network(text: str, version: int) -> IPNetwork | None:
    """A destination as it is written: default, 0/1, 169.254, 192.168.1, 224.0.0/4, 10.44.7.1, fe80::%en0/64."""
    if text == "default":
        return IPv6Network("::/0") if version == 6 else IPv4Network("0.0.0.0/0")
    address, _, length = re.sub(r"%[^/]*", "", text).partition("/")
    try:
        if ":" in address:
            return IPv6Network(f"{address}/{length or 128}")
        parts = address.split(".")
        return IPv4Network(f"{'.'.join([*parts, '0', '0', '0'][:4])}/{length or 8 * len(parts)}", strict=False)
    except ValueError:
        return None


def parse_resolvers(text: str) -> list[IPAddress]:
    """Read `scutil --dns`: the servers for every name, without those for one domain or one interface only."""
    found: list[IPAddress] = []
    for block in re.split(r"\n(?=resolver #)", text.partition("DNS configuration (for scoped queries)")[0]):
        if re.search(r"^\s*domain\s*:", block, re.M):
            continue
        for written in re.findall(r"nameserver\[\d+\]\s*:\s*(\S+)", block):
            with suppress(ValueError):
                found.append(ip_address(written.partition("%")[0]))
    return list(dict.fromkeys(found))


def parse_neighbours(text: str) -> Iterator[Neighbour]:
    """Read `arp -an` or `ndp -an`; entries that were never answered are left out."""
    four = re.compile(rf"\(([0-9.]+)\) at ({_MAC}) on (\S+)")
    six = re.compile(rf"([0-9a-fA-F:]+)(?:%\S+)?\s+({_MAC})\s+(\S+)")
    for line in text.splitlines():
        if (match := four.search(line) or six.match(line)) is None:
            continue
        mac = ":".join(part.zfill(2) for part in match[2].lower().split(":"))
        with suppress(ValueError):
            address = ip_address(match[1])
            if not address.is_multicast:
                yield Neighbour(address, mac, match[3])
