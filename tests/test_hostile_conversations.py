"""Counterparts that offer without end: each is bounded in time, memory and requests, and ends in our own errors."""

from __future__ import annotations

import gzip
import random
import time
import tracemalloc
from collections.abc import Awaitable, Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address
from typing import Any

import anyio
import anyio.lowlevel
import dns.message
import dns.rdatatype
import dns.rrset
import pytest
from anyio.abc import ByteStream, SocketAttribute
from fuzz.damage import damaged

from hooper.check.probes import probe
from hooper.check.targets import Target
from hooper.errors import HooperError
from hooper.gateways.find import _describe
from hooper.gateways.igd import Igd
from hooper.lab import devices
from hooper.lab.certificates import self_signed
from hooper.lab.devices import read_request
from hooper.net.dns import authority_of, records
from hooper.net.http import HttpFailed, http
from hooper.net.plain_http import Url
from hooper.net.system import SystemDoor
from hooper.net.types import Datagram, Door, Endpoint
from hooper.wire import head

HERE = IPv4Address("127.0.0.1")
DEADLINE, AFTER = 1.0, 8.0  # seconds; what every counterpart may take, and how much later at most on a busy machine
MEMORY = 64 * 1024 * 1024  # bytes that one conversation may take
KIND = "urn:schemas-upnp-org:service:WANIPConnection:1"
Handler = Callable[[ByteStream], Awaitable[None]]


def talking_to(handler: Handler, ask: Callable[[int], Awaitable[Any]]) -> Any:
    """What comes of a conversation with a server on loopback, within its time and memory."""

    async def main() -> Any:
        listener = await anyio.create_tcp_listener(local_host=str(HERE))
        port = listener.extra(SocketAttribute.local_port)
        async with listener, anyio.create_task_group() as tasks:

            async def one(stream: ByteStream) -> None:
                async with stream:
                    try:
                        await handler(stream)
                    except (anyio.BrokenResourceError, anyio.EndOfStream, anyio.ClosedResourceError):
                        return

            tasks.start_soon(partial(listener.serve, one))
            try:
                return await ask(port)
            except HooperError as exc:
                return exc
            finally:
                tasks.cancel_scope.cancel()

    tracemalloc.start()
    start = time.monotonic()
    try:
        result = anyio.run(main)
        assert time.monotonic() - start < DEADLINE + AFTER
        assert tracemalloc.get_traced_memory()[1] < MEMORY
    finally:
        tracemalloc.stop()
    return result


# --- HTTP


def page(body: bytes, *fields: tuple[str, str]) -> Handler:
    async def answer(stream: ByteStream) -> None:
        await read_request(stream)
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", fields, body))

    return answer


async def _for_ever(stream: ByteStream, start: bytes, more: bytes) -> None:
    await read_request(stream)
    await stream.send(start)
    while True:
        await stream.send(more)
        await anyio.lowlevel.checkpoint()


BOMB = gzip.compress(gzip.compress(bytes(300_000_000), 9), 9)
STATUS = b"HTTP/1.1 200 OK\r\n"
CHUNKED = STATUS + b"Transfer-Encoding: chunked\r\n\r\n"
PAGES: dict[str, tuple[Handler, bool]] = {
    "a doubly compressed page": (page(BOMB, ("Content-Encoding", "gzip, gzip")), False),
    "an unknown encoding": (page(b"x", ("Content-Encoding", "br")), False),
    "two megabytes": (page(bytes(2_000_000)), False),
    "a body without end": (partial(_for_ever, start=CHUNKED, more=b"10000\r\n" + bytes(65536) + b"\r\n"), False),
    "chunks of one byte": (partial(_for_ever, start=CHUNKED, more=b"1\r\nx\r\n" * 500), False),
    "a head without end": (
        partial(_for_ever, start=b"HTTP/1.1 200 OK\r\n", more=b"X: " + b"y" * 4000 + b"\r\n"),
        False,
    ),
    "one letter a second": (partial(_for_ever, start=b"HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\n", more=b""), False),
    "a charset that costs": (page(b"a" * 900_000, ("Content-Type", "text/plain; charset=punycode")), True),
    "a charset that is none": (page(b"\xff" * 900_000, ("Content-Type", "text/plain; charset=rot13")), True),
    "a charset of bytes": (page(b"x", ("Content-Type", "text/plain; charset=base64")), True),
}


@pytest.mark.parametrize("name", PAGES)
def test_pages(name: str) -> None:
    handler, answers = PAGES[name]

    async def ask(port: int) -> Any:
        async with http(SystemDoor(), None, DEADLINE) as client:
            answer = await client.request("GET", f"http://{HERE}:{port}/")
            return answer.text

    got = talking_to(handler, ask)
    assert isinstance(got, str if answers else HttpFailed), got


# --- routers


class Offers:
    """A description of a thousand connections, each of which says that it is down."""

    def __init__(self, count: int) -> None:
        self.count, self.asked = count, 0

    async def __call__(self, stream: ByteStream) -> None:
        got = await read_request(stream)
        assert got is not None
        self.asked += 1
        services = "".join(
            f"<service><serviceType>{KIND}</serviceType><controlURL>/c{n}</controlURL></service>"
            for n in range(self.count)
        )
        body = f"<root><device><serviceList>{services}</serviceList></device></root>".encode()
        if got[0].target != "/":
            await anyio.sleep(0.01)
            body = b"<nothing/>"
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", (), body))


def test_a_router_that_offers_a_thousand_services_is_asked_a_few_times() -> None:
    offers = Offers(1200)

    async def ask(port: int) -> Any:
        return await _describe(SystemDoor(), "box", HERE, [f"http://{HERE}:{port}/"] * 3, DEADLINE)

    talking_to(offers, ask)
    assert offers.asked < 30


# --- DNS


class Zone:
    """A zone with far too many servers, which answers other questions too."""

    def __init__(self) -> None:
        self.asked = 0

    def answer(self, data: bytes) -> bytes:
        self.asked += 1
        asked = dns.message.from_wire(data)
        name, kind = asked.question[0].name, asked.question[0].rdtype
        reply = dns.message.make_response(asked)
        texts = {
            "SOA": ["ns.evil.example. x. 1 2 3 4 5"],
            "NS": [f"ns{n}.evil.example." for n in range(900)],
            "A": ["127.0.0.1"],
        }.get(dns.rdatatype.to_text(kind), [])
        if texts:
            reply.answer.append(dns.rrset.from_text(name, 60, "IN", kind, *texts))
        return reply.to_wire(max_size=65535)


def asking(answer: Callable[[bytes], bytes], ask: Callable[[Door, Endpoint], Awaitable[Any]]) -> Any:
    async def main() -> Any:
        door = SystemDoor()
        async with await door.datagrams(local=Endpoint(HERE, 0)) as server, anyio.create_task_group() as tasks:

            async def serve() -> None:
                while True:
                    came = await server.receive()
                    if isinstance(came, Datagram):
                        await server.send(answer(came.data), came.sender)

            tasks.start_soon(serve)
            with anyio.fail_after(DEADLINE + AFTER):
                result = await ask(door, server.local)
            tasks.cancel_scope.cancel()
        return result

    return anyio.run(main)


def test_a_zone_with_a_thousand_servers_is_asked_a_few_times() -> None:
    zone = Zone()

    async def ask(door: Door, server: Endpoint) -> Any:
        return await authority_of(door, [server], "www.evil.example", DEADLINE)

    assert asking(zone.answer, ask) is not None
    assert zone.asked < 20


def _with_more(data: bytes, *more: tuple[str, str, str]) -> bytes:
    asked = dns.message.from_wire(data)
    reply = dns.message.make_response(asked)
    for name, kind, text in more:
        reply.answer.append(dns.rrset.from_text(name, 60, "IN", kind, text))
    return reply.to_wire()


@pytest.mark.parametrize(
    ("more", "expected"),
    [
        ((("www.evil.example.", "A", "203.0.113.1"),), ("203.0.113.1",)),
        ((("other.example.", "A", "203.0.113.9"),), ()),
        ((("www.evil.example.", "CNAME", "b.example."), ("b.example.", "A", "203.0.113.2")), ("203.0.113.2",)),
        ((("www.evil.example.", "CNAME", "b.example."), ("c.example.", "A", "203.0.113.3")), ()),
        ((("www.evil.example.", "CNAME", "b.example."), ("b.example.", "CNAME", "www.evil.example.")), ()),
    ],
)
def test_answers_count_for_the_question_alone(
    more: tuple[tuple[str, str, str], ...], expected: tuple[str, ...]
) -> None:
    async def ask(door: Door, server: Endpoint) -> Any:
        return await records(door, server, "www.evil.example", "A", DEADLINE)

    assert asking(lambda data: _with_more(data, *more), ask) == expected


def test_a_name_that_no_message_can_carry() -> None:
    async def ask(door: Door, server: Endpoint) -> Any:
        try:
            return await records(door, server, ".".join(["a" * 63] * 4), "A", DEADLINE)
        except HooperError as exc:
            return exc

    assert isinstance(asking(lambda data: data, ask), HooperError)


# --- devices: a sound conversation, damaged on its way


class Damaging(ByteStream):
    """What is sent is damaged now and then; what comes is left."""

    def __init__(self, inner: ByteStream, chance: random.Random) -> None:
        self.inner, self.chance = inner, chance

    async def send(self, item: bytes) -> None:
        if item and self.chance.random() < 0.5:
            item = next(damaged([item], 1, self.chance.randrange(1 << 30)))
        await self.inner.send(item)

    async def receive(self, max_bytes: int = 65536) -> bytes:
        return await self.inner.receive(max_bytes)

    async def send_eof(self) -> None:
        await self.inner.send_eof()

    async def aclose(self) -> None:
        await self.inner.aclose()


IDENTITY = self_signed("film-box.local", datetime.now(UTC) - timedelta(days=1))
DEVICES: dict[str, Callable[[ByteStream, Endpoint], Awaitable[None]]] = {
    "http": devices.web("Race films", "film box"),
    "https": devices.secured(IDENTITY, devices.web("Race films", "film box")),
    "ssh": devices.ssh("film-box"),
    "rtsp": devices.rtsp("camera"),
    "rdp": devices.remote_desktop(IDENTITY),
}
VERDICTS = {"answered", "connected", "mismatched", "silent", "refused", "unproven"}


@pytest.mark.parametrize("speaks", DEVICES)
def test_conversations_that_are_damaged_on_their_way(speaks: str) -> None:
    for number in range(16):
        chance = random.Random(number)

        async def handle(stream: ByteStream, chance: random.Random = chance) -> None:
            with anyio.move_on_after(DEADLINE):
                await DEVICES[speaks](Damaging(stream, chance), Endpoint(HERE, 1))

        async def ask(port: int) -> Any:
            target = Target.alone(HERE, port, speaks)
            return await probe(SystemDoor(), target, 0.3)

        found = talking_to(partial(_quietly, handle=handle), ask)
        assert found.verdict in VERDICTS, (number, found)


async def _quietly(stream: ByteStream, handle: Handler) -> None:
    """A device that stumbles over its own broken conversation only hangs up."""
    with suppress(Exception):
        await handle(stream)


def test_a_routers_answers_that_are_damaged_on_their_way() -> None:
    """Table, address, adding and deleting: a value or our own error, whatever came back."""
    from test_routers import KIND as SERVICE
    from test_routers import RULE, Box

    for number in range(30):
        chance, box = random.Random(number), Box([RULE])

        async def handle(stream: ByteStream, chance: random.Random = chance, box: Box = box) -> None:
            await box(Damaging(stream, chance))

        async def ask(port: int) -> Any:
            igd = Igd(SystemDoor(), Url(HERE, port, "/control"), SERVICE, "box", 0.3)
            for work in (igd.table, igd.external_address, igd.connected):
                with suppress(HooperError):
                    await work()
            for change in (igd.add, igd.renew, igd.delete):
                with suppress(HooperError):
                    await change(RULE)

        talking_to(partial(_quietly, handle=handle), ask)
