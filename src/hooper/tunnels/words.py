"""The steps on servers and devices, in words. Pure."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import ends, enforced, granted_services, interface_name, into_for, meant
from hooper.planning.tunnel_edits import LOGIN, handing
from hooper.planning.typed import typed_locally
from hooper.site.references import detours, far_ends
from hooper.tunnels.common import Profile
from hooper.tunnels.ipsec_files import IpsecProfile
from hooper.tunnels.ssh_files import SshProfile, one_line, start
from hooper.tunnels.works import works_of

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Tunnel


def loading_wireguard(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of WireGuard with the files that we made."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, port = site.services[tunnel.service].host, site.services[tunnel.service].used_ports
    if tunnel.server == "linux":
        carries = key in detours(site)
        if carries:
            yield from _to_rented(site, key, folder)
        else:
            yield f"Copy both files to {host}, into {folder}, for root alone: chmod 600 {folder}/{name}.conf."
        yield f"On {host}, once: apt install wireguard nftables (or what your Linux has in their place)."
        if again:
            new = f"/run/{name}.new"
            rules = f"nft -f {folder}/{name}.nft && " + (f"nft -f {folder}/{name}-forwards.nft && " if carries else "")
            yield (
                f"On {host}, without interrupting those who are connected: umask 077; {rules}wg-quick strip"
                f" {folder}/{name}.conf > {new} && wg syncconf {name} {new}; rm {new}"
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


def _to_rented(site: Site, key: str, folder: str) -> Iterator[str]:
    """Which files of a tunnel to a rented machine go where."""
    name, host = interface_name(key), site.services[site.tunnels[key].service].host
    yield (
        f"Copy {name}.conf, {name}.nft and {name}-forwards.nft to {host}, into {folder}, for root alone: chmod 600"
        f" {folder}/{name}.conf."
    )
    for peer, gateway in far_ends(site, key).items():
        own = interface_name(peer)
        yield (
            f"Copy {own}-forwards.nft to the machine at home that is {gateway} ({site.gateways[gateway].lan.ip}), into"
            f" {folder}, beside the file that `{handing(site, peer)}` gives it."
        )


def loading_ssh(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of SSH with them."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, login = site.services[tunnel.service].host, tunnel.login or LOGIN
    if not again:
        yield f"On {host}, once: useradd -r -s /bin/false -p '*' {login}; mkdir -p {folder}"
    yield f"Copy {name}.keys to {host} as {folder}/{name}.keys, for root to write and all to read: chmod 644."
    yield f"Copy {name}.conf there as /etc/ssh/sshd_config.d/hooper-{name}.conf."
    if again:
        yield f"On {host}, where {name}.conf is new: sshd -t && systemctl reload ssh. Keys are read at each login."
        yield f"Who is connected stays so: end the session of a key that was taken away with pkill -u {login}."
    else:
        yield f"On {host}: sshd -t && systemctl reload ssh. A session that is open stays open: try another one first."
    yield (
        f"A device where only the authorized_keys of a user can be changed: put the lines of {name}.keys there instead."
    )


def loading_openvpn(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of OpenVPN with them."""
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


SHOWN = 8  # services whose addresses a hand-over has one by one
AWAY = "Away from home, by another network: open what you want to reach, by its address at home."


def steps_on(site: Site, profile: Profile, *, files: bool) -> tuple[str, ...]:
    """What the person does on the device. files: it gets a file, and no code; only WireGuard's apps scan one."""
    key = profile.peer
    peer, name = site.peers[key], interface_name(key)
    if isinstance(profile, SshProfile):
        return _by_ssh(profile, phone=peer.device == "phone")
    says = works_of(site.tunnels[peer.tunnel].kind).software
    if peer.device == "phone":
        scans = profile.ending == ".conf" and not files
        take = says.phone if not scans else "In the app, tap + and choose to scan a QR code; hold the phone before it."
        away = AWAY.replace("another network", "mobile data")
        if isinstance(profile, IpsecProfile):
            return take, f"Call it {name}, and switch it on.", away
        return (f"Install {says.app} from the phone's own shop.", take, f"Call it {name}, and switch it on.", away)
    if peer.device == "laptop":
        load = "So too" if isinstance(profile, IpsecProfile) else "Import the file there"
        return says.laptop, f"{load}; {says.linux.format(name=name)}.", AWAY
    if peer.device == "router":
        only = "Let it reach its devices only where that is meant: everything behind it then comes in by this one key."
        return says.router, only
    return (says.server.format(name=name),)


def _by_ssh(profile: SshProfile, *, phone: bool) -> tuple[str, ...]:
    """The way in by SSH: on a phone an app is told each thing, elsewhere OpenSSH reads it all from its files."""
    name, says = profile.name, works_of("ssh").software
    if phone:
        ways = [f"a local port {one.local} to {one.address}:{one.port} ({one.service})" for one in profile.forwards]
        ways += [f"a dynamic one (SOCKS) at {profile.proxy}"] if profile.proxy else []
        return (
            f"Install {says.app} from the phone's own shop.",
            f"Unpack the file, and import {name}.key there, as a private key.",
            f"Add a host: {profile.host}, port {profile.port}, user {profile.login}, with that key.",
            f"Add to it as forwards: {'; '.join(ways)}.",
            f"Connect. It shows the key of the server: only {fingerprint_shown(profile.server)} is right.",
        )
    return (
        says.laptop,
        f"Unpack the files into the folder .ssh of your own folder, for yourself alone: chmod 600 ~/.ssh/{name}.*",
        f"Away from home, start it first, in a terminal: {start(profile)}",
        "Leave that window open; then open what you want to reach, as below.",
    )


def fingerprint_shown(public: str) -> str:
    """A host key's fingerprint, as OpenSSH shows it."""
    digest = hashlib.sha256(base64.b64decode(public.split()[1])).digest()
    return f"SHA256:{base64.b64encode(digest).decode().rstrip('=')}"


def own_key(profile: Profile) -> str:
    """Where a device's own private key belongs."""
    if isinstance(profile, SshProfile):
        return f"Put the device's own private key at ~/.ssh/{profile.name}.key, for yourself alone."
    return "Put the device's own private key into the file, in the place of the words."


Ways = tuple[tuple[str, tuple[str, ...]], ...]


def ways(site: Site, profile: Profile, own: bool) -> Ways:
    """The steps on a phone and on a laptop, for a page that may be read on either. own: it has a key of its own."""
    kind, name = site.tunnels[profile.tunnel].kind, interface_name(profile.peer)
    says, first = works_of(kind).software, (own_key(profile),) if own else ()
    if isinstance(profile, SshProfile):
        one = f"Instead of that, without the file of settings, by one command: {one_line(profile)}"
        start_it, then = 3, _by_ssh(profile, phone=False)
        on_laptop = (*first, *then[:start_it], one, *then[start_it:])
        return ("On a laptop", on_laptop), ("On a phone", (*first, *_by_ssh(profile, phone=True)))
    take = says.phone
    if site.tunnels[profile.tunnel].of.by_code and not own:
        take = "In the app, tap +: scan the code from another screen, or import the file."
    phone = (f"Install {says.app} from the phone's own shop.", *first, take, f"Call it {name}, and switch it on.")
    laptop = (says.laptop, *first, f"Import the file there; {says.linux.format(name=name)}.")
    return ("On a phone", phone), ("On a laptop", laptop)


def expectations(topology: Topology, profile: Profile) -> Iterator[str]:
    """What works once it is on."""
    site, key = topology.site, profile.peer
    peer = site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    if key in far_ends(site, profile.tunnel):
        yield f"It carries what {detours(site)[profile.tunnel]} forwards into this LAN, and nothing else."
        yield "Both sides connected: wg show tells of a latest handshake, within a minute."
        return
    kept = (
        "and nothing else" if enforced(tunnel) == "server" else "and should go nowhere else: nothing keeps it from that"
    )
    yield f"It reaches {', '.join(meant(site, into_for(site, peer)))}, {kept}."
    if isinstance(profile, SshProfile):
        yield from (
            f"{one.service}: {typed_locally(topology, one.service, one.local).text}" for one in profile.forwards
        )
        if profile.proxy:
            yield f"Everything at home: by the proxy (SOCKS 5) at localhost:{profile.proxy}, set in the program."
        if any(site.services[one.service].speaks in ("https", "rdp") for one in profile.forwards):
            yield "A warning that a certificate is for another name: it is, since you go by localhost."
    by_address = [] if isinstance(profile, SshProfile) else granted_services(site, key)
    by_address = [name for name in by_address if name not in (tunnel.service, tunnel.also)]
    for name in by_address[:SHOWN]:
        service = site.services[name]
        device = site.devices[service.host]
        where = f"{device.address}:{service.used_ports}" if service.has_ports else str(device.address)
        yield f"{name}: {where}, as at home."
    if len(by_address) > SHOWN:
        yield f"{len(by_address) - SHOWN} more, each by its address at home: {', '.join(by_address[SHOWN:])}."
    if isinstance(profile, SshProfile):
        yield "All else goes its own way as before."
    elif into_for(site, peer) == ("everything",):
        yield "All else goes through it too: the world sees the address at home."
    else:
        yield "All else goes its own way as before."
    yield works_of(tunnel.kind).software.connected
    if peer.until is not None:
        yield f"It works until {peer.until}."


def stops(tunnel: Tunnel) -> tuple[str, ...]:
    """What must not appear."""
    return (
        f"{works_of(tunnel.kind).software.failed} Switch it off; ask who keeps the site.",
        "Somebody else wants this file or code, or has seen it: tell who keeps the site at once, it is a key to the"
        " house.",
        "The device is lost, sold or given away: tell who keeps the site, before anything else.",
    )


def telling(site: Site, key: str, tunnel: Tunnel) -> Iterator[str]:
    """What is left to do elsewhere once a peer has its file."""
    if tunnel.made_by == "device":
        host = site.services[tunnel.service].host
        yield f"On {host}, its user with the same password: `{deeds.MAKE_TUNNEL(site.peers[key].tunnel)}` has them all."
        return
    host = site.services[tunnel.service].host
    of = site.peers[key].tunnel
    yield f"Until {host} has the files that name {key}, it gets no answer: `{deeds.MAKE_TUNNEL(of)}`."
    if site.peers[key].address6 is not None and site.peers[key].device != "phone":
        yield f"Only if {key} says that IPv6 is disabled there: `{deeds.WITHOUT_SIX(key)}`, then hand it over anew."
