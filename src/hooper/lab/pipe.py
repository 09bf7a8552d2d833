"""A connection inside the town: two ends, what is sent at one is received at the other; and two of them joined."""

from __future__ import annotations

import ssl

import anyio
from anyio.abc import ByteStream
from anyio.streams.memory import MemoryObjectReceiveStream, MemoryObjectSendStream

from hooper.errors import WireError

GONE = (  # what a stream raises whose other side has left
    anyio.EndOfStream,
    anyio.BrokenResourceError,
    anyio.ClosedResourceError,
    anyio.IncompleteRead,
    anyio.DelimiterNotFound,
    ssl.SSLError,
    TimeoutError,
    WireError,
    OSError,
)


class End(ByteStream):
    """One end of a connection."""

    def __init__(self, inward: MemoryObjectReceiveStream[bytes], outward: MemoryObjectSendStream[bytes]) -> None:
        self._inward, self._outward, self._rest = inward, outward, b""

    async def receive(self, max_bytes: int = 65536) -> bytes:
        data = self._rest or await self._inward.receive()
        self._rest = data[max_bytes:]
        return data[:max_bytes]

    async def send(self, item: bytes) -> None:
        await self._outward.send(bytes(item))

    async def send_eof(self) -> None:
        await self._outward.aclose()

    async def aclose(self) -> None:
        await self._outward.aclose()
        await self._inward.aclose()


def pipe() -> tuple[End, End]:
    """Both ends."""
    there, back = anyio.create_memory_object_stream[bytes](64), anyio.create_memory_object_stream[bytes](64)
    return End(back[1], there[0]), End(there[1], back[0])


async def splice(one: ByteStream, other: ByteStream) -> None:
    """Carry bytes both ways until one side ends; the other is then ended too."""

    async def carry(source: ByteStream, sink: ByteStream, scope: anyio.CancelScope) -> None:
        try:
            while True:
                await sink.send(await source.receive())
        except GONE:
            pass
        scope.cancel()

    async with anyio.create_task_group() as tasks:
        tasks.start_soon(carry, one, other, tasks.cancel_scope)
        tasks.start_soon(carry, other, one, tasks.cancel_scope)
