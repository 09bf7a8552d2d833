"""Profiles as the pages of different makes export them, each with what is wrong in it. All keys are made up here."""

from __future__ import annotations

import base64
from dataclasses import dataclass

from hooper.tunnels.look import BaseLook
from hooper.wire.wireguard import public_of


def key(number: int) -> bytes:
    return bytes((number,)) * 31 + b"\x40"


def text(value: bytes) -> str:
    return base64.b64encode(value).decode()


SERVER, COX, COACH, STRANGER, PROBE, SHARED = (key(number) for number in range(1, 7))
SERVER_PUBLIC, COX_PUBLIC, COACH_PUBLIC = (text(public_of(one)) for one in (SERVER, COX, COACH))

SITE = f"""\
version = 1
[site]
title = "Boathouse"
[lines.fibre]
address = "203.0.113.44"
mtu = 1492
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
control = "hand"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"
[hosts.gate]
address = "10.44.7.60"
[hosts.film-box]
address = "10.44.7.30"
[services.gate]
host = "gate"
speaks = "wireguard"
reach = "public"
outside_port = 51821
[services.film-shell]
host = "film-box"
speaks = "ssh"
reach = "tunnel"
[names."boathouse.heronquay.example"]
line = "fibre"
[tunnels.oars]
service = "gate"
subnet = "10.88.44.0/24"
subnet6 = "fd44:88:44::/64"
dns = ["10.44.7.1"]
public_key = "{SERVER_PUBLIC}"
[peers.cox-phone]
tunnel = "oars"
address = "10.88.44.11"
into = "lan"
public_key = "{COX_PUBLIC}"
[peers.coach-laptop]
tunnel = "oars"
device = "laptop"
address = "10.88.44.12"
into = "everything"
public_key = "{COACH_PUBLIC}"
"""

ENDPOINT = "boathouse.heronquay.example:51821"
LAN = "10.44.7.0/24"
EVERYTHING = "0.0.0.0/0, ::/0"


def touched(look: BaseLook, given: str) -> set[int]:
    """The lines that its mending changes or takes away."""
    spans = [edit[:2] for fault in look.faults for edit in fault.edits]
    return {
        number for start, end in spans for number in range(given[:start].count("\n") + 1, given[:end].count("\n") + 1)
    }


@dataclass(frozen=True)
class Exported:
    """codes: what is to be told. mended: whether all of it can be mended; what stays stands in `left`."""

    name: str
    text: str
    codes: tuple[str, ...]
    left: tuple[str, ...] = ()


def phone(
    *, private: bytes = COX, address: str = "10.88.44.11/32", endpoint: str | None = ENDPOINT,
    allowed: str | None = LAN, public: str = SERVER_PUBLIC, alive: str | None = "25", dns: str | None = "10.44.7.1",
    mtu: str | None = "1412", more: str = "", more_peer: str = "",
) -> str:  # fmt: skip
    lines = ["[Interface]", f"PrivateKey = {text(private)}", f"Address = {address}"]
    lines += [f"DNS = {dns}"] if dns else []
    lines += [f"MTU = {mtu}"] if mtu else []
    lines += [more] if more else []
    lines += ["", "[Peer]", f"PublicKey = {public}"]
    lines += [f"AllowedIPs = {allowed}"] if allowed is not None else []
    lines += [f"Endpoint = {endpoint}"] if endpoint is not None else []
    lines += [f"PersistentKeepalive = {alive}"] if alive is not None else []
    lines += [more_peer] if more_peer else []
    return "\n".join(lines) + "\n"


def coach(**other: str | None) -> str:
    said: dict[str, str | None] = {"address": "10.88.44.12/32", "allowed": EVERYTHING, **other}
    return phone(private=COACH, **said)  # type: ignore[arg-type]


EXPORTED = (
    Exported("right", phone(), ()),
    Exported("right-everything", coach(), ()),
    Exported("endpoint-of-the-lan", phone(endpoint="10.44.7.60:51820"), ("endpoint-private",)),
    Exported("endpoint-behind-the-provider", phone(endpoint="192.168.90.2:51821"), ("endpoint-private",)),
    Exported("endpoint-of-the-carrier", phone(endpoint="100.64.3.9:51821"), ("endpoint-private",)),
    Exported("endpoint-never-filled-in", phone(endpoint="<YOUR-SERVER-IP>:51820"), ("endpoint-placeholder",)),
    Exported("endpoint-example", phone(endpoint="vpn.example.com:51820"), ("endpoint-placeholder",)),
    Exported("endpoint-of-another-site", phone(endpoint="regatta.heronquay.example:51821"), ("endpoint-other",)),
    Exported("endpoint-of-last-year", phone(endpoint="203.0.113.9:51821"), ("endpoint-by-number",)),
    Exported("endpoint-by-number", phone(endpoint="203.0.113.44:51821"), ("endpoint-by-number",)),
    Exported("inside-port", phone(endpoint="boathouse.heronquay.example:51820"), ("endpoint-port",)),
    Exported("no-port", phone(endpoint="boathouse.heronquay.example"), ("endpoint-port",)),
    Exported("no-endpoint", phone(endpoint=None), ("endpoint-missing",)),
    Exported("nothing-goes-in", phone(allowed="10.88.44.11/32"), ("allowed-nothing",)),
    Exported("only-the-tunnel", phone(allowed="10.88.44.0/24"), ("allowed-nothing",)),
    Exported("no-allowed", phone(allowed=None), ("allowed-nothing",)),
    Exported("everything-for-a-lan-peer", phone(allowed=EVERYTHING), ("allowed-too-much",)),
    Exported("ipv6-leaks", coach(allowed="0.0.0.0/0"), ("leaks-ipv6",)),
    Exported("halves-leak", coach(allowed="0.0.0.0/1, 128.0.0.0/1"), ("leaks-ipv6",)),
    Exported("dns-leaks", coach(dns=None), ("leaks-dns",)),
    Exported("asleep", phone(alive=None), ("keepalive-missing",)),
    Exported("asleep-for-an-hour", phone(alive="3600"), ("keepalive-missing",)),
    Exported("too-large-for-pppoe", phone(mtu="1420"), ("mtu-wrong",)),
    Exported("jumbo", phone(mtu="9000"), ("mtu-wrong",)),
    Exported("no-mtu", phone(mtu=None), ("mtu-wrong",)),
    Exported("key-of-another-server", phone(public=text(public_of(STRANGER))), ("key-other-server",)),
    Exported("own-key-as-the-servers", phone(public=COX_PUBLIC), ("keys-mixed-up",)),
    Exported("cut-key", phone(public=SERVER_PUBLIC[:-3]), ("key-malformed",)),
    Exported("key-that-nobody-knows", phone(private=STRANGER), ("key-unknown",), ("key-unknown",)),
    Exported("address-of-the-coach", phone(address="10.88.44.12/32"), ("address-of-others",)),
    Exported("no-address", phone().replace("Address = 10.88.44.11/32\n", ""), ("profile-incomplete",)),
    Exported("hotel-lan", phone(allowed=f"{LAN}, 192.168.1.0/24"), ("profile-overlap", "allowed-too-much")),
    Exported("network-of-others", phone(allowed=f"{LAN}, 198.51.100.0/24"), ("allowed-too-much",)),
    Exported("whole-of-the-tunnels", phone(allowed=f"{LAN}, 10.88.44.0/24"), ()),
    Exported("dns-out-of-reach", phone(dns="10.99.0.1"), ("dns-outside",)),
    Exported("dns-narrowed", phone(dns="10.99.0.1", allowed=EVERYTHING), ("allowed-too-much",)),
    Exported("dns-of-the-world", phone(dns="192.0.2.53, club"), ()),
    Exported("address-and-the-lan", phone(address="10.88.44.11/32, 10.44.7.11/24"),
             ("address-of-others", "profile-overlap")),
    Exported("address-with-a-wide-network", phone(address="10.88.44.11/8"), ("address-of-others", "profile-overlap")),
    Exported("second-server", phone(more_peer=f"[Peer]\nPublicKey = {text(public_of(STRANGER))}\n"
                                    "AllowedIPs = 10.44.7.40/32\nEndpoint = 198.51.100.7:51820"),
             ("profile-unexpected",)),
    Exported("second-server-first", phone().replace("[Peer]", f"[Peer]\nPublicKey = {text(public_of(STRANGER))}\n"
                                                    "AllowedIPs = 10.44.7.40/32\n[Peer]"), ("profile-unexpected",)),
    Exported("second-server-without-key", phone(more_peer="[Peer]\nAllowedIPs = 10.44.7.40/32"),
             ("profile-unexpected", "profile-incomplete")),
    Exported(
        "tunnel-in-the-lan", phone(address="10.44.7.11/24"), ("profile-overlap", "address-of-others")
    ),
    Exported("misspelt", phone().replace("AllowedIPs", "AllowedIP"), ("profile-unreadable", "allowed-nothing")),
    Exported("makers-own-key", phone(more="Name = Club"), ("profile-unreadable",)),
    Exported("empty-shared-key", phone(more_peer="PresharedKey ="), ("profile-unreadable",)),
    Exported("runs-a-command", phone(more="PostUp = iptables -F"), ("profile-runs-commands",)),
    Exported("runs-a-command-in-a-peer", phone(more_peer="PreUp = id"), ("profile-runs-commands",)),
    Exported("runs-as-a-server", phone(more="ListenPort = 51820\nPostUp = id", endpoint=None),
             ("profile-runs-commands", "key-unknown", "allowed-takes-others"), ("key-unknown", "allowed-takes-others")),
    Exported("misspelt-hook", phone(more="Post_Up = id"), ("profile-unreadable",)),
    Exported("behind-a-header", "[Interface] = 1\nPreDown = id\n" + phone(),
             ("profile-unreadable", "profile-runs-commands"), ("profile-unreadable",)),
    Exported("writes-over-itself", phone(more="SaveConfig = true"), ("profile-writes-files",)),
    Exported("mark-of-nothing", phone(more="FwMark = $(id)"), ("profile-unreadable",)),
    Exported("no-routes", phone(more="Table = off"), ("profile-table-off",)),
    Exported("windows-ends", phone(endpoint="10.44.7.60:51820").replace("\n", "\r\n"), ("endpoint-private",)),
    Exported("byte-order-mark", "\ufeff" + phone(alive=None), ("profile-unreadable", "keepalive-missing")),
    Exported("lower-case-and-tight", phone(alive=None).lower().replace(text(COX).lower(), text(COX)).replace(
        SERVER_PUBLIC.lower(), SERVER_PUBLIC).replace(" = ", "="), ("keepalive-missing",)),
    Exported("all-at-once", coach(endpoint="192.168.90.2:51820", allowed="0.0.0.0/0", alive=None, dns=None,
                                  mtu="1500"),
             ("endpoint-private", "leaks-ipv6", "keepalive-missing", "leaks-dns", "mtu-wrong")),
)  # fmt: skip
