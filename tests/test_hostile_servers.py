"""STUN servers, resolvers and proxies that misbehave, over the operating system's door on loopback."""

from __future__ import annotations

import random
from collections.abc import Awaitable, Callable
from functools import partial
from ipaddress import IPv4Address, IPv6Address

import anyio
import dns.message
import dns.rrset
import pytest
from anyio.abc import ByteStream

from hooper.errors import HooperError
from hooper.net.dns import addresses_by
from hooper.net.proxy import ProxyDoor, ProxyFailed
from hooper.net.stun import mapped_by
from hooper.net.system import SystemDoor
from hooper.net.types import Datagram, Door, Endpoint, ProxyTrouble, Refused, Unreachable
from hooper.wire import socks5, stun

HERE = IPv4Address("127.0.0.1")
Answer = Callable[[bytes], list[bytes]]


def with_datagram_server(answer: Answer, ask: Callable[[Door, Endpoint], Awaitable[object]]) -> object:
    """Ask a server that answers each datagram with those of `answer`."""

    async def work() -> object:
        door = SystemDoor()
        async with await door.datagrams(local=Endpoint(HERE, 0)) as server:

            async def serve() -> None:
                while True:
                    came = await server.receive()
                    if isinstance(came, Datagram):
                        for data in answer(came.data):
                            await server.send(data, came.sender)

            async with anyio.create_task_group() as tasks:
                tasks.start_soon(serve)
                with anyio.fail_after(5):
                    result = await ask(door, server.local)
                tasks.cancel_scope.cancel()
        return result

    return anyio.run(work)


def stun_answer(request: bytes, *, kind: int = stun.BINDING_SUCCESS, address: str | None = "203.0.113.44") -> bytes:
    transaction = stun.Message.parse(request).transaction_id
    seen = IPv6Address(address) if address and ":" in address else IPv4Address(address) if address else None
    attributes = (stun.xor_mapped_address(seen, 5, transaction),) if seen else ()
    return stun.Message(kind, transaction, attributes).serialize()


STUN: dict[str, tuple[Answer, str | None]] = {
    "as it should": (lambda data: [stun_answer(data)], "203.0.113.44"),
    "garbage first": (lambda data: [b"x" * 40, b"", stun_answer(data)], "203.0.113.44"),
    "another's answer first": (
        lambda data: [stun.Message(0x101, bytes(12), ()).serialize(), stun_answer(data)],
        "203.0.113.44",
    ),
    "old MAPPED-ADDRESS": (
        lambda data: [stun.Message(0x101, data[8:20], ((1, bytes.fromhex("00010005cb00712c")),)).serialize()],
        "203.0.113.44",
    ),
    "an error": (lambda data: [stun_answer(data, kind=stun.BINDING_ERROR)], None),
    "no address": (lambda data: [stun_answer(data, address=None)], None),
    "an IPv6 address": (lambda data: [stun_answer(data, address="2001:db8::5")], None),
    "a broken address": (lambda data: [stun.Message(0x101, data[8:20], ((0x20, b"\0\1"),)).serialize()], None),
    "its own request": (lambda data: [data], None),
    "nothing": (lambda data: [], None),
}


@pytest.mark.parametrize("name", STUN)
def test_stun_servers(name: str) -> None:
    answer, expected = STUN[name]

    async def ask(door: Door, server: Endpoint) -> object:
        return await mapped_by(door, [server], 0.7)

    found = with_datagram_server(answer, ask)
    assert (str(found[0]) if isinstance(found, tuple) else None) == expected


def dns_answers(data: bytes, *, seed: int) -> list[bytes]:
    """Three damaged answers, then nothing."""
    asked = dns.message.from_wire(data)
    reply = dns.message.make_response(asked)
    reply.answer.append(dns.rrset.from_text(asked.question[0].name, 60, "IN", "A", "203.0.113.44"))
    whole, dice = reply.to_wire(), random.Random(seed)
    damaged = []
    for _ in range(3):
        broken = bytearray(whole)
        for _ in range(dice.randint(1, 6)):
            broken[dice.randrange(2, len(broken))] = dice.randrange(256)
        damaged.append(bytes(broken[: dice.randint(3, len(broken))]))
    return damaged


@pytest.mark.parametrize("seed", range(12))
def test_resolvers_that_send_damaged_answers(seed: int) -> None:
    async def ask(door: Door, server: Endpoint) -> object:
        from hooper.net import dns as ours

        message = dns.message.make_query("boathouse.heronquay.example", "A")
        try:
            return await ours.ask_dns(door, server, message, 0.2)
        except HooperError as exc:
            return exc

    with_datagram_server(partial(dns_answers, seed=seed), ask)


def test_a_resolver_that_is_not_there() -> None:
    async def ask() -> None:
        with anyio.fail_after(3), pytest.raises(HooperError):
            await addresses_by(
                SystemDoor(), Endpoint(IPv4Address("127.0.0.77"), 53), "boathouse.heronquay.example", 0.3
            )

    anyio.run(ask)


async def _greeting(stream: ByteStream, method: int) -> None:
    await stream.receive()
    await stream.send(bytes([5, method]))


async def _then(stream: ByteStream, words: bytes) -> None:
    await _greeting(stream, 0)
    await stream.receive()
    if words:
        await stream.send(words)


def _reply(code: int) -> bytes:
    return socks5.serialize_reply(code, HERE)


PROXIES: dict[str, tuple[Callable[[ByteStream], Awaitable[None]], type[BaseException] | None]] = {
    "grants": (partial(_then, words=_reply(0)), None),
    "refused": (partial(_then, words=_reply(socks5.REFUSED)), Refused),
    "host unreachable": (partial(_then, words=_reply(socks5.HOST_UNREACHABLE)), Unreachable),
    "general failure": (partial(_then, words=_reply(socks5.FAILURE)), ProxyTrouble),
    "not allowed": (partial(_then, words=_reply(socks5.NOT_ALLOWED)), ProxyTrouble),
    "an unknown code": (partial(_then, words=_reply(77)), ProxyTrouble),
    "hangs up": (partial(_then, words=b""), ProxyTrouble),
    "half a reply": (partial(_then, words=_reply(0)[:6]), ProxyTrouble),
    "another version": (partial(_then, words=b"\x04" + _reply(0)[1:]), ProxyTrouble),
    "an unknown address type": (partial(_then, words=b"\x05\x00\x00\x09" + bytes(30)), ProxyTrouble),
    "a name as bound address": (partial(_then, words=b"\x05\x00\x00\x03\x01x\x00\x50"), None),
    "wants a login": (partial(_greeting, method=2), ProxyTrouble),
    "takes no method": (partial(_greeting, method=255), ProxyTrouble),
    "speaks HTTP": (lambda stream: stream.send(b"HTTP/1.1 400 Bad Request\r\n\r\n"), ProxyTrouble),
}


@pytest.mark.parametrize("name", PROXIES)
def test_proxies(name: str) -> None:
    behaviour, expected = PROXIES[name]

    async def work() -> None:
        listener = await anyio.create_tcp_listener(local_host="127.0.0.1")
        port = listener.extra(anyio.abc.SocketAttribute.local_port)

        async def handle(stream: ByteStream) -> None:
            async with stream:
                await behaviour(stream)

        async with listener, anyio.create_task_group() as tasks:
            tasks.start_soon(listener.serve, handle)
            door = ProxyDoor(SystemDoor(), Endpoint(HERE, port))
            with anyio.fail_after(3):
                if expected is None:
                    await (await door.connect(IPv4Address("203.0.113.44"), 443)).aclose()
                else:
                    with pytest.raises(expected):
                        await door.connect(IPv4Address("203.0.113.44"), 443)
            tasks.cancel_scope.cancel()

    anyio.run(work)


def test_a_proxy_that_is_not_there() -> None:
    async def work() -> None:
        listener = await SystemDoor().listen(Endpoint(HERE, 0))
        proxy = listener.local
        await listener.aclose()
        with pytest.raises(ProxyFailed):
            await ProxyDoor(SystemDoor(), proxy).greet()

    anyio.run(work)
