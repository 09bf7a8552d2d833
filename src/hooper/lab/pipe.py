"""A connection inside the town: two ends, what is sent at one is received at the other."""

from __future__ import annotations

import anyio
from anyio.abc import ByteStream
from anyio.streams.memory import MemoryObjectReceiveStream, MemoryObjectSendStream


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
