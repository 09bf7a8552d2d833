"""Answering HTTP/1.1 (RFC 9112) on a port of a door: one request a connection, and a deadline for each."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Never

import anyio
import h11
from anyio.abc import ByteStream

from hooper.net.acceptor import Guest, accept_all
from hooper.net.types import Endpoint, Listener

if TYPE_CHECKING:
    import ssl

REQUEST_S = 10.0  # seconds for a whole request and its answer
BODY_LIMIT = 16 * 1024  # bytes
_ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError)


@dataclass(frozen=True, slots=True)
class HttpAsked:
    """One request. fields: by name in small letters; of several with one name, the last. peer: who asks."""

    method: str
    target: str
    fields: Mapping[str, str]
    body: bytes
    peer: Endpoint


@dataclass(frozen=True, slots=True)
class HttpSaid:
    """What is said to it. once_said: is called when it has been."""

    status: int = 200
    body: bytes = b""
    media_type: str = "text/plain; charset=utf-8"
    fields: Mapping[str, str] = field(default_factory=dict)
    once_said: Callable[[], None] = lambda: None


NOT_THERE = HttpSaid(404, b"no such page\n")
Answering = Callable[[HttpAsked], Awaitable[HttpSaid]]


async def serve_http(listener: Listener, answer: Answering) -> Never:
    """Answer every request that comes in, until it is cancelled."""

    async def served(guest: Guest) -> None:
        with anyio.move_on_after(REQUEST_S):
            await _one(guest, guest.peer, answer)

    await accept_all(listener, served)


async def serve_tls(listener: Listener, context: ssl.SSLContext) -> Never:
    """Complete the handshake with whoever comes, and say nothing after it, until it is cancelled."""
    import ssl

    from anyio.streams.tls import TLSStream

    async def served(guest: Guest) -> None:
        with anyio.move_on_after(REQUEST_S), suppress(ssl.SSLError, *_ENDED):
            async with await TLSStream.wrap(guest, server_side=True, ssl_context=context):
                pass

    await accept_all(listener, served)


async def _one(stream: ByteStream, peer: Endpoint, answer: Answering) -> None:
    conversation = h11.Connection(h11.SERVER)
    try:
        asked = await _request(conversation, stream, peer)
    except h11.RemoteProtocolError as exc:
        await _say(conversation, stream, HttpSaid(exc.error_status_hint, b"not understood\n"), "GET")
        return
    if asked is not None:
        said = await answer(asked)
        await _say(conversation, stream, said, asked.method)
        said.once_said()


async def _request(conversation: h11.Connection, stream: ByteStream, peer: Endpoint) -> HttpAsked | None:
    """The next request; None: there is none. Raises: RemoteProtocolError: what came is not HTTP, or is too long."""
    head: h11.Request | None = None
    body = b""
    while True:
        event = conversation.next_event()
        if event is h11.NEED_DATA:
            if head is not None and conversation.they_are_waiting_for_100_continue:
                await stream.send(conversation.send(h11.InformationalResponse(status_code=100, headers=[])) or b"")
            try:
                data = await stream.receive(65536)
            except anyio.EndOfStream:
                data = b""
            conversation.receive_data(data)
        elif isinstance(event, h11.Request):
            head = event
        elif isinstance(event, h11.Data):
            body += bytes(event.data)
            if len(body) > BODY_LIMIT:
                raise h11.RemoteProtocolError("too long", error_status_hint=413)
        elif isinstance(event, h11.EndOfMessage) and head is not None:
            fields = {name.decode("latin-1"): value.decode("latin-1") for name, value in head.headers}
            return HttpAsked(head.method.decode("latin-1"), head.target.decode("latin-1"), fields, body, peer)
        else:
            return None


async def _say(conversation: h11.Connection, stream: ByteStream, said: HttpSaid, method: str) -> None:
    if conversation.our_state not in (h11.IDLE, h11.SEND_RESPONSE):
        return
    headers = [
        ("Content-Type", said.media_type),
        ("Content-Length", str(len(said.body))),
        ("Cache-Control", "no-store"),
        ("X-Content-Type-Options", "nosniff"),
        ("Referrer-Policy", "no-referrer"),
        ("Connection", "close"),
        *said.fields.items(),
    ]
    out = conversation.send(h11.Response(status_code=said.status, headers=headers, reason=b"-")) or b""
    if method != "HEAD":
        out += conversation.send(h11.Data(data=said.body)) or b""
        out += conversation.send(h11.EndOfMessage()) or b""
    await stream.send(out)
    with suppress(*_ENDED), anyio.move_on_after(1):
        await stream.send_eof()
        while await stream.receive():  # until the browser has it all
            pass
