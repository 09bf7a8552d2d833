"""What tunnels and their peers say of other tables, and what each kind of tunnel needs."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Network, IPv6Network
from typing import TYPE_CHECKING

from hooper.addresses import parse_network
from hooper.chosen import nearest
from hooper.site.mistakes import Mistake, Path
from hooper.site.tunnel_fields import key_form
from hooper.site.tunnel_kinds import OWN

if TYPE_CHECKING:
    from hooper.site.model import Host, Service, Site
    from hooper.site.tunnel_tables import Peer, Tunnel

KEY_WORDS = {
    "wireguard": "44 letters in Base64",
    "fingerprint": "a fingerprint, sha256:...",
    "ssh": "as OpenSSH writes it, ssh-ed25519 AAAA...",
}
NOT_OF_ALL = (  # keys that not all kinds of tunnel have
    "also", "subnet", "login", "l2tp", "subnet6", "dns", "probe_key", "probe_profile", "seen_by", "load_by", "meet"
)  # fmt: skip


def into_of(site: Site, item: str) -> Service | Host | IPv4Network | IPv6Network | None:
    """What one item of `into` means; None: nothing. A key that a service and a host have is the service, the narrower;
    the whole host is then named by its address.
    """
    named = site.services.get(item) or site.devices.get(item)
    if named is not None:
        return named
    try:
        return parse_network(item)
    except ValueError:
        return None


def tunnel_mistakes(site: Site) -> Iterator[Mistake]:
    """All mistakes of tunnels and peers."""
    yield from _detours(site)
    for key, tunnel in site.tunnels.items():
        path: Path = ("tunnels", key)
        yield from _service(site, path, tunnel)
        yield from _kind(path, tunnel)
        yield from _networks(path, tunnel)
        yield from _key(path, tunnel, tunnel.public_key)
        yield from _into(site, (*path, "into"), tunnel, tunnel.into)
    for key, peer in site.peers.items():
        path = ("peers", key)
        of = site.tunnels.get(peer.tunnel)
        if of is None:
            continue
        yield from _key(path, of, peer.public_key)
        yield from _peer_addresses(path, peer, of)
        yield from _into(site, (*path, "into"), of, peer.into or ())


def _detours(site: Site) -> Iterator[Mistake]:
    """Rented machines whose LAN is a tunnel."""
    for key, gateway in site.gateways.items():
        path: Path = ("gateways", key)
        tunnel = site.tunnels.get(gateway.tunnel or "")
        if tunnel is None:
            continue
        service = site.services.get(tunnel.service)
        if tunnel.kind != "wireguard":
            message = f"{gateway.tunnel} is made with {tunnel.kind}, and a rented machine is reached by WireGuard"
            yield (*path, "tunnel"), message, 'Write `kind = "wireguard"` there.'
        elif service is not None and service.host != key:
            message = f"the packets of {gateway.tunnel} arrive at {service.host}, not at {key}"
            yield (*path, "tunnel"), message, f'Write `host = "{key}"` in [services.{tunnel.service}].'
        elif tunnel.subnet is not None and (gateway.lan.network, gateway.lan.ip) != (tunnel.subnet, tunnel.subnet[1]):
            right = f"{tunnel.subnet[1]}/{tunnel.subnet.prefixlen}"
            message = f"its LAN is the tunnel {gateway.tunnel}, in which it is {right}"
            yield (*path, "lan"), message, f'Write `lan = "{right}"`.'
        for name, inner in site.gateways.items():
            wan = inner.wan_behind(key)
            of_tunnel = (peer for peer in site.peers.values() if peer.tunnel == gateway.tunnel)
            if wan is not None and not any(peer.address == wan for peer in of_tunnel):
                message = f"no peer of {gateway.tunnel} has the address {wan}"
                yield ("gateways", name, "wan"), message, "Write the address of the peer that this gateway is."


def _service(site: Site, path: Path, tunnel: Tunnel) -> Iterator[Mistake]:
    service = site.services.get(tunnel.service)
    if service is not None and service.speaks not in (tunnel.of.speaks, *tunnel.of.speaks_as):
        message = f"{tunnel.service} speaks {service.speaks}, and this is a tunnel of {tunnel.kind}"
        yield (*path, "service"), message, f'Write `speaks = "{tunnel.of.speaks}"` there, or name another service.'
    also = site.services.get(tunnel.also or "")
    if also is None:
        return
    wanted = tunnel.of.speaks_too or tunnel.of.speaks
    if also.speaks != wanted:
        message = f"{tunnel.also} speaks {also.speaks}, and {wanted} is what belongs here"
        yield (*path, "also"), message, f'Write `speaks = "{wanted}"` there, or name another service.'
    elif service is not None and also.host != service.host:
        message = f"{tunnel.also} is on {also.host}, and {tunnel.service} on {service.host}"
        yield (*path, "also"), message, "It is the same server by a second port: name a service of the same host."
    elif service is not None and tunnel.of.halves and also.used_transport == service.used_transport:
        message = f"{tunnel.also} is over {also.used_transport} too"
        yield (*path, "also"), message, 'The second is for networks that block the first: write `transport = "tcp"`.'


def _kind(path: Path, tunnel: Tunnel) -> Iterator[Mistake]:
    kind, ours = tunnel.of, tunnel.made_by == "hooper"
    if tunnel.kind in OWN and tunnel.options:
        yield (*path, "options"), f"a tunnel of {tunnel.kind} has no `options`", "Leave it out."
    for field in NOT_OF_ALL:
        if field not in kind.fields and getattr(tunnel, field):
            yield (*path, field), f"a tunnel of {tunnel.kind} has no `{field}`", "Leave it out."
    if ours and not kind.servers:
        yield (*path, "kind"), f"{kind.label} is made by the device itself, not here", 'Write `made_by = "device"`.'
    elif ours and tunnel.server not in kind.servers:
        yield (*path, "server"), kind.only_there, kind.instead
    for field in ("one_secret", "probe_profile"):
        if getattr(tunnel, field) and ours:
            yield (*path, field), "this is for what a device makes by itself", 'Leave it out, or `made_by = "device"`.'


def _networks(path: Path, tunnel: Tunnel) -> Iterator[Mistake]:
    if tunnel.subnet is None:
        if "subnet" in tunnel.of.fields:
            message = f"a tunnel of {tunnel.kind} needs a network for its peers"
            yield path, message, 'Add `subnet`, such as "10.88.44.0/24".'
        return
    longest = 29 if tunnel.also is not None and tunnel.of.halves else 30
    if not 8 <= tunnel.subnet.prefixlen <= longest:
        remedy = f"A tunnel has a prefix of /8 to /{longest}."
        yield (*path, "subnet"), f"{tunnel.subnet} has no room for peers", remedy
    if tunnel.subnet6 is not None and not tunnel.subnet6.is_private:
        remedy = "Write one from fd00::/8 (RFC 4193)."
        yield (*path, "subnet6"), f"{tunnel.subnet6} is no private network", remedy


def _key(path: Path, tunnel: Tunnel, key: str | None) -> Iterator[Mistake]:
    if key is not None and key_form(key) != tunnel.of.key:
        message = f"the key is not of the form that {tunnel.kind} has"
        yield (*path, "public_key"), message, f"Write it as it is there: {KEY_WORDS[tunnel.of.key]}."


def _peer_addresses(path: Path, peer: Peer, tunnel: Tunnel) -> Iterator[Mistake]:
    if tunnel.subnet is None:
        for field in ("address", "address6"):
            if getattr(peer, field) is not None:
                yield (*path, field), f"{peer.tunnel} has no network, so that a peer has no address", "Leave it out."
        return
    if peer.address is None:
        if tunnel.made_by == "hooper" or tunnel.of.keyed:
            message = f"a peer of {peer.tunnel} needs an address"
            yield path, message, f'Add `address`, such as "{tunnel.subnet[2]}".'
        return
    usable = tunnel.subnet
    if tunnel.also is not None and tunnel.of.halves:
        usable = next(tunnel.subnet.subnets())  # the second half is for those who come by the other port
    ends = (usable.network_address, usable[1], usable.broadcast_address)
    if peer.address not in usable or peer.address in ends:
        message = f"{peer.address} is no address for a peer of {usable}"
        yield (*path, "address"), message, f"Write one from {usable[2]} on; {usable[1]} is the server's."
    if peer.address6 is None:
        return
    if tunnel.subnet6 is None or peer.address6 not in tunnel.subnet6 or peer.address6 == tunnel.subnet6[1]:
        where = tunnel.subnet6 if tunnel.subnet6 is not None else "a tunnel without IPv6"
        message = f"{peer.address6} is no address for a peer of {where}"
        yield (*path, "address6"), message, "Correct it, or leave it out."


def _into(site: Site, path: Path, tunnel: Tunnel, into: tuple[str, ...]) -> Iterator[Mistake]:
    """Items that are no service, no host and no network; of SSH, which ends at single ports, networks too."""
    for index, item in enumerate(into):
        if into in (("everything",), ("lan",)):
            continue
        found = into_of(site, item)
        if found is None:
            near = nearest(item, {**site.services, **site.devices})
            hint = f"Write {near[0]!r}, or name" if near else "Name"
            yield (*path, index), f"{item!r} is no service, no host and no network", f"{hint} one of them."
        elif not tunnel.of.whole and isinstance(found, IPv4Network | IPv6Network):
            yield (*path, index), f"{tunnel.of.label} cannot be kept to the network {item}", "Name services or hosts."
