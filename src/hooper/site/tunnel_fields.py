"""The values of private access: keys, private networks, what a peer reaches."""

from __future__ import annotations

import base64
import re
from ipaddress import IPv6Network
from typing import Annotated, Any, Literal

from hooper.site.fields import Read, reader, string_schema, text_in, text_or_list, wrong

KeyForm = Literal["wireguard", "fingerprint", "ssh"]


def _wireguard_key(text: str) -> str:
    """A public key as WireGuard's tools write it: 32 bytes in Base64 (RFC 4648)."""
    data = base64.b64decode(text.strip(), validate=True)
    if len(data) != 32:
        raise ValueError(text)
    return base64.b64encode(data).decode()


def _ssh_key(text: str) -> str:
    """A public key as OpenSSH writes it, without its comment: the kind, and the key in Base64, which begins with the
    kind once more (RFC 4253 section 6.6).
    """
    kind, data, *_ = [*text.split(), "", ""]
    blob = base64.b64decode(data, validate=True)
    if len(blob) < 20 or blob[: 4 + len(kind)] != len(kind).to_bytes(4, "big") + kind.encode():
        raise ValueError(text)
    return f"{kind} {base64.b64encode(blob).decode()}"


def key_form(text: str) -> KeyForm:
    """Which form a key is written in."""
    return "fingerprint" if text.startswith("sha256:") else "ssh" if " " in text.strip() else "wireguard"


def _tunnel_key(text: str) -> str:
    form = key_form(text)
    if form == "ssh":
        return _ssh_key(text.strip())
    if form == "wireguard":
        return _wireguard_key(text)
    if not re.fullmatch(r"sha256:[0-9a-fA-F]{64}", text.strip()):
        raise ValueError(text)
    return text.strip().lower()


def _login(text: str) -> str:
    """A user's name: nothing that ends a word or begins an option wherever it is written."""
    if not re.fullmatch(r"[A-Za-z0-9_][A-Za-z0-9_.@-]{0,63}", text):
        raise ValueError(text)
    return text


def _into(value: Any) -> tuple[str, ...]:
    """What a peer reaches: one of two words, or a list of keys and networks."""
    if value in ("everything", "lan"):
        return (str(value),)
    given = value if isinstance(value, list) else [value]
    items = tuple(text_in(item, "a service, a host or a network") for item in given)
    if not items or any(word in items for word in ("everything", "lan")):
        raise wrong('this is "everything", "lan", or a list of services, hosts and networks')
    return items


Subnet6 = Annotated[
    IPv6Network, reader(IPv6Network, "an IPv6 network", "fd44:88:44::/64"), string_schema("An IPv6 network.")
]
WireGuardKey = Annotated[
    str,
    reader(_wireguard_key, "a WireGuard public key", "aB3dEf...44 letters...="),
    string_schema("A WireGuard public key: 32 bytes in Base64.", pattern="^[A-Za-z0-9+/]{43}=$"),
]
TunnelKey = Annotated[
    str,
    reader(_tunnel_key, "a public key", "aB3dEf...44 letters...=, or sha256:..., or ssh-ed25519 AAAA..."),
    string_schema(
        "A public key: WireGuard's in Base64, OpenVPN's as a fingerprint, SSH's as OpenSSH writes it.",
        pattern="^([A-Za-z0-9+/]{43}=|sha256:[0-9a-fA-F]{64}|[a-z0-9@.-]+ [A-Za-z0-9+/]+={0,2}( .*)?)$",
    ),
]
Login = Annotated[
    str,
    reader(_login, "a user's name", "cox"),
    string_schema("A user's name.", pattern="^[A-Za-z0-9_][A-Za-z0-9_.@-]{0,63}$"),
]
Into = Annotated[
    tuple[str, ...], Read(_into), text_or_list('"everything", "lan", or a list of services, hosts and networks.')
]
