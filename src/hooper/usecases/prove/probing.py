"""The keys that the handshakes of tunnels are tried with."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING

import anyio

from hooper import deeds
from hooper.certs.inspect import key_fingerprint, known_in
from hooper.certs.store import CertificateStore
from hooper.check.handshake_keys import ControlKeys, PinnedKey, ProbeKeys, TunnelKeys
from hooper.errors import HooperError, MachineError, WireError
from hooper.tunnels.keys import KeyRing
from hooper.usecases.run import Run
from hooper.wire.openvpn import Bare, TlsCrypt, parse_static_key
from hooper.wire.ovpnfile import guard_of, parse
from hooper.wire.wireguard import tai64n

if TYPE_CHECKING:
    from hooper.site.tunnel_tables import Tunnel
    from hooper.wire.openvpn import Guard


def probe_keys(run: Run) -> dict[str, TunnelKeys]:
    """By service, for each tunnel that can be told by a handshake. What is wrong with its keys is trouble."""
    found: dict[str, TunnelKeys] = {}
    ring = KeyRing(run.state.tunnels) if run.state is not None else None
    for key, tunnel in run.site.tunnels.items():
        try:
            keys = _keys_of(run, ring, key, tunnel)
        except HooperError as exc:
            run.trouble.append(exc)
            continue
        if keys is not None:
            found |= {service: keys for service in (tunnel.service, tunnel.also) if service is not None}
    return found


def revoked_certificates(run: Run) -> frozenset[str]:
    """The fingerprints of the site's certificates that were revoked. What cannot be read is trouble."""
    try:
        store = CertificateStore(run.state.certificates) if run.state is not None else None
        return frozenset[str]().union(*(store.revoked(key) for key in run.site.certificates if store is not None))
    except MachineError as exc:
        run.trouble.append(exc)
        return frozenset()


def _keys_of(run: Run, ring: KeyRing | None, key: str, tunnel: Tunnel) -> TunnelKeys | None:
    """Raises: MachineError, WireError: a key cannot be read."""
    known = tunnel.public_key
    if tunnel.kind == "openvpn":
        return _control_keys(run, ring, key, tunnel)
    if tunnel.of.key == "ssh" and known is not None:
        kind, blob = known.split()
        return PinnedKey(key, kind, f"sha256:{hashlib.sha256(base64.b64decode(blob)).hexdigest()}")
    if ring is None or tunnel.probe_key is None or known is None:
        return None
    private = ring.private(tunnel.probe_key)
    if private is None:
        return None
    secret, server = base64.b64decode(private.reveal()), base64.b64decode(known)
    return ProbeKeys(key, secret, server, Labels(run, tunnel.probe_key), anyio.Lock())


def _control_keys(run: Run, ring: KeyRing | None, key: str, tunnel: Tunnel) -> ControlKeys:
    """What an OpenVPN server is looked at with, the key that guards it and the authority of its certificate: for one
    that we make from the keys kept here, for a device's own from the profile that the file names.
    """
    authority = tunnel.public_key
    if tunnel.made_by == "device" and tunnel.probe_profile is not None:
        profile = parse(tunnel.probe_profile.read(run.base).reveal())
        inside = profile.inline("ca")
        try:
            guard = guard_of(profile)
        except WireError as exc:
            raise MachineError(
                f"the shared key in {tunnel.probe_profile} cannot be used: {exc.message}",
                code="secret-missing",
                remedy=f"Export the profile again with its keys inside; `{deeds.MEND_PROFILE}` puts them there.",
            ) from None
        return _vouched(key, guard, authority, inside.text if inside is not None else "")
    ours = ring if tunnel.made_by != "device" else None
    shared = ours.text(authority, "tls-crypt") if ours is not None and authority is not None else None
    if shared is None or ours is None or authority is None:
        return ControlKeys(key, Bare, authority, sure=False)
    static = parse_static_key(shared)
    return _vouched(key, lambda: TlsCrypt(static), authority, ours.text(authority, "cert") or "")


def _vouched(key: str, guard: Callable[[], Guard], authority: str | None, pem: str) -> ControlKeys:
    """pem: the authority's certificates, of which the first counts where the site file names none."""
    from cryptography.hazmat.primitives.serialization import Encoding

    certificates = known_in(pem)
    known = authority or next(map(key_fingerprint, certificates), None)
    return ControlKeys(key, guard, known, tuple(one.public_bytes(Encoding.DER) for one in certificates))


class Labels:
    """Labels that never go back, not even over restarts and when the clock does."""

    def __init__(self, run: Run, public: str) -> None:
        self._run, self._public, self._last = run, public, b""

    def __call__(self, moment: datetime) -> bytes:
        with self._run.keeping() as state:
            if state is not None:
                self._last = max(self._last, state.tunnelling.label(self._public))
                self._last = tai64n(moment, self._last)
                state.tunnelling.labelled(self._public, self._last)
                return self._last
        self._last = tai64n(moment, self._last)
        return self._last
