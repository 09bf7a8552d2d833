"""Devices on this network that have an address of another one: which they are, and how a person reaches them. Pure."""

from __future__ import annotations

from ipaddress import IPv4Address, IPv4Network
from typing import TYPE_CHECKING

from hooper.words.said import Said, say

if TYPE_CHECKING:
    from collections.abc import Iterable

    from hooper.addresses import IPAddress, IPNetwork

SELF_MADE = IPv4Network("169.254.0.0/16")  # RFC 3927: nobody has given it one


def is_foreign(address: IPAddress, networks: Iterable[IPNetwork]) -> bool:
    """Whether it is an IPv4 address that is in none of this computer's networks."""
    odd = address.is_multicast or address.is_unspecified or address.is_loopback or address.is_reserved
    return isinstance(address, IPv4Address) and not odd and not any(address in network for network in networks)


def steps_to_reach(address: IPv4Address, interface: str, system: str) -> tuple[Said, ...]:
    """How a person reaches it for its first setting. system: as sys.platform has it.

    This computer gets a second address in the network that the device seems to be in (of 24 bits, as factories set
    it), and loses it afterwards.
    """
    network = SELF_MADE if address in SELF_MADE else IPv4Network((address, 24), strict=False)
    own = next(one for one in (network[-6], network[-7]) if one != address)
    name = system if system in ("darwin", "win32") else "linux"
    how = {"own": str(own), "length": network.prefixlen, "mask": str(network.netmask), "interface": interface}
    wanted = {"linux": ("own", "length", "interface"), "darwin": ("own", "mask", "interface"),
              "win32": ("own", "mask", "interface")}[name]  # fmt: skip
    return (
        say(f"foreign.add.{name}", **{key: how[key] for key in wanted}),
        say("foreign.open", address=str(address)),
        say(f"foreign.take.{name}", **{key: how[key] for key in wanted if name == "linux" or key != "mask"}),
    )
