"""The kinds of tunnel: what differs between them, as far as the site file and the plan go by it.

What is made with them stands in `tunnels.works`. A further kind is a further row, or comes with another package.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from hooper.added import added, added_names
from hooper.site.tunnel_fields import KeyForm


@dataclass(frozen=True)
class TunnelKind:
    """One kind.

    label: its name in sentences. speaks: the service at which it arrives; speaks_as: what else that may be written as
    speaking; speaks_too: that of its second port. key: the form of its public keys. fields: those of [tunnels.KEY] that
    not all kinds have. servers: what a server of our making runs on; empty: a device makes it itself; only_there,
    instead: the sentences for another one. ending: of what a peer is given; software: where a peer keeps that. page:
    what devices call their page for it. stopped: how a server of our making is stopped and what stays of it, with
    {name} and {login}; stopped_by_app: on Windows and macOS. overhead: bytes around a packet, over TCP or not.

    movable: its server listens at whatever port it is told. server_key: a server of our making has a key of our making.
    keyed: each peer has a key and an address of its own, which the site file has, whoever makes them. certified: a peer
    comes with a certificate of our making, so with no key that it made itself. seen_key: the server's key is seen by
    asking it. one_secret: all peers of a device share one. typed_in: a peer has a user and a password, which are typed
    on both sides. by_code: a phone takes a profile from a QR code. whole: it is a network; else it carries single
    ports, by a server that others use too. halves: who comes by the second port has the upper half of the network.
    """

    name: str
    label: str
    speaks: str
    key: KeyForm
    fields: frozenset[str]
    servers: tuple[str, ...]
    ending: str
    software: str
    page: str
    stopped: str
    overhead: Callable[[bool], int]
    speaks_too: str | None = None
    speaks_as: tuple[str, ...] = ()
    only_there: str = ""
    instead: str = ""
    stopped_by_app: str = ""
    movable: bool = False
    server_key: bool = False
    keyed: bool = False
    certified: bool = False
    seen_key: bool = False
    one_secret: bool = False
    typed_in: bool = False
    by_code: bool = False
    whole: bool = True
    halves: bool = False


def _outside(datagrams: int) -> Callable[[bool], int]:
    """Bytes around a packet: so many over UDP; over TCP IPv6 40, TCP 32 with its options, length 2 and 24 within."""
    return lambda tcp: 98 if tcp else datagrams


OF_PEERS = frozenset({"subnet", "subnet6", "dns"})  # what a network of peers has
OWN = {
    kind.name: kind
    for kind in (
        TunnelKind(
            name="wireguard", label="WireGuard", speaks="wireguard", key="wireguard",
            fields=OF_PEERS | {"probe_key", "seen_by", "load_by", "meet"}, servers=("linux", "windows", "macos"),
            ending=".conf", software="the app for WireGuard", page="WireGuard or VPN server",
            stopped="systemctl disable --now wg-quick@{name}, then delete /etc/wireguard/{name}.conf and {name}.nft",
            stopped_by_app="deactivate {name} in the app for WireGuard and delete it there, and the file it was"
            " imported from",
            overhead=lambda tcp: 80,  # IPv6 40, UDP 8, WireGuard 32 (its protocol paper, section 5.4.6)
            movable=True, server_key=True, keyed=True, by_code=True,
        ),
        TunnelKind(
            name="openvpn", label="OpenVPN", speaks="openvpn", key="fingerprint",
            fields=OF_PEERS | {"also", "probe_profile", "seen_by", "load_by"}, servers=("linux", "windows", "macos"),
            ending=".ovpn", software="the app for OpenVPN", page="OpenVPN server",
            stopped="systemctl disable --now openvpn-server@{name}, then delete {name}.conf, .nft, .sh, .crl and"
            " {name}-peers in /etc/openvpn/server",
            stopped_by_app="stop the service of OpenVPN, then delete {name}.conf, .crl and {name}-peers there, and on"
            " macOS /Library/LaunchDaemons/{name}.plist",
            overhead=_outside(72),  # IPv6 40, UDP 8, OpenVPN 24 (operation and peer, number, tag)
            movable=True, server_key=True, certified=True, halves=True,
        ),
        TunnelKind(
            name="ssh", label="SSH", speaks="ssh", key="ssh", fields=frozenset({"login", "load_by"}),
            servers=("linux",), only_there="the keys for SSH are written for an OpenSSH server",
            instead='Write `server = "linux"`.', ending=".zip", software="~/.ssh", page="SSH",
            stopped="delete the user {login} there, or its authorized_keys", overhead=_outside(72), seen_key=True,
            whole=False,
        ),
        TunnelKind(
            name="ipsec", label="IPsec", speaks="ike", speaks_too="ipsec-nat", key="fingerprint",
            fields=OF_PEERS | {"also", "l2tp"}, servers=(), ending=".txt", software="the VPN settings",
            page="IPsec or L2TP server", stopped="", overhead=_outside(72), one_secret=True, typed_in=True,
        ),
        TunnelKind(
            name="maker", label="a maker's own program", speaks="https", speaks_as=("tls", "unknown"),
            key="fingerprint", fields=frozenset(), servers=(), ending=".txt", software="the maker's own program",
            page="VPN or remote access", stopped="", overhead=_outside(72), typed_in=True, movable=True,
        ),
    )
}  # fmt: skip


def tunnel_kind(name: str) -> TunnelKind:
    """A kind by its name. Raises: KeyError: there is none such; AddedWrong."""
    found = OWN.get(name)
    if found is None:
        found = replace(added("hooper.tunnels", name, kind=TunnelKind).kind, name=name)
    return found


def tunnel_kinds() -> tuple[str, ...]:
    """The names of all kinds."""
    return (*OWN, *added_names("hooper.tunnels"))
