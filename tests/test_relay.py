"""The way out for a program that knows no doors: only with the word, only to what the door reaches."""

from __future__ import annotations

from ipaddress import IPv4Address
from typing import Any

import anyio
import pytest
from anyio.abc import SocketAttribute

from hooper.net.relay import Relay, relay
from hooper.net.types import NoRoute


class Doorway:
    """A door to one listener, whatever is asked for. asked: where to."""

    def __init__(self, port: int) -> None:
        self.port, self.asked = port, list[tuple[str, int]]()

    async def lookup(self, name: str, family: str) -> list[IPv4Address]:
        return [IPv4Address("203.0.113.9")] if name == "far.heronquay.example" and family == "ipv4" else []

    async def connect(self, address: Any, port: int) -> Any:
        self.asked.append((str(address), port))
        if str(address) == "192.0.2.1":
            raise NoRoute("nobody is there")
        return await anyio.connect_tcp("127.0.0.1", self.port)


async def asked(way: Relay, line: bytes) -> bytes:
    """What comes of a question; of one that is granted, what the far side says too."""
    with anyio.fail_after(10):
        async with await anyio.connect_tcp("127.0.0.1", way.port) as stream:
            await stream.send(line)
            got = b""
            try:
                while True:
                    got += await stream.receive()
            except (anyio.EndOfStream, anyio.BrokenResourceError):
                return got


@pytest.mark.parametrize(
    ("line", "answer", "went"),
    [
        ("WORD far.heronquay.example 443\n", b"ok\nhello from far", [("203.0.113.9", 443)]),
        ("WORD 203.0.113.44 80\n", b"ok\nhello from far", [("203.0.113.44", 80)]),
        ("WORD 192.0.2.1 80\n", b"no\n", [("192.0.2.1", 80)]),
        ("word far.heronquay.example 443\n", b"no\n", []),
        (f"{'0' * 32} far.heronquay.example 443\n", b"no\n", []),
        ("WORD nowhere.example 443\n", b"no\n", []),
        ("WORD far.heronquay.example 0\n", b"no\n", []),
        ("WORD far.heronquay.example 65536\n", b"no\n", []),
        ("WORD far.heronquay.example\n", b"no\n", []),
        ("WORD far.heronquay.example 443 more\n", b"no\n", []),
        ("\n", b"no\n", []),
        ("WORD f\xe4r 443\n", b"no\n", []),
        ("x" * 600, b"no\n", []),
    ],
)
def test_it_connects_for_who_has_the_word_alone(line: str, answer: bytes, went: list[tuple[str, int]]) -> None:
    async def main() -> tuple[bytes, list[tuple[str, int]]]:
        async def far(stream: Any) -> None:
            async with stream:
                await stream.send(b"hello from far")

        listener = await anyio.create_tcp_listener(local_host="127.0.0.1")
        async with listener, anyio.create_task_group() as tasks:
            tasks.start_soon(listener.serve, far)
            door: Any = Doorway(listener.extra(SocketAttribute.local_port))
            async with relay(door) as way:
                got = await asked(way, line.replace("WORD", way.word).encode("latin-1"))
            tasks.cancel_scope.cancel()
        return got, door.asked

    assert anyio.run(main) == (answer, went)
