"""The keys that the handshakes of tunnels are tried with."""

from __future__ import annotations

import base64
import hashlib
from datetime import datetime

import anyio

from hooper.check.keys import PinnedKey, ProbeKeys, TunnelKeys
from hooper.errors import HooperError
from hooper.tunnels.keys import KeyRing
from hooper.usecases.control_keys import control_keys
from hooper.usecases.run import Run
from hooper.wire.wireguard import tai64n


def probe_keys(run: Run) -> dict[str, TunnelKeys]:
    """By service, for each tunnel that can be told by a handshake. What is wrong with its keys is trouble."""
    found: dict[str, TunnelKeys] = {}
    for key, tunnel in run.site.tunnels.items():
        if tunnel.of.key == "ssh" and tunnel.public_key is not None:
            kind, blob = tunnel.public_key.split()
            digest = hashlib.sha256(base64.b64decode(blob)).hexdigest()
            found[tunnel.service] = PinnedKey(key, kind, f"sha256:{digest}")
        if tunnel.kind == "openvpn":
            try:
                keys = control_keys(run, key, tunnel)
            except HooperError as exc:
                run.trouble.append(exc)
                continue
            found |= {service: keys for service in (tunnel.service, tunnel.also) if service is not None}
    if run.state is None:
        return found
    ring = KeyRing(run.state.tunnels)
    for key, tunnel in run.site.tunnels.items():
        if tunnel.probe_key is None or tunnel.public_key is None:
            continue
        try:
            private = ring.private(tunnel.probe_key)
        except HooperError as exc:
            run.trouble.append(exc)
            continue
        if private is not None:
            secret, server = base64.b64decode(private.reveal()), base64.b64decode(tunnel.public_key)
            found[tunnel.service] = ProbeKeys(key, secret, server, Labels(run, tunnel.probe_key), anyio.Lock())
    return found


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
