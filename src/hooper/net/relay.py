"""A way out by a door for a program that knows of no doors: it asks on the loopback, with a word that it was given.

One line goes in, `WORD HOST PORT`; one comes back, `ok` or `no`; from then on it is the connection itself.
"""

from __future__ import annotations

import hmac
import secrets
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from ipaddress import ip_address
from typing import NamedTuple

import anyio
from anyio.abc import ByteStream, SocketAttribute
from anyio.streams.buffered import BufferedByteStream

from hooper.errors import HooperError
from hooper.net.types import Door

LINE = 512  # bytes of a question
ASKED_S, CONNECTED_S = 5.0, 20.0
ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError)


class Relay(NamedTuple):
    """port: on the loopback. word: that a question begins with."""

    port: int
    word: str


@asynccontextmanager
async def relay(door: Door) -> AsyncIterator[Relay]:
    """Let whoever has the word connect by `door`, as long as this lasts. Raises: OSError: there is no loopback."""
    word = secrets.token_hex(16)

    async def serve(stream: ByteStream) -> None:
        async with stream:
            asked = BufferedByteStream(stream)
            try:
                with anyio.fail_after(ASKED_S):
                    line = await asked.receive_until(b"\n", LINE)
                with anyio.fail_after(CONNECTED_S):
                    far = await _connected(door, word, line)
            except (*ENDED, anyio.DelimiterNotFound, anyio.IncompleteRead, ValueError, HooperError, TimeoutError):
                with anyio.move_on_after(1):
                    await stream.send(b"no\n")
                return
            async with far:
                await stream.send(b"ok\n")
                await _joined(asked, far)

    listener = await anyio.create_tcp_listener(local_host="127.0.0.1", local_port=0)
    async with listener, anyio.create_task_group() as tasks:
        tasks.start_soon(listener.serve, serve)
        yield Relay(listener.extra(SocketAttribute.local_port), word)
        tasks.cancel_scope.cancel()


async def _connected(door: Door, word: str, line: bytes) -> ByteStream:
    """Raises: ValueError: it is no question of ours; HooperError: nobody is there."""
    given, host, port = line.decode("ascii").split(" ")
    if not hmac.compare_digest(given, word) or not 0 < int(port) < 65536:
        raise ValueError("no such question")
    try:
        found = [ip_address(host)]
    except ValueError:
        found = [*await door.lookup(host, "ipv4"), *await door.lookup(host, "ipv6")]
    if not found:
        raise ValueError("no such host")
    return await door.connect(found[0], int(port))


async def _joined(one: ByteStream, other: ByteStream) -> None:
    """Carry what comes on either side to the other, until both have ended."""

    async def carry(source: ByteStream, sink: ByteStream) -> None:
        try:
            while True:
                await sink.send(await source.receive())
        except ENDED:
            try:
                await sink.send_eof()
            except (*ENDED, OSError):
                return

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(carry, one, other)
        tasks.start_soon(carry, other, one)
