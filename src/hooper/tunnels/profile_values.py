"""The values of a tunnel's file against the plan: where it leads, what goes into it, what leaks past it. Pure."""

from __future__ import annotations

from contextlib import suppress
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from hooper.addresses import classify, parse_address
from hooper.planning.access import (
    KEEPALIVE_S,
    LEAST_MTU,
    allowed_in,
    grants_in,
    into_for,
    mtu_of,
    peer_addresses,
    server_addresses,
)
from hooper.planning.free_addresses import is_common
from hooper.planning.typed import typed
from hooper.tunnels.common import at
from hooper.tunnels.endpoint_look import endpoint_fault
from hooper.tunnels.look import Flaw, Look, key_of, line_of, network_of, networks_in
from hooper.wire.wgfile import Section

if TYPE_CHECKING:
    from hooper.addresses import IPAddress, IPNetwork
    from hooper.site.tunnel_tables import Peer

# --- a device's file


def interface(look: Look) -> None:
    """A device's own section."""
    section = look.interface
    assert section is not None
    if look.tunnel is None:
        return
    given = look.addresses()
    own = [str(one) for one in peer_addresses(look.peer)] if look.peer is not None else []
    if not section.items("Address"):
        if own:
            message = "it has no address in the tunnel"
            look.put("profile-incomplete", section, "Address", _hosts(look.peer), message)
        else:
            look.tell("profile-incomplete", section.line, "it has no address in the tunnel", "Add it.")
    elif own and look.peer is not None and (look.peer.address not in given or _beyond(look, section)):
        shown = ", ".join(section.items("Address"))
        message = f"its address is {shown}, and the site file has {look.peer.address} for {look.peer_key}"
        look.put("address-of-others", section, "Address", _hosts(look.peer), message)
    elif any(one in server_addresses(look.tunnel) for one in given):
        look.tell("address-of-others", line_of(section, "Address"), "its address is the server's", "Give it its own.")
    elif beyond := _beyond(look, section):
        networks = ", ".join(map(str, look.tunnel.subnets))
        message = f"its address {beyond[0]} is not of the tunnel's network ({networks})"
        look.tell("address-of-others", line_of(section, "Address"), message, "Give it one of that network.")
    _meets(look, section)
    mtu, best = section.get("MTU"), mtu_of(look.topology, look.tunnel)
    if mtu is not None and mtu.value.isdigit() and not LEAST_MTU <= int(mtu.value) <= best:
        carries = f"the line carries {best} inside the tunnel, and IPv6 needs {LEAST_MTU}"
        look.put("mtu-wrong", section, "MTU", str(best), f"its MTU is {mtu.value}: {carries}")
    elif mtu is None and best < 1420:
        message = f"it says no MTU, and its software takes 1420: the line carries {best} inside the tunnel"
        look.put("mtu-wrong", section, "MTU", str(best), message)


def _beyond(look: Look, section: Section) -> list[str]:
    """Its own addresses with networks that reach out of the tunnel's: what is there would go into the tunnel."""
    assert look.tunnel is not None
    subnets = look.tunnel.subnets
    networks = ((text, network_of(text)) for text in section.items("Address"))
    return [text for text, net in networks if net is not None and not any(_covers(one, net) for one in subnets)]


def _meets(look: Look, section: Section) -> None:
    """The network that a device thinks it is in, once the tunnel is on, against those on the way."""
    for text in section.items("Address"):
        network = network_of(text)
        if not isinstance(network, IPv4Network) or network.prefixlen > 30:
            continue
        lan = next((key for key, one in look.site.gateways.items() if one.lan.network.overlaps(network)), None)
        if lan is not None or is_common(network):
            whose = f"the LAN of {lan}" if lan is not None else "what hotels and routers out of the box use"
            message = f"the tunnel's network {network} is {whose} too: one hides the other"
            look.tell("profile-overlap", line_of(section, "Address"), message, "Give the tunnel a rarer network.")


def _hosts(peer: Peer | None) -> str:
    return ", ".join(f"{one}/{one.max_prefixlen}" for one in peer_addresses(peer)) if peer is not None else ""


def peer_section(look: Look, section: Section) -> None:
    """The section of the server in a device's file."""
    right = look.tunnel.public_key if look.tunnel is not None else None
    key = section.get("PublicKey")
    if right and key is not None and key_of(key.value) is not None and key.value not in (right, look.own):
        message = f"the server of {look.tunnel_key} has another key than {key.value}"
        look.put("key-other-server", section, "PublicKey", right, message)
    _endpoint(look, section)
    _allowed(look, section)
    alive = section.get("PersistentKeepalive")
    device = look.peer.device if look.peer is not None else "phone"
    if device != "server" and (alive is None or alive.value.lower() in ("0", "off")):
        message = "nothing keeps the way through the router before the device open"
        look.put("keepalive-missing", section, "PersistentKeepalive", str(KEEPALIVE_S), message)
    elif alive is not None and alive.value.isdigit() and int(alive.value) > 120:
        message = f"it says something every {alive.value} s: routers close a silent way after 30 s to 5 min"
        look.put("keepalive-missing", section, "PersistentKeepalive", str(KEEPALIVE_S), message)


def _endpoint(look: Look, section: Section) -> None:
    right = typed(look.topology, look.tunnel.service, look.public) if look.tunnel is not None else None
    entry = section.get("Endpoint")

    def wrong(code: str, message: str) -> None:
        if right is not None:
            look.put(code, section, "Endpoint", at(right), message)
        else:
            look.tell(code, line_of(section, "Endpoint"), message, "Put the name of the line, and the outside port.")

    if entry is None:
        wrong("endpoint-missing", "it does not say where the server is")
        return
    host, sign, port = entry.value.rpartition(":")
    if not sign or not port.isdigit() or not 1 <= int(port) <= 65535:
        host, port = (entry.value if not sign else host), ""
    host = host.strip("[]")
    code, message = endpoint_fault(look, host)
    if code:
        wrong(code, message)
    elif not port:
        wrong("endpoint-port", f"the endpoint {entry.value!r} has no port")
    elif right is not None and int(port) != right.port:
        assert look.tunnel is not None
        service = look.site.services[look.tunnel.service]
        inner = service.has_ports and service.used_ports.first == int(port)
        what = f"{port} is the inside port" if inner else f"the plan lets in {right.port}, not {port}"
        new = f"[{host}]:{right.port}" if ":" in host else f"{host}:{right.port}"
        look.put("endpoint-port", section, "Endpoint", new, f"{what}; outside it is {right.port}")


def _allowed(look: Look, section: Section) -> None:
    """What goes into the tunnel against what is to be reached."""
    given = networks_in(section)
    for network in given:
        if network.version == 4 and network.prefixlen >= 8 and is_common(network):
            look.tell(
                "profile-overlap",
                line_of(section, "AllowedIPs"),
                f"{network} is what hotels and routers out of the box use: from such a place it leads nowhere",
                "Give the LAN a rarer network while that is easy.",
            )
    if look.tunnel is None:
        if not given:
            look.tell("allowed-nothing", section.line, "nothing goes into the tunnel", "Add the networks to reach.")
        return
    into = into_for(look.site, look.peer) if look.peer is not None else look.tunnel.into
    wanted = [grant.network for grant in grants_in(look.site, look.tunnel, into)]
    value = ", ".join(map(str, allowed_in(look.site, look.tunnel, into)))
    missing = [str(net) for net in wanted if net.version == 4 and not any(_covers(one, net) for one in given)]
    own = [one for one in given if one.prefixlen == one.max_prefixlen and one[0] in look.addresses()]
    if missing:
        words = ", ".join(dict.fromkeys(missing))
        only = " (only its own address does)" if own and len(own) == len(given) else ""
        look.put("allowed-nothing", section, "AllowedIPs", value, f"{words} does not go into the tunnel{only}")
        return
    right = (*allowed_in(look.site, look.tunnel, into), *look.tunnel.subnets)
    wide = [net for net in given if not any(_covers(one, net) for one in right)]
    if wide:
        what = "everything" if any(net.prefixlen == 0 for net in wide) else ", ".join(map(str, wide))
        message = f"{what} goes into the tunnel, which leads to {', '.join(into)} alone"
        look.put("allowed-too-much", section, "AllowedIPs", value, message)


def _covers(wide: IPNetwork, narrow: IPNetwork) -> bool:
    return wide.version == narrow.version and narrow.subnet_of(wide)  # type: ignore[arg-type]


def leaks(look: Look, section: Section) -> None:
    """What goes past a tunnel that is to take everything."""
    given = networks_in(section)
    into = into_for(look.site, look.peer) if look.peer is not None else look.tunnel.into if look.tunnel else ()
    four, six = (any(net.version == version and net.prefixlen == 0 for net in given) for version in (4, 6))
    if not four or (look.tunnel is not None and into != ("everything",)):
        return
    entry = section.every("AllowedIPs")[-1]
    if not six:
        edits = ((entry.end, entry.end, ", ::/0"),)
        message = "all of IPv4 goes into the tunnel, and IPv6 past it"
        fault = Flaw("leaks-ipv6", entry.line, message, "Add ::/0 to AllowedIPs.", "::/0 is added", edits)
        look.faults.append(fault)
    assert look.interface is not None
    if not look.interface.items("DNS"):
        message = "it names no DNS server, so names are asked wherever the device is"
        servers = look.tunnel.dns if look.tunnel is not None else ()
        if servers:
            look.put("leaks-dns", look.interface, "DNS", ", ".join(map(str, servers)), message)
        else:
            look.tell("leaks-dns", look.interface.line, message, "Add a DNS server that answers behind the tunnel.")


def names_asked(look: Look, section: Section) -> None:
    """DNS servers of the inside that what goes into the tunnel does not reach: no name could be looked up."""
    assert look.interface is not None
    given = networks_in(section)
    entry = look.interface.get("DNS")
    if entry is None or not given or any(fault.code == "allowed-nothing" for fault in look.faults):
        return  # the last: once that is mended, it is looked at again

    def reached(address: IPAddress) -> bool:
        return any(address.version == net.version and address in net for net in given) or classify(address).reachable

    lost = []
    for text in look.interface.items("DNS"):
        with suppress(ValueError):  # a search domain
            if not reached(parse_address(text)):
                lost.append(text)
    if not lost:
        return
    message = f"its DNS server {lost[0]} does not go into the tunnel: it could look up no name"
    better = [str(one) for one in look.tunnel.dns if reached(one)] if look.tunnel is not None else []
    right = [text for text in look.interface.items("DNS") if text not in lost] or better
    if right:
        look.put("dns-outside", look.interface, "DNS", ", ".join(right), message)
    else:
        look.drop("dns-outside", entry, message, "the line DNS is left out")


def further(look: Look, section: Section) -> None:
    """Sections of other servers in a file of this tunnel. section: of its own server."""
    for one in look.file.peers:
        if one is not section and look.tunnel is not None:
            networks = ", ".join(one.items("AllowedIPs")) or "nothing"
            message = f"it has a second server, which is not of {look.tunnel_key}: {networks[:60]} goes there"
            look.drop("profile-unexpected", one, message, f"the section of line {one.line} is left out")


# --- a server's file


def server(look: Look) -> None:
    """All peers of a server's file."""
    seen: dict[IPNetwork, str] = {}
    for section in look.file.peers:
        key = section.get("PublicKey")
        name = _whose(look, key.value if key is not None else "")
        known = look.site.peers.get(name)
        _let_in(look, section, name or f"the peer of line {section.line}", known, seen)
    if look.tunnel is not None:
        there = {entry.value for section in look.file.peers if (entry := section.get("PublicKey")) is not None}
        for name, peer in look.site.peers.items():
            if peer.tunnel == look.tunnel_key and peer.public_key and peer.public_key not in there:
                look.tell("key-unknown", 0, f"the server does not know {name}", f"Enter its key {peer.public_key}.")


def _let_in(look: Look, section: Section, name: str, known: Peer | None, seen: dict[IPNetwork, str]) -> None:
    """The addresses with which a server lets one peer in. seen: those of the peers before it."""
    networks = networks_in(section)
    line = line_of(section, "AllowedIPs")
    wide = next((one for one in networks if one.version == 4 and one.prefixlen < one.max_prefixlen), None)
    if wide is not None and (known is None or known.device != "router"):
        message = f"{name} is given all of {wide}: what is for others goes to it"
        if known is not None:
            look.put("allowed-takes-others", section, "AllowedIPs", _hosts(known), message)
        else:
            look.tell("allowed-takes-others", line, message, "Give it its own address alone, as /32.")
        return
    for network in networks:
        other = seen.setdefault(network, name)
        if other != name:
            look.tell("profile-twin", line, f"{other} and {name} have the address {network}", "Give each its own.")
    if known is not None and not any(one.version == 4 and known.address in one for one in networks):
        message = f"{name} is not let in with its own address {known.address}"
        look.put("allowed-nothing", section, "AllowedIPs", _hosts(known), message)


def _whose(look: Look, public: str) -> str:
    return next((key for key, one in look.site.peers.items() if one.public_key == public and public), "")


def twins(look: Look) -> None:
    """Two sections with one key."""
    seen: dict[str, int] = {}
    for section in look.file.peers:
        entry = section.get("PublicKey")
        if entry is None:
            continue
        if entry.value in seen:
            message = f"two peers have one key: it stands in line {seen[entry.value]} too"
            look.tell("profile-twin", entry.line, message, "Make a key for each device.")
        seen.setdefault(entry.value, entry.line)
