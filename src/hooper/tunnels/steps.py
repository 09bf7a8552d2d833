"""The steps on servers and devices, in words."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import enforced, granted_services, interface_name, into_for, meant
from hooper.planning.typed import typed_locally
from hooper.site.references import detours, far_ends
from hooper.tunnels.common import Profile
from hooper.tunnels.ipsec_files import IpsecProfile
from hooper.tunnels.making import works_of
from hooper.tunnels.ssh_files import SshProfile, one_line, start

if TYPE_CHECKING:
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Tunnel


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
        take = says.phone if not scans else "In the app, tap + and choose to scan a QR code; scan this code."
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
        f"{works_of(tunnel.kind).software.failed} Switch it off; ask your administrator.",
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
