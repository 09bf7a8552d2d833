"""The steps on servers and devices, in words. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import enforced, granted_services, interface_name, into_for, meant

if TYPE_CHECKING:
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel


def loading(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on the server with the files that we made. again: it has run with earlier ones."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, port = site.services[tunnel.service].host, site.services[tunnel.service].used_ports
    if tunnel.server == "linux":
        yield f"Copy both files to {host}, into {folder}, for root alone: chmod 600 {folder}/{name}.conf."
        yield f"On {host}, once: apt install wireguard nftables (or what your Linux has in their place)."
        if again:
            new = f"/run/{name}.new"
            yield (
                f"On {host}, without interrupting those who are connected: umask 077; nft -f {folder}/{name}.nft &&"
                f" wg-quick strip {folder}/{name}.conf > {new} && wg syncconf {name} {new}; rm {new}"
            )
            yield f"Where its address, port or start-up lines are new, instead: systemctl restart wg-quick@{name}."
        else:
            yield f"On {host}: systemctl enable --now wg-quick@{name}. It then starts by itself after a power cut."
        yield f"Where {host} has a firewall of its own: let UDP {port} in."
        return
    app = "the app WireGuard"
    yield f"Bring {name}.conf to {host} on a stick or a share at home, and import it into {app}; then delete the copy."
    if tunnel.server == "windows":
        yield f"Activate it there: {app} for Windows runs as a service, and starts by itself after a power cut."
        yield (
            "In PowerShell as administrator, so that peers get further than this machine: Set-NetIPInterface"
            f" -InterfaceAlias {name} -Forwarding Enabled; the same for the interface of the LAN."
        )
        if tunnel.way_back == "nat":
            yield f"And: New-NetNat -Name {name} -InternalIPInterfaceAddressPrefix {tunnel.subnet}."
        yield f"In its firewall: New-NetFirewallRule -DisplayName {name} -Protocol UDP -LocalPort {port} -Action Allow."
    else:
        yield "Activate it there, and have it start on demand, so that it is up after a power cut."
        yield "In a terminal: sudo sysctl -w net.inet.ip.forwarding=1, and the same line in /etc/sysctl.conf."
        if tunnel.way_back == "nat":
            yield f"And in /etc/pf.conf: nat on en0 from {tunnel.subnet} to any -> (en0); then pfctl -ef /etc/pf.conf."
    yield "Keep the machine from sleeping."
    if enforced(tunnel) == "nowhere":
        yield "Nothing there keeps a peer to what it may reach: let in only whom you would let into the whole LAN."


def steps_on(peer: Peer, name: str, *, files: bool) -> tuple[str, ...]:
    """What the person does on the device. name: of the tunnel there. files: it gets a file, and no code."""
    if peer.device == "phone":
        take = (
            "In the app, tap + and choose to scan a QR code; hold the phone before it."
            if not files
            else "In the app, tap + and choose to import a file; take this one."
        )
        return (
            "Install the app WireGuard from the phone's own shop.",
            take,
            f"Call it {name}, and switch it on.",
            "Away from home, by mobile data: open what you want to reach, by its address at home.",
        )
    if peer.device == "laptop":
        return (
            "Install WireGuard: on Windows and macOS the app, on Linux the package wireguard-tools.",
            f"Import the file there; on Linux copy it to /etc/wireguard/{name}.conf and run wg-quick up {name}.",
            "Away from home, by another network: open what you want to reach, by its address at home.",
        )
    if peer.device == "router":
        return (
            "On the router's page for WireGuard, as a client: import the file, or enter its lines one by one.",
            "Let it reach its devices only where that is meant: everything behind it then comes in by this one key.",
        )
    return (
        f"Copy the file to /etc/wireguard/{name}.conf, for root alone.",
        f"systemctl enable --now wg-quick@{name}: it starts by itself after a power cut.",
    )


OWN_KEY = "Put the device's own private key into the file, in the place of the words."
Ways = tuple[tuple[str, tuple[str, ...]], ...]


def ways(peer: str, own: bool) -> Ways:
    """The steps on a phone and on a laptop, for a page that may be read on either. own: it has a key of its own."""
    first = (OWN_KEY,) if own else ()
    name = interface_name(peer)
    phone = (
        "Install the app WireGuard from the phone's own shop.",
        *first,
        "In the app, tap +: import the file."
        if own
        else "In the app, tap +: scan the code from another screen, or import the file.",
        f"Call it {name}, and switch it on.",
    )
    laptop = (
        "Install WireGuard: on Windows and macOS the app, on Linux the package wireguard-tools.",
        *first,
        f"Import the file there; on Linux copy it to /etc/wireguard/{name}.conf and run wg-quick up {name}.",
    )
    return ("On a phone", phone), ("On a laptop", laptop)


def expectations(site: Site, key: str) -> Iterator[str]:
    """What works once it is on."""
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    yield f"It reaches {', '.join(meant(site, into_for(site, peer)))}, and nothing else."
    for name in granted_services(site, key)[:8]:
        service = site.services[name]
        device = site.devices[service.host]
        where = f"{device.address}:{service.used_ports}" if service.has_ports else str(device.address)
        if name != tunnel.service:
            yield f"{name}: {where}, as at home."
    if into_for(site, peer) == ("everything",):
        yield "All else goes through it too: the world sees the address at home."
    else:
        yield "All else goes its own way as before."
    yield "It says nothing of itself while nobody uses it. Both sides connected: the app shows a latest handshake."
    if peer.until is not None:
        yield f"It works until {peer.until}."


STOPS = (
    "The app shows no latest handshake within a minute: nothing goes through. Switch it off; ask who keeps the site.",
    "Somebody else wants this file or code, or has seen it: tell who keeps the site at once, it is a key to the house.",
    "The device is lost, sold or given away: tell who keeps the site, before anything else.",
)


def telling(site: Site, key: str, tunnel: Tunnel) -> Iterator[str]:
    """What is left to do elsewhere once a peer has its file."""
    host = site.services[tunnel.service].host
    of = site.peers[key].tunnel
    yield f"Until {host} has the files that name {key}, it gets no answer: `{deeds.MAKE_TUNNEL(of)}`."
