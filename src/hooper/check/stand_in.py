"""Asking the listener that stands in for a service, and being it."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from typing import Never

import anyio
from anyio.abc import ByteStream

from hooper.check.handshake import rejected
from hooper.check.handshake_keys import StandInKey
from hooper.check.results import Seen
from hooper.net.acceptor import Guest, accept_all
from hooper.net.exchange import socket_towards
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, Listener, Rejected
from hooper.wire import stand_in as standin
from hooper.words.said import say

SAID_AGAIN = 0.5  # seconds; a datagram may get lost
PATIENCE = 5.0  # seconds for a stranger's first words over TCP
OURS = say("stand-in-answers")
_ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError)
PAGE = (
    b"HTTP/1.1 200 -\r\nContent-Type: text/plain; charset=utf-8\r\nConnection: close\r\n\r\n"
    b"You have arrived: Hooper answers here in place of the service.\n"
)


async def ask_stream(stream: ByteStream, key: StandInKey, seen: Seen) -> None:
    """Over TCP. Raises: anyio's errors of a stream that ended."""
    number = secrets.token_bytes(standin.NUMBER)
    await stream.send(standin.serialize_question(number))
    data = b""
    while len(data) < standin.SIZE:
        data += await stream.receive()
        if not standin.MARK.startswith(data[: len(standin.MARK)]):
            break
    _note(data[: standin.SIZE], number, key, seen)


async def ask_datagram(door: Door, to: Endpoint, key: StandInKey, seen: Seen) -> None:
    """Over UDP, until something comes."""
    number = secrets.token_bytes(standin.NUMBER)
    async with await socket_towards(door, to.address) as socket:
        while True:
            await socket.send(standin.serialize_question(number), to)
            with anyio.move_on_after(SAID_AGAIN):
                came = await socket.receive()
                if isinstance(came, Rejected):
                    rejected(came, to, seen)
                else:
                    _note(came.data, number, key, seen)
                return


def _note(data: bytes, number: bytes, key: StandInKey, seen: Seen) -> None:
    if standin.is_answer(data, number, key.secret):
        seen.verdict, seen.detail = "answered", OURS
    else:
        seen.verdict = "mismatched"
        seen.detail = say("stand-in-other")


Came = Callable[[str, Endpoint, str], None]  # transport, from where, what it said


async def stand_in_tcp(listener: Listener, key: bytes, came: Came) -> Never:
    """Answer whoever comes."""

    async def served(guest: Guest) -> None:
        with anyio.move_on_after(PATIENCE):
            await _answer(guest, guest.peer, key, came)

    await accept_all(listener, served, silent=lambda peer: came("tcp", peer, "connected"))


async def _answer(stream: ByteStream, peer: Endpoint, key: bytes, came: Came) -> None:
    data = b""
    try:
        with anyio.fail_after(PATIENCE / 2):
            while len(data) < standin.SIZE and b"\r\n\r\n" not in data:
                data += await stream.receive()
    except (TimeoutError, *_ENDED):
        came("tcp", peer, "said something else")
        return
    answer = standin.answer_to(data[: standin.SIZE], key)
    if answer is not None:
        came("tcp", peer, "asked by this test")
        await stream.send(answer)
    elif data.startswith((b"GET ", b"HEAD ")):
        came("tcp", peer, "a browser")
        await stream.send(PAGE)
    else:
        came("tcp", peer, "said something else")


async def stand_in_udp(socket: Datagrams, key: bytes, came: Came) -> Never:
    """Answer the questions of this test; everything else gets no answer."""
    while True:
        got = await socket.receive()
        if isinstance(got, Datagram):
            answer = standin.answer_to(got.data, key)
            came("udp", got.sender, "asked by this test" if answer is not None else "said something else")
            if answer is not None:
                await socket.send(answer, got.sender)
