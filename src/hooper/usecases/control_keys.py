"""What OpenVPN's servers are looked at with: the key that guards each, and the authority of its certificate."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.inspect import key_fingerprint, load_pem, with_known_keys
from hooper.check.keys import ControlKeys
from hooper.errors import MachineError, WireError
from hooper.tunnels.keys import KeyRing
from hooper.usecases.run import Run
from hooper.wire.openvpn import Bare, TlsCrypt, parse_static_key
from hooper.wire.ovpnfile import parse
from hooper.wire.ovpnguard import guard_of

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.site.tunnel_tables import Tunnel


def control_keys(run: Run, key: str, tunnel: Tunnel) -> ControlKeys:
    """For a tunnel that we make from the keys kept here, for a device's own from the profile that the file names.

    Raises: MachineError, WireError: a key cannot be read.
    """
    if tunnel.made_by == "device":
        if tunnel.probe_profile is None:
            return ControlKeys(key, Bare, tunnel.public_key, sure=False)
        profile = parse(tunnel.probe_profile.read(run.base).reveal())
        inside = profile.inline("ca")
        authorities = _certificates(inside.text if inside is not None else "")
        known = tunnel.public_key or next(map(key_fingerprint, authorities), None)
        try:
            guard = guard_of(profile)
        except WireError as exc:
            raise MachineError(
                f"the shared key in {tunnel.probe_profile} cannot be used: {exc.message}",
                code="secret-missing",
                remedy=f"Export the profile again with its keys inside; `{deeds.MEND_PROFILE}` puts them there.",
            ) from None
        return ControlKeys(key, guard, known, _ders(authorities))
    if run.state is None or tunnel.public_key is None:
        return ControlKeys(key, Bare, tunnel.public_key, sure=False)
    ring = KeyRing(run.state.tunnels)
    shared = ring.text(tunnel.public_key, "tls-crypt")
    if shared is None:
        return ControlKeys(key, Bare, tunnel.public_key, sure=False)
    static = parse_static_key(shared)
    authorities = _certificates(ring.text(tunnel.public_key, "cert") or "")
    return ControlKeys(key, lambda: TlsCrypt(static), tunnel.public_key, _ders(authorities))


def _certificates(text: str) -> list[x509.Certificate]:
    try:
        return with_known_keys(load_pem(text.encode()))
    except ValueError:
        return []


def _ders(certificates: list[x509.Certificate]) -> tuple[bytes, ...]:
    from cryptography.hazmat.primitives.serialization import Encoding

    return tuple(one.public_bytes(Encoding.DER) for one in certificates)
