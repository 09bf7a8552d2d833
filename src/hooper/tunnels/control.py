"""The key that guards an OpenVPN server's control channel, and its authorities, out of a profile for it. Pure."""

from __future__ import annotations

from collections.abc import Callable

from hooper.errors import MachineError, WireError
from hooper.wire.openvpn import DIGESTS, Bare, Guard, TlsAuth, TlsCrypt, parse_client_key, parse_static_key
from hooper.wire.ovpnfile import OpenVpnFile


def guard_of(file: OpenVpnFile) -> Callable[[], Guard]:
    """What a client with this profile guards its packets with; made anew for each conversation.

    Raises: MachineError: its key stands in a file beside it, or cannot be read.
    """
    try:
        return _guard_of(file)
    except WireError as exc:
        raise MachineError(
            f"the shared key in the profile cannot be read: {exc.message}",
            code="secret-missing",
            remedy="Export the profile again, with its keys inside.",
        ) from None


def _guard_of(file: OpenVpnFile) -> Callable[[], Guard]:
    for name in ("tls-crypt-v2", "tls-crypt", "tls-auth"):
        inside, option = file.inline(name), file.get(name)
        if inside is None and option is not None:
            raise MachineError(
                f"the profile names the file {option.word(0)} for {name}, and does not hold it",
                code="secret-missing",
                remedy=f"Put its text between <{name}> and </{name}> into the profile.",
            )
        if inside is None:
            continue
        if name == "tls-crypt-v2":
            key, wrapped = parse_client_key(inside.text)
            return lambda: TlsCrypt(key, "client", wrapped)
        static = parse_static_key(inside.text)
        if name == "tls-crypt":
            return lambda: TlsCrypt(static)
        direction = direction_of(file)
        digest = (file.get("auth").word(0) if file.get("auth") else "SHA1").upper().replace("-", "")  # type: ignore[union-attr]
        if digest not in DIGESTS:
            raise WireError("auth", 0, f"{digest} is not known here")
        return lambda: TlsAuth(static, direction, digest)
    return Bare


def direction_of(file: OpenVpnFile) -> int | None:
    """Which half of a static key a side signs with: 0, 1, or None: both use the same."""
    said, option = file.get("key-direction"), file.get("tls-auth")
    word = said.word(0) if said is not None else option.word(1) if option is not None else ""
    return int(word) if word in ("0", "1") else None
