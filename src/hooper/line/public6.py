"""The IPv6 address by which a host is reached: the prefix that the line has now, and the host's own part."""

from __future__ import annotations

from ipaddress import IPv6Address, IPv6Interface

from hooper.addresses import classify
from hooper.net.types import Door, Interface
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.planning.paths import gateway_of
from hooper.site.model import Site
from hooper.sourced import Sourced, SourcedAddress
from hooper.words.said import Said, say, together

LAN_LENGTH = 64  # RFC 4291 section 2.5.1: the rest is a host's own part


async def public6(here: Door, site: Site, line: str, host: str | None) -> SourcedAddress:
    """The address of a host, or of this computer where `host` is None; without a value, why there is none.

    Raises: NoNetwork.
    """
    around = await connected_surroundings(here)
    place = standing(site, around)
    interface = around.interface(place.interface) if place.interface is not None else None
    if place.gateway is None or interface is None:
        return Sourced(None, say("this-machine-is-not-on"))
    own = steady(interface)
    if own is None:
        return Sourced(None, _why_none(interface))
    source = say("of-this-machine", name=interface.name)
    if host is None:
        return Sourced(own.ip, source)
    written = site.hosts[host].address6
    if written is None:
        return Sourced(None, say("has-no-address6-in", host=host))
    length = LAN_LENGTH
    if gateway_of(site, site.hosts[host]) != place.gateway:
        prefix = site.lines[line].prefix6
        if prefix is None:
            return Sourced(None, say("is-on-another-network-and", host=host, line=line))
        length = (prefix.network if isinstance(prefix, IPv6Interface) else prefix).prefixlen
    return Sourced(joined(own.ip, written, length), say("the-prefix-at-and", source=source, host=host))


def joined(prefix: IPv6Address, own: IPv6Address, length: int) -> IPv6Address:
    """The first `length` bits of `prefix` and the rest of `own`."""
    rest = (1 << (128 - length)) - 1
    return IPv6Address((int(prefix) & ~rest) | (int(own) & rest))


def steady(interface: Interface) -> IPv6Interface | None:
    """The address of an interface that is public and stays: no temporary one (RFC 8981), no deprecated one."""
    found = [
        one
        for one in interface.addresses
        if isinstance(one, IPv6Interface) and classify(one.ip).reachable and one.ip not in interface.passing
    ]
    made_of_mac = [one for one in found if int(one.ip) >> 24 & 0xFFFF == 0xFFFE]  # RFC 4291 appendix A: never temporary
    return next(iter(made_of_mac or found), None)


def _why_none(interface: Interface) -> Said:
    six = [one.ip for one in interface.addresses if isinstance(one, IPv6Interface) and not one.ip.is_link_local]
    if not six:
        return say("of-this-machine-has", name=interface.name)
    reasons = (
        say("it-is-temporary")
        if one in interface.passing
        else say("it-is", meaning=classify(one).meaning, source=classify(one).source)
        for one in six
    )
    return together(
        say("at-leads-nobody-here", one=one, name=interface.name, why=why)
        for one, why in zip(six, reasons, strict=True)
    )
