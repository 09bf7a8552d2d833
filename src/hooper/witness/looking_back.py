"""The witness at work: who asks with a key that it knows is looked back at, where he comes from, and nowhere else.

No message has an address, and nothing here takes one from a message: a connection is made to the address of the
stream that asked for it. So it cannot be made to look at anybody else.
"""

from __future__ import annotations

import json
import secrets
import ssl
from collections import OrderedDict
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING, Any, Never

import anyio
from anyio.abc import ByteStream
from anyio.streams.buffered import BufferedByteStream
from anyio.streams.tls import TLSStream

from hooper.clock import rfc3339
from hooper.errors import HooperError, WireError
from hooper.net.acceptor import accept_all, affordable
from hooper.net.types import Datagram, Endpoint, Refused, Unreachable
from hooper.visible import shown
from hooper.wire import witness_talk as wire
from hooper.witness.pinned_keys import OwnKey, is_signed, pin_of, tls_of

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.net.acceptor import Guest
    from hooper.net.types import Door, Listener
    from hooper.witness.register import Register

AT_ONCE, OF_EACH = 80, 48  # connections of whom is not known yet; of one address
ASK_S, OPEN_S, OPENED_S = 5.0, 10.0, 30.0  # seconds for a question; until a port answers; that it is carried
CARRIED, DATAGRAMS = 512 * 1024, 64  # bytes and datagrams that one opening carries each way
A_MINUTE, AT_A_TIME = 240, 32  # questions and openings of one site
JOINS = 10  # tries to join, of one address in a minute
ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError, anyio.IncompleteRead, ssl.SSLError)


class Rates:
    """How often somebody may: so many in a minute, by whom that is. What is remembered is bounded."""

    def __init__(self, a_minute: int, most: int = 4096) -> None:
        self.a_minute, self.most = a_minute, most
        self._left: OrderedDict[Any, tuple[float, float]] = OrderedDict()  # what is left, and as of when

    def may(self, who: Any, now: float) -> bool:
        """Take one. now: in seconds, growing."""
        left, since = self._left.pop(who, (float(self.a_minute), now))
        left = min(left + (now - since) * self.a_minute / 60, self.a_minute)
        self._left[who] = (max(left - 1, 0.0), now) if left >= 1 else (left, now)
        while len(self._left) > self.most:
            self._left.popitem(last=False)
        return left >= 1


@dataclass
class Waiting:
    """A site that waits at a box. sealed: its own note. came: the other's; empty: nobody came."""

    sealed: bytes
    came: bytes = b""
    met: anyio.Event = field(default_factory=anyio.Event)


@dataclass
class WitnessServer:
    """door: by which it looks, and its clock. register: whom it knows. key: its own."""

    door: Door
    register: Register
    key: OwnKey
    asked: Rates = field(default_factory=lambda: Rates(A_MINUTE))
    joined: Rates = field(default_factory=lambda: Rates(JOINS))
    open: dict[bytes, int] = field(default_factory=dict)
    waiting: dict[tuple[bytes, int], Waiting] = field(default_factory=dict)
    heard: anyio.Event = field(default_factory=anyio.Event)

    def __post_init__(self) -> None:
        self.pin, self.tls = pin_of(self.key.public), tls_of(self.key)

    def now(self) -> datetime:
        return self.door.clock.now()

    async def serve(self, listener: Listener) -> Never:
        """Serve whoever comes, until it is cancelled."""

        await accept_all(listener, self.one, at_once=AT_ONCE, of_each=OF_EACH)

    async def one(self, raw: Guest) -> None:
        """One connection: a question, its answer, and where that was asked for a port of theirs. Who is known has his
        time to the end: what he may have open is bounded by itself.
        """
        source = raw.peer.address
        with suppress(*ENDED, TimeoutError):
            with anyio.fail_after(ASK_S):
                tls = await TLSStream.wrap(raw, server_side=True, ssl_context=self.tls, standard_compatible=False)
                stream, nonce = BufferedByteStream(tls), secrets.token_bytes(wire.NONCE)
                await stream.send(wire.Hello(wire.VERSIONS, nonce, rfc3339(self.now())).serialize())
                try:
                    asked = wire.Ask.parse(await read_message(stream))
                    answer = self._answered(asked, nonce, source)
                    if "refused" not in answer:
                        raw.stay()
                except WireError as exc:
                    answer = _refused("not-understood", str(exc))
                except HooperError:
                    answer = _refused("busy", "the witness cannot keep it now")
                opening = answer.pop("open", None)
                if opening is None:
                    await stream.send(wire.serialize(answer))
            if opening is None:
                return
            key, there = asked.key, self.open.get(asked.key, 0)
            if there >= AT_A_TIME or sum(self.open.values()) >= affordable():
                await stream.send(wire.serialize(_refused("too-much", "too much is open at once")))
                return
            self.open[key] = there + 1
            try:
                if isinstance(opening, wire.MeetAsked):
                    await self._meet(stream, opening, source)
                else:
                    await self._opened(stream, opening, source)
            finally:
                self.open[key] -= 1
                if not self.open[key]:
                    del self.open[key]

    def _answered(self, asked: wire.Ask, nonce: bytes, source: IPAddress) -> dict[str, Any]:
        """Raises: WireError, StateError."""
        if asked.version not in wire.VERSIONS:
            return _refused("no-common-version", f"it speaks {', '.join(map(str, wire.VERSIONS))}")
        if not is_signed(asked.key, asked.sign, wire.signed(self.pin, nonce, asked.body)):
            return _refused("not-known", "its signature is not right")
        body, at = asked.asked(), self.door.clock.monotonic()
        if body["do"] == "join":
            if not self.joined.may(source, at):
                return _refused("too-much", "too many have tried to join from there")
            return self._join(asked.key, body)
        known = self.register.site(asked.key)
        if known is None:
            return _refused("not-known", "it was not invited, or was forgotten")
        if not self.asked.may(asked.key, at):
            return _refused("too-much", "too many questions in a minute")
        if body["do"] == "leave":
            self.register.forget(asked.key)
        if body["do"] == "beat":
            beat = wire.Beat.of(body)
            kept = {key: value for key, value in beat.body().items() if key not in ("do", "nonce")}
            self.register.heard(asked.key, str(source), json.dumps(kept), self.now())
            self.heard.set()
            now = rfc3339(self.now())
            sign = self.key.sign(wire.signed_time(beat.nonce, now))
            return {"you": str(source), "now": now, "sign": wire.in_base64(sign), "told": known.told}
        if body["do"] == "open":
            return {"open": wire.PortAsked.of(body)}
        if body["do"] == "meet":
            return {"open": wire.MeetAsked.of(body)}
        return {"you": str(source), "now": rfc3339(self.now())}

    def _join(self, key: bytes, body: dict[str, Any]) -> dict[str, Any]:
        secret = wire.bytes_of(body, "secret", wire.SECRET)
        title = shown(wire.text_of(body, "title", 80)) or "a site"
        if not self.register.join(secret, key, title, self.now()):
            return _refused("not-invited", "the invitation was used, is over, or never was")
        return {"joined": True}

    # --- two sites that hand each other a note

    async def _meet(self, stream: BufferedByteStream, asked: wire.MeetAsked, source: IPAddress) -> None:
        """Hand each side of a box the other's note, once both are here."""
        other = self.waiting.pop((asked.box, 1 - asked.side), None)
        mine = Waiting(asked.sealed)
        try:
            if other is not None:
                mine.came = other.sealed
                other.came = asked.sealed
                other.met.set()
            else:
                former = self.waiting.get((asked.box, asked.side))
                self.waiting[asked.box, asked.side] = mine
                if former is not None:
                    former.met.set()
                with anyio.move_on_after(asked.wait):
                    await mine.met.wait()
            answer = {"you": str(source), "now": rfc3339(self.now()), "sealed": wire.in_base64(mine.came)}
            with anyio.fail_after(ASK_S):
                await stream.send(wire.serialize(answer))
        finally:
            if self.waiting.get((asked.box, asked.side)) is mine:
                del self.waiting[asked.box, asked.side]

    # --- ports of the site that asks

    async def _opened(self, stream: BufferedByteStream, to: wire.PortAsked, source: IPAddress) -> None:
        """Connect a port at the address that the question came from, and carry what is said."""
        with anyio.move_on_after(OPEN_S + OPENED_S):
            if to.transport == "tcp":
                await self._tcp(stream, Endpoint(source, to.port))
            else:
                await self._udp(stream, Endpoint(source, to.port))

    async def _tcp(self, stream: BufferedByteStream, to: Endpoint) -> None:
        try:
            with anyio.fail_after(OPEN_S):
                far = await self.door.connect(to.address, to.port)
        except TimeoutError:
            await stream.send(wire.serialize({"closed": "silent", "you": str(to.address)}))
            return
        except (Refused, Unreachable) as exc:
            word = "refused" if isinstance(exc, Refused) else "unreachable"
            icmp = [exc.icmp.type, exc.icmp.code] if exc.icmp is not None else None
            by = str(exc.by) if exc.by is not None else None
            await stream.send(wire.serialize({"closed": word, "icmp": icmp, "by": by, "you": str(to.address)}))
            return
        except HooperError as exc:
            await stream.send(wire.serialize(_refused("busy", str(exc.message)[:200])))
            return
        async with far:
            await stream.send(wire.serialize({"opened": True, "you": str(to.address)}))
            await carried(stream, far)

    async def _udp(self, stream: BufferedByteStream, to: Endpoint) -> None:
        async with await self.door.datagrams() as socket:
            await stream.send(wire.serialize({"opened": True, "you": str(to.address)}))
            async with anyio.create_task_group() as tasks:

                async def back() -> None:
                    for _ in range(DATAGRAMS):
                        came = await socket.receive()
                        if isinstance(came, Datagram) and came.sender == to:
                            await stream.send(wire.LENGTH.pack(len(came.data)) + came.data)
                    tasks.cancel_scope.cancel()

                tasks.start_soon(back)
                with suppress(*ENDED):
                    for _ in range(DATAGRAMS):
                        (length,) = wire.LENGTH.unpack(await stream.receive_exactly(wire.LENGTH.size))
                        await socket.send(await stream.receive_exactly(length) if length else b"", to)
                    await self.door.clock.sleep(OPEN_S)
                tasks.cancel_scope.cancel()


def _refused(code: str, says: str) -> dict[str, Any]:
    return {"refused": code, "says": says}


async def read_message(stream: BufferedByteStream) -> bytes:
    """The bytes of one message. Raises: WireError; anyio's errors of a stream that ended."""
    return await stream.receive_exactly(wire.length_of(await stream.receive_exactly(wire.LENGTH.size)))


async def carried(one: ByteStream, other: ByteStream, most: int = CARRIED) -> None:
    """Carry bytes both ways, so many each, until one side ends."""

    async def carry(source: ByteStream, sink: ByteStream, scope: anyio.CancelScope) -> None:
        left = most
        with suppress(*ENDED):
            while left > 0:
                data = await source.receive(min(left, 65536))
                left -= len(data)
                await sink.send(data)
        scope.cancel()

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(carry, one, other, tasks.cancel_scope)
        tasks.start_soon(carry, other, one, tasks.cancel_scope)
