"""The genuine handshake of a WireGuard service: what answers it has the server's private key, and nothing else does."""

from __future__ import annotations

import anyio

from hooper.check.keys import ProbeKeys
from hooper.check.results import IcmpSeen, Seen
from hooper.errors import HooperError, WireError
from hooper.net.exchange import socket_towards
from hooper.net.types import Datagrams, Door, Endpoint, Rejected
from hooper.wire.wireguard import Initiator, SessionKeys

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
                                    seen.detail = f"the handshake succeeds: it is the server of {keys.tunnel}"
                                    return
                                busy = "it is busy, and sends a cookie that only this server can make"
                                seen.detail, cookie = busy, came
                                break
    except (HooperError, WireError) as exc:
        if seen.verdict != "answered":
            seen.verdict, seen.detail = "unproven", exc.message
        return
    if seen.verdict == "answered":
        return
    if strange:
        seen.verdict = "mismatched"
        seen.detail = f"something answers that does not have the server's key of {keys.tunnel}"
    else:
        seen.verdict = "silent"
        seen.detail = (
            f"nothing came back within {deadline:.2g} s: no rule leads here, no server runs, it has another key than"
            " the site file, or it does not have the probe's key"
        )


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
    seen.detail = f"{came.by or to.address} says about {to}: {came.icmp.name}"
