"""What guards an OpenVPN side's control packets, by its own file, sans-I/O."""

from __future__ import annotations

from collections.abc import Callable

from hooper.errors import WireError
from hooper.wire.openvpn import DIGESTS, Bare, Guard, Role, TlsAuth, TlsCrypt, parse_client_key, parse_static_key
from hooper.wire.ovpnfile import OpenVpnFile


def guard_of(file: OpenVpnFile, role: Role = "client") -> Callable[[], Guard]:
    """What a side with this file guards its packets with; made anew for each conversation.

    Raises: WireError: its key cannot be read, or stands in a file beside it.
    """
    for name in ("tls-crypt-v2", "tls-crypt", "tls-auth"):
        inside, option = file.inline(name), file.get(name)
        if inside is None and option is not None:
            raise WireError(name, 0, f"it stands in the file {option.word(0)}, and not inside")
        if inside is None:
            continue
        if name == "tls-crypt-v2":
            key, wrapped = parse_client_key(inside.text)
            return lambda: TlsCrypt(key, "client", wrapped)
        static = parse_static_key(inside.text)
        if name == "tls-crypt":
            return lambda: TlsCrypt(static, role)
        direction, auth = direction_of(file), file.get("auth")
        digest = (auth.word(0) if auth is not None else "SHA1").upper().replace("-", "")  # openvpn(8), --auth
        if digest not in DIGESTS:
            raise WireError("auth", 0, f"{digest} is not known here")
        return lambda: TlsAuth(static, direction, digest)
    return Bare


def direction_of(file: OpenVpnFile) -> int | None:
    """Which half of a static key a side signs with: 0, 1, or None: both use the same."""
    said, option = file.get("key-direction"), file.get("tls-auth")
    word = said.word(0) if said is not None else option.word(1) if option is not None else ""
    return int(word) if word in ("0", "1") else None
