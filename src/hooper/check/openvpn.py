"""OpenVPN's control channel as far as the server proves its certificate. Nobody logs in.

What it costs the server: one TLS handshake, which it ends itself since no certificate of a client came, and a line in
its log. Over a server that is not guarded by a shared key, anyone may do that.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Protocol

import anyio
from anyio.abc import ByteStream

from hooper.certs.inspect import key_fingerprint, load_chain, signed_by, with_known_keys
from hooper.certs.problems import EXPIRED, NOT_YET
from hooper.check.certificates import note_chain
from hooper.check.handshake_keys import ControlKeys
from hooper.check.results import Seen
from hooper.clock import Clock
from hooper.errors import WireError
from hooper.net.tls import MemoryTls
from hooper.net.types import Datagrams, Endpoint, Rejected
from hooper.wire.openvpn import LARGEST, Bare, Channel, frame, unframe
from hooper.words.said import quoted, say

WAITS = (0.5, 1.0, 1.5, 2.0, 4.0)  # seconds until what nobody has acknowledged is sent again
FAREWELL = 0.15  # seconds that the server may take to acknowledge the end, before it is sent once more
MOST = 64 * 1024  # bytes of TLS that are read of a server


class Carrier(Protocol):
    """What carries packets to the server and back. lossy: they may be lost on the way."""

    lossy: bool

    async def send(self, packet: bytes) -> None: ...

    async def receive(self) -> bytes | Rejected: ...


@dataclass
class OverUdp:
    socket: Datagrams
    to: Endpoint
    lossy: bool = True

    async def send(self, packet: bytes) -> None:
        await self.socket.send(packet, self.to)

    async def receive(self) -> bytes | Rejected:
        while True:
            came = await self.socket.receive()
            if isinstance(came, Rejected):
                return came
            if came.sender == self.to:
                return came.data


@dataclass
class OverTcp:
    stream: ByteStream
    lossy: bool = False
    _ready: list[bytes] = field(default_factory=list)
    _rest: bytes = b""

    async def send(self, packet: bytes) -> None:
        await self.stream.send(frame(packet))

    async def receive(self) -> bytes | Rejected:
        while not self._ready:
            self._ready, self._rest = unframe(self._rest + await self.stream.receive())
        return self._ready.pop(0)


async def control_channel(carrier: Carrier, clock: Clock, keys: ControlKeys | None, seen: Seen) -> Rejected | None:
    """Talk until the server has proven its certificate; the caller's deadline ends it.

    Returns: the refusal that came instead. Raises: WireError, over TCP: it is not OpenVPN; ssl.SSLError; what the
    carrier raises.
    """
    guard = keys.guard() if keys is not None else Bare()
    channel = Channel(guard, secrets.token_bytes(8), lambda: int(clock.now().timestamp()))
    tls, taken, wait = MemoryTls(), 0, 0
    await carrier.send(channel.opening())
    while not tls.proven:
        came: bytes | Rejected | None = None
        with anyio.move_on_after(WAITS[min(wait, len(WAITS) - 1)]):
            came = await carrier.receive()
        if isinstance(came, Rejected):
            return came
        if came is None:
            wait += 1
            await _send(carrier, channel.again() if carrier.lossy else ())
            continue
        before = channel.answered
        try:
            await _send(carrier, channel.receive(came[:LARGEST]))
        except WireError:
            seen.detail = say("openvpn-not-with-key" if keys else "openvpn-not")
            if not carrier.lossy:
                raise
            continue
        if channel.answered and not before:
            seen.verdict, seen.detail = "answered", say("openvpn")
        data = channel.take()
        taken += len(data)
        if taken > MOST:
            raise WireError("TLS", MOST, f"more than {MOST} bytes before the handshake ends")
        out = tls.step(data) if data or (channel.answered and not before) else b""
        await _send(carrier, channel.send(out))
        await _send(carrier, channel.acknowledge())
    _named(tls, keys, seen, clock)
    with anyio.move_on_after(FAREWELL) as waiting:
        await _farewell(carrier, channel)
    if waiting.cancelled_caught and carrier.lossy:
        await _send(carrier, channel.again())
    return None


async def _send(carrier: Carrier, packets: Iterable[bytes]) -> None:
    for packet in packets:
        await carrier.send(packet)


async def _farewell(carrier: Carrier, channel: Channel) -> None:
    """Wait until the last has arrived, so that the server does not keep waiting for it."""
    try:
        came = await carrier.receive()
        if isinstance(came, bytes):
            channel.receive(came[:LARGEST])
            await _send(carrier, channel.acknowledge())
    except (WireError, anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError):
        return


def _named(tls: MemoryTls, keys: ControlKeys | None, seen: Seen, clock: Clock) -> None:
    """Whose certificate it has shown."""
    seen.tls_version, seen.verdict, seen.detail = tls.version, "answered", say("openvpn")
    note_chain(seen, tls.chain)
    chain = with_known_keys(load_chain(tls.chain))
    if not chain:
        seen.detail += say("openvpn-unreadable")
        return
    leaf, now = chain[0], clock.now()
    if now > leaf.not_valid_after_utc:
        seen.problems.append(EXPIRED)
        seen.detail += quoted("; ") + say("certificate-expired", ended=leaf.not_valid_after_utc)
    elif now < leaf.not_valid_before_utc:
        seen.problems.append(NOT_YET)
        seen.detail += quoted("; ") + say("certificate-begins", begins=leaf.not_valid_before_utc)
    if keys is None or keys.authority is None:
        return
    held = [one for one in (*chain, *load_chain(keys.certificates)) if key_fingerprint(one) == keys.authority]
    if any(one == leaf or signed_by(leaf, one) for one in held):
        seen.detail += say("openvpn-of-tunnel", tunnel=keys.tunnel)
    elif held or len(chain) > 1 or leaf.issuer == leaf.subject:
        seen.verdict = "mismatched"
        seen.detail = say("openvpn-other-authority", tunnel=keys.tunnel)
    else:
        seen.detail += say("openvpn-authority-unknown")
