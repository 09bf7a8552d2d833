"""The values of private access: keys, private networks, what a peer reaches."""

from __future__ import annotations

import base64
from ipaddress import IPv6Network
from typing import Annotated, Any

from hooper.site.fields import Read, reader, string_schema, text_in, text_or_list, wrong


def _wireguard_key(text: str) -> str:
    """A public key as WireGuard's tools write it: 32 bytes in Base64 (RFC 4648)."""
    data = base64.b64decode(text.strip(), validate=True)
    if len(data) != 32:
        raise ValueError(text)
    return base64.b64encode(data).decode()


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
    IPv6Network,
    reader(IPv6Network, "an IPv6 network", "fd44:88:44::/64"),
    string_schema("An IPv6 network."),
]
WireGuardKey = Annotated[
    str,
    reader(_wireguard_key, "a WireGuard public key", "aB3dEf...44 letters...="),
    string_schema("A WireGuard public key: 32 bytes in Base64.", pattern="^[A-Za-z0-9+/]{43}=$"),
]
Into = Annotated[
    tuple[str, ...],
    Read(_into),
    text_or_list('"everything", "lan", or a list of services, hosts and networks.'),
]
