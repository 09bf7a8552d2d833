"""Connections to a town in this process that need no socket: where the asker runs in the town's own loop."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from ipaddress import IPv4Address
from unittest import mock

import anyio
from anyio.abc import ByteStream
from anyio.lowlevel import checkpoint
from anyio.streams.buffered import BufferedByteStream
from anyio.streams.memory import MemoryObjectReceiveStream, MemoryObjectSendStream

from hooper.lab.switchboard import Switchboard
from hooper.net.acceptor import FIRST_S, Guest
from hooper.net.lab_door import LabLink
from hooper.net.types import Endpoint

CHUNKS = 64  # that wait to be read, before a sender waits too
_ON_SOCKETS = LabLink.stream
_INNER: dict[int, tuple[asyncio.AbstractEventLoop, Switchboard]] = {}  # by the port that a board listens on


class Pipe(ByteStream):
    """One end of a connection within a loop."""

    def __init__(self, out: MemoryObjectSendStream[bytes], into: MemoryObjectReceiveStream[bytes]) -> None:
        self.out, self.into, self.rest = out, into, b""

    async def send(self, item: bytes) -> None:
        await self.out.send(bytes(item))

    async def receive(self, max_bytes: int = 65536) -> bytes:
        data = self.rest or await self.into.receive()
        self.rest = data[max_bytes:]
        return data[:max_bytes]

    async def send_eof(self) -> None:
        self.out.close()

    async def aclose(self) -> None:
        self.out.close()
        self.into.close()
        await checkpoint()


def pipe() -> tuple[Pipe, Pipe]:
    """Both ends."""
    there, back = _one_way(), _one_way()
    return Pipe(there[0], back[1]), Pipe(back[0], there[1])


def _one_way() -> tuple[MemoryObjectSendStream[bytes], MemoryObjectReceiveStream[bytes]]:
    return anyio.create_memory_object_stream(CHUNKS)


async def _serve(board: Switchboard, end: Pipe) -> None:
    """As the one acceptor does: whatever comes of it, it ends that one connection."""
    guest = Guest(end, Endpoint(IPv4Address("127.0.0.1"), 9))
    try:
        with suppress(Exception):
            if await guest.begin(FIRST_S):
                await board._one(guest)
    finally:
        await guest.aclose()


async def _stream(link: LabLink) -> BufferedByteStream:
    loop, board = _INNER.get(link.address.port, (None, None))
    if board is None or loop is not asyncio.get_running_loop():
        return await _ON_SOCKETS(link)
    mine, theirs = pipe()
    task = loop.create_task(_serve(board, theirs))
    _TASKS.add(task)
    task.add_done_callback(_TASKS.discard)
    return BufferedByteStream(mine)


_TASKS = set[asyncio.Task[None]]()


@contextmanager
def without_sockets(port: int, loop: asyncio.AbstractEventLoop, board: Switchboard) -> Iterator[None]:
    """Whoever runs in that loop reaches the board without one; all others by its port, as ever."""
    _INNER[port] = loop, board
    try:
        with mock.patch.object(LabLink, "stream", _stream):
            yield
    finally:
        del _INNER[port]
