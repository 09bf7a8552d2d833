"""What is sent to a UDP port, by what it speaks: a genuine handshake where there is one, else something harmless."""

from __future__ import annotations

import secrets
import ssl

import anyio

from hooper.check.handshake import handshake, rejected
from hooper.check.handshake_keys import ControlKeys, ProbeKeys, StandInKey
from hooper.check.more_talks import ask_known
from hooper.check.openvpn import OverUdp, control_channel
from hooper.check.results import Seen
from hooper.check.stand_in import ask_datagram
from hooper.check.targets import Target
from hooper.errors import HooperError, WireError
from hooper.net.exchange import socket_towards
from hooper.net.types import Door, Endpoint, Rejected
from hooper.site.protocols import SPEECHES
from hooper.wire import ike
from hooper.words.said import quoted, say

IKE_WAITS = (0.5, 1.0, 2.0, 4.0)  # seconds until the first messages are sent again (RFC 7296 section 2.4)


async def datagrams(door: Door, target: Target, seen: Seen, deadline: float) -> None:
    """Probe a UDP port. deadline: seconds for all of it. Never raises for what a network does."""
    assert target.address is not None
    to = Endpoint(target.address, target.port)
    if isinstance(target.keys, ProbeKeys):
        await handshake(door, to, target.keys, seen, deadline)
        return
    talk = _TALKS.get(target.speaks, _anything)
    if isinstance(target.keys, StandInKey):
        talk = _stand_in
    try:
        with anyio.move_on_after(deadline) as waiting:
            await talk(door, to, target, seen, deadline)
    except (HooperError, ssl.SSLError, ValueError) as exc:
        if seen.verdict != "answered":
            words = quoted(exc.message if isinstance(exc, HooperError) else str(exc))
            seen.verdict = "mismatched" if isinstance(exc, WireError | ssl.SSLError | ValueError) else "unproven"
            seen.detail = say("not-as", speaks=target.speaks, failure=words) if seen.verdict == "mismatched" else words
        else:
            seen.problems.append("tls-failed")
            seen.detail += say("tls-not-up")
        return
    if waiting.cancelled_caught and seen.verdict == "silent":
        _nothing_came(target, seen, deadline)


def _nothing_came(target: Target, seen: Seen, deadline: float) -> None:
    """Silence: what it says depends on who would answer whom."""
    nothing = say("nothing-came", seconds=deadline)
    if seen.detail:  # something did, and it is of nobody that was asked
        seen.verdict = "mismatched" if target.provable else "connected"
    elif isinstance(target.keys, StandInKey):
        seen.detail = say("not-to-stand-in", nothing=nothing)
    elif target.keys is not None and target.provable:
        seen.detail = say("nothing-by-secret", nothing=nothing)
    elif target.expected == "reachable":
        speech = SPEECHES[target.speaks]
        mute = say(
            "mute-to-strangers", why=quoted(speech.silence) or say("answers-strangers-nothing", speaks=target.speaks)
        )
        seen.verdict, seen.detail = "unproven", mute if speech.mute else say("no-proof-over-udp")
    else:
        seen.detail = nothing


async def _stand_in(door: Door, to: Endpoint, target: Target, seen: Seen, deadline: float) -> None:
    del deadline
    assert isinstance(target.keys, StandInKey)
    await ask_datagram(door, to, target.keys, seen)


async def _openvpn(door: Door, to: Endpoint, target: Target, seen: Seen, deadline: float) -> None:
    del deadline
    keys = target.keys if isinstance(target.keys, ControlKeys) else None
    async with await socket_towards(door, to.address) as socket:
        came = await control_channel(OverUdp(socket, to), door.clock, keys, seen)
        if came is not None:
            rejected(came, to, seen)


async def _ike(door: Door, to: Endpoint, target: Target, seen: Seen, deadline: float) -> None:
    """Both versions are offered what nobody takes: a daemon refuses, and keeps nothing of it. No login."""
    from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey

    del deadline
    marked = target.speaks == "ipsec-nat"
    spis = secrets.token_bytes(8), secrets.token_bytes(8)
    public = X25519PrivateKey.generate().public_key().public_bytes_raw()
    messages = (ike.sa_init(spis[0], secrets.token_bytes(32), public), ike.main_mode(spis[1]))
    async with await socket_towards(door, to.address) as socket:
        for wait in (*IKE_WAITS, *[IKE_WAITS[-1]] * 8):
            for message in messages:
                await socket.send((ike.MARKER if marked else b"") + message, to)
            with anyio.move_on_after(wait):
                while True:
                    came = await socket.receive()
                    if isinstance(came, Rejected):
                        rejected(came, to, seen)
                        return
                    if came.sender == to and _is_ike(came.data, spis, seen, marked=marked):
                        return


def _is_ike(data: bytes, spis: tuple[bytes, bytes], seen: Seen, *, marked: bool) -> bool:
    """Whether this answers one of them."""
    for spi in spis:
        try:
            answer = ike.read_answer(data, spi, marked=marked)
        except WireError as exc:
            seen.detail = say("not-ike", message=exc.message)
            continue
        seen.verdict, seen.detail = "answered", quoted(answer.words)  # which version comes first is chance
        return True
    return False


async def _known(door: Door, to: Endpoint, target: Target, seen: Seen, deadline: float) -> None:
    """A question in the service's own protocol."""
    async with await socket_towards(door, to.address) as socket:
        came = await ask_known(socket, to, target, seen, deadline / 2)
        if came is not None:
            rejected(came, to, seen)


async def _anything(door: Door, to: Endpoint, target: Target, seen: Seen, deadline: float) -> None:
    """Send something harmless twice. An answer or a refusal proves a lot, silence nothing."""
    del target
    async with await socket_towards(door, to.address) as socket:
        await socket.send(b"\0", to)
        came = None
        with anyio.move_on_after(deadline / 2):
            came = await socket.receive()
        if came is None:
            await socket.send(b"\0", to)
            came = await socket.receive()
        if isinstance(came, Rejected):
            rejected(came, to, seen)
        else:
            seen.verdict, seen.detail = "connected", say("datagram-back")


_TALKS = {"openvpn": _openvpn, "ike": _ike, "ipsec-nat": _ike, "dns": _known, "ntp": _known, "sip": _known}
