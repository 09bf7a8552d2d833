"""The genuine handshake of a WireGuard service: what answers it has the server's private key, and nothing else does."""

from __future__ import annotations

import anyio

from hooper.check.handshake_keys import ProbeKeys
from hooper.check.results import IcmpSeen, Seen
from hooper.errors import HooperError, WireError
from hooper.net.exchange import socket_towards
from hooper.net.types import Datagrams, Door, Endpoint, Rejected
from hooper.wire.wireguard import Initiator, SessionKeys
from hooper.words.said import quoted, say

TRIES = 4  # within the deadline; a lost datagram is then no verdict
LEAST_WAIT = 0.3  # seconds


async def handshake(door: Door, to: Endpoint, keys: ProbeKeys, seen: Seen, deadline: float) -> None:
    """Try it, and write down what came of it. deadline: seconds for all of it. Never raises for what a network does."""
    strange = 0
    made: list[Initiator] = []
    cookie: bytes | None = None
    try:
        with anyio.move_on_after(deadline):
            async with await socket_towards(door, to.address) as socket:
                for _ in range(TRIES):
                    initiator = Initiator(keys.private, keys.server)
                    made.append(initiator)
                    async with keys.turn:
                        await socket.send(initiator.initiation(keys.label(door.clock.now()), cookie), to)
                        with anyio.move_on_after(max(LEAST_WAIT, deadline / (TRIES + 1))):
                            while True:
                                came = await _answer(socket, to, made)
                                if isinstance(came, Rejected):
                                    rejected(came, to, seen)
                                    return
                                if came is None:
                                    strange += 1
                                    continue
                                seen.verdict = "answered"
                                if isinstance(came, SessionKeys):
                                    seen.detail = say("handshake-succeeds", tunnel=keys.tunnel)
                                    return
                                busy = say("handshake-busy")
                                seen.detail, cookie = busy, came
                                break
    except (HooperError, WireError) as exc:
        if seen.verdict != "answered":
            seen.verdict, seen.detail = "unproven", quoted(exc.message)
        return
    if seen.verdict == "answered":
        return
    if strange:
        seen.verdict = "mismatched"
        seen.detail = say("handshake-other-key", tunnel=keys.tunnel)
    else:
        seen.verdict = "silent"
        seen.detail = say("handshake-silent", seconds=deadline)


async def _answer(socket: Datagrams, to: Endpoint, made: list[Initiator]) -> SessionKeys | bytes | Rejected | None:
    """The next thing that comes: a session, a cookie, a refusal; None: it is not from this server."""
    came = await socket.receive()
    if isinstance(came, Rejected):
        return came
    if came.sender != to:
        return None
    for initiator in reversed(made):
        try:
            return initiator.read(came.data)
        except WireError:
            continue
    return None


def rejected(came: Rejected, to: Endpoint, seen: Seen) -> None:
    """Write down an ICMP message that came instead of an answer."""
    seen.icmp = IcmpSeen(came.icmp.type, came.icmp.code, came.icmp.name, str(came.by) if came.by else None)
    seen.verdict = "refused" if came.icmp.refuses else "silent"
    seen.detail = say("icmp-says", by=came.by or to.address, to=to, name=came.icmp.name)
