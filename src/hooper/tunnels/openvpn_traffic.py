"""What goes into an OpenVPN tunnel by its profile, against what is wished: all, or the LAN only. Pure."""

from __future__ import annotations

from ipaddress import IPv4Network

from hooper.planning.access import allowed_in, grants_in, into_for, mtu_of
from hooper.planning.addresses import is_common
from hooper.tunnels.common import NO_IPV6
from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.wire.ovpnfile import Directive

LARGEST_MTU = 1500  # openvpn(8), --tun-mtu: what it is where nothing is said


def traffic(look: OpenVpnLook) -> None:
    """What it sends into the tunnel, and how large its packets are."""
    given = _routes(look)
    for network, line in given.items():
        if network.prefixlen >= 8 and is_common(network):
            message = f"{network} is what hotels and routers out of the box use: from such a place it leads nowhere"
            look.tell("profile-overlap", line, message, "Give the LAN a rarer network while that is easy.")
    size = look.file.get("tun-mtu")
    best = mtu_of(look.topology, look.tunnel) if look.tunnel is not None else LARGEST_MTU
    if size is not None and size.word(0).isdigit() and int(size.word(0)) > LARGEST_MTU:
        look.put("mtu-wrong", size, f"tun-mtu {best}", f"its packets are {size.word(0)} bytes: no line carries them")
    if look.tunnel is None:
        return
    into = into_for(look.site, look.peer) if look.peer is not None else look.tunnel.into
    redirect = look.file.get("redirect-gateway")
    if into == ("everything",):
        _everything(look)
    else:
        if redirect is not None:
            message = f"everything goes into the tunnel, which leads to {', '.join(into)} alone"
            look.drop("allowed-too-much", redirect, message)
        right = (*allowed_in(look.site, look.tunnel, into), *look.tunnel.subnets)
        for option in look.file.every("route"):
            leads = _network(option)
            if leads is not None and not any(isinstance(one, IPv4Network) and leads.subnet_of(one) for one in right):
                message = f"{leads} goes into the tunnel, which leads to {', '.join(into)} alone"
                look.drop("allowed-too-much", option, message)
    alone = look.file.get("route-nopull") or look.file.get("route-noexec")
    if alone is not None and into != ("everything",):
        wanted = [one.network for one in grants_in(look.site, look.tunnel, into)]
        missing = [
            net for net in wanted if isinstance(net, IPv4Network) and not any(net.subnet_of(one) for one in given)
        ]
        if missing:
            words = ", ".join(map(str, dict.fromkeys(missing)))
            message = f"it takes no routes from the server, and has none of its own to {words}"
            look.drop("allowed-nothing", alone, message)


def _routes(look: OpenVpnLook) -> dict[IPv4Network, int]:
    """The networks that it sends into the tunnel by itself, with the line of each."""
    found = ((_network(option), option.line) for option in look.file.every("route"))
    return {network: line for network, line in found if network is not None}


def _network(option: Directive) -> IPv4Network | None:
    """Where a route leads; None: a name, or one of the words that stand for an address."""
    try:
        return IPv4Network(f"{option.word(0)}/{option.word(1) or '255.255.255.255'}", strict=False)
    except ValueError:
        return None


def _everything(look: OpenVpnLook) -> None:
    """All of it is to go into the tunnel, and the server of a device may not say so."""
    assert look.tunnel is not None
    ours = look.tunnel.made_by == "hooper"  # whose server pushes it
    redirect = look.file.get("redirect-gateway")
    ended = (f"ifconfig-ipv6 {NO_IPV6[2]}/64 {NO_IPV6[1]}", "block-ipv6")
    if redirect is None and not ours:
        message = "everything is to go through the tunnel, and it does not say so"
        look.add("allowed-nothing", ("redirect-gateway def1 ipv6", *ended), message)
    elif redirect is not None and not ours and "ipv6" not in redirect.words and not look.file.has("block-ipv6"):
        message = "all of IPv4 goes into the tunnel, and IPv6 past it"
        new = look.file.newline.join((" ".join(("redirect-gateway", *redirect.words, "ipv6")), *ended))
        look.put("leaks-ipv6", redirect, new, message)
    asked = any(option.word(0).upper() == "DNS" for option in look.file.every("dhcp-option"))
    if not ours and not asked and look.tunnel.dns:
        lines = tuple(f"dhcp-option DNS {server}" for server in look.tunnel.dns if server.version == 4)
        message = "it names no DNS server, so names may be asked wherever the device is"
        look.add("leaks-dns", lines, message)
