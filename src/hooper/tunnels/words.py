"""The steps on servers and devices, in words. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ends, enforced, granted_services, interface_name, into_for, meant

if TYPE_CHECKING:
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Tunnel


def loading(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on the server with the files that we made. again: it has run with earlier ones."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, port = site.services[tunnel.service].host, site.services[tunnel.service].used_ports
    if tunnel.kind == "openvpn":
        yield from _openvpn(site, key, folder, again=again)
        return
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


def _openvpn(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    names = [end.name for end in ends(site, key)]
    host = site.services[site.tunnels[key].service].host
    only = " ".join(f"{folder}/{name}.conf" for name in names)
    if again:
        yield (
            f"Copy all of them to {host}, into {folder}, in the place of the old ones; there, take out of"
            f" {' and '.join(f'{name}-peers' for name in names)} what is not here any more. For root alone: chmod 600"
            f" {only}."
        )
        rules = " && ".join(f"nft -f {folder}/{name}.nft" for name in names)
        yield (
            f"On {host}, without interrupting those who are connected: {rules}. Who was taken away reaches nothing from"
            " then on, and is turned away when it connects again; nothing has to be restarted."
        )
        restart = " ".join(f"openvpn-server@{name}" for name in names)
        yield f"Where its address, port or network is new, instead: systemctl restart {restart}."
    else:
        yield f"Copy all of them to {host}, into {folder}, for root alone: chmod 600 {only}."
        yield f"On {host}, once: apt install openvpn nftables (or what your Linux has in their place)."
        enable = " ".join(f"openvpn-server@{name}" for name in names)
        yield f"On {host}: systemctl enable --now {enable}. It then starts by itself after a power cut."
    ports = (site.services[end.service] for end in ends(site, key))
    words = " and ".join(f"{one.used_transport.upper()} {one.used_ports}" for one in ports)
    yield f"Where {host} has a firewall of its own: let {words} in."


@dataclass(frozen=True)
class Software:
    """What is done on a device with the file of a kind of tunnel. {name}: of the tunnel there; {file}: the file's.

    connected: how one sees that both sides are connected. failed: that they are not.
    """

    app: str
    phone: str
    laptop: str
    linux: str
    router: str
    server: str
    connected: str
    failed: str


KINDS = {
    "wireguard": Software(
        "the app WireGuard",
        "In the app, tap + and choose to import a file; take this one.",
        "Install WireGuard: on Windows and macOS the app, on Linux the package wireguard-tools.",
        "on Linux copy it to /etc/wireguard/{name}.conf and run wg-quick up {name}",
        "On the router's page for WireGuard, as a client: import the file, or enter its lines one by one.",
        "Copy the file to /etc/wireguard/{name}.conf, for root alone; systemctl enable --now wg-quick@{name}: it starts"
        " by itself after a power cut.",
        "It says nothing of itself while nobody uses it. Both sides connected: the app shows a latest handshake.",
        "The app shows no latest handshake within a minute: nothing goes through.",
    ),
    "openvpn": Software(
        "an app for OpenVPN",
        "Open the file on the phone, and choose the app for OpenVPN; or in the app, choose to import a file.",
        "Install OpenVPN: on Windows and macOS an app for it, on Linux the package openvpn.",
        "on Linux copy it to /etc/openvpn/client/{name}.conf, for root alone, and run systemctl start"
        " openvpn-client@{name}",
        "On the router's page for VPN clients, OpenVPN: import the file.",
        "Copy the file to /etc/openvpn/client/{name}.conf, for root alone; systemctl enable --now"
        " openvpn-client@{name}: it starts by itself after a power cut.",
        "Both sides connected: the app says so within ten seconds, and shows its address in the tunnel.",
        "The app does not say within a minute that it is connected: nothing goes through.",
    ),
}
AWAY = "Away from home, by another network: open what you want to reach, by its address at home."


def steps_on(site: Site, key: str, *, files: bool) -> tuple[str, ...]:
    """What the person does on the device. key: of the peer. files: it gets a file, and no code."""
    peer, name = site.peers[key], interface_name(key)
    says = KINDS[site.tunnels[peer.tunnel].kind]
    if peer.device == "phone":
        take = says.phone if files else "In the app, tap + and choose to scan a QR code; hold the phone before it."
        away = AWAY.replace("another network", "mobile data")
        return (f"Install {says.app} from the phone's own shop.", take, f"Call it {name}, and switch it on.", away)
    if peer.device == "laptop":
        return says.laptop, f"Import the file there; {says.linux.format(name=name)}.", AWAY
    if peer.device == "router":
        only = "Let it reach its devices only where that is meant: everything behind it then comes in by this one key."
        return says.router, only
    return (says.server.format(name=name),)


OWN_KEY = "Put the device's own private key into the file, in the place of the words."
Ways = tuple[tuple[str, tuple[str, ...]], ...]


def ways(site: Site, key: str, own: bool) -> Ways:
    """The steps on a phone and on a laptop, for a page that may be read on either. own: it has a key of its own."""
    kind, name = site.tunnels[site.peers[key].tunnel].kind, interface_name(key)
    says, first = KINDS[kind], (OWN_KEY,) if own else ()
    take = says.phone
    if kind == "wireguard" and not own:
        take = "In the app, tap +: scan the code from another screen, or import the file."
    phone = (f"Install {says.app} from the phone's own shop.", *first, take, f"Call it {name}, and switch it on.")
    laptop = (says.laptop, *first, f"Import the file there; {says.linux.format(name=name)}.")
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
    yield KINDS[tunnel.kind].connected
    if peer.until is not None:
        yield f"It works until {peer.until}."


def stops(tunnel: Tunnel) -> tuple[str, ...]:
    """What must not appear."""
    return (
        f"{KINDS[tunnel.kind].failed} Switch it off; ask who keeps the site.",
        "Somebody else wants this file or code, or has seen it: tell who keeps the site at once, it is a key to the"
        " house.",
        "The device is lost, sold or given away: tell who keeps the site, before anything else.",
    )


def telling(site: Site, key: str, tunnel: Tunnel) -> Iterator[str]:
    """What is left to do elsewhere once a peer has its file."""
    host = site.services[tunnel.service].host
    of = site.peers[key].tunnel
    yield f"Until {host} has the files that name {key}, it gets no answer: `{deeds.MAKE_TUNNEL(of)}`."
