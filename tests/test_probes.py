"""Probes against servers that misbehave, over the operating system's door on loopback."""

from __future__ import annotations

import ssl
import struct
from collections.abc import Awaitable, Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address

import anyio
import pytest
from anyio.abc import ByteStream

from hooper.check.certificates import read_certificate
from hooper.check.probes import probe
from hooper.check.redirects import redirected
from hooper.check.results import Seen
from hooper.check.targets import Target
from hooper.lab import devices
from hooper.lab.certificates import self_signed
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from hooper.site.protocols import SPEECHES

START = datetime.now(UTC) - timedelta(days=1)

HERE = IPv4Address("127.0.0.1")
Behaviour = Callable[[ByteStream, Endpoint], Awaitable[None]]
# one protocol for each way to probe, and both that may be anything
STREAMED = [*{s.probe: key for key, s in reversed(SPEECHES.items()) if s.transport == "tcp"}.values(), "unknown"]


def seen_by(speaks: str, behaviour: Behaviour, *, deadline: float = 0.6, **more: str) -> Seen:
    """Probe a server that behaves like that."""

    async def work() -> Seen:
        listener = await anyio.create_tcp_listener(local_host="127.0.0.1")
        port = listener.extra(anyio.abc.SocketAttribute.local_port)

        async def handle(stream: ByteStream) -> None:
            with anyio.move_on_after(5):
                try:
                    async with stream:
                        await behaviour(stream, Endpoint(HERE, 1))
                except (anyio.BrokenResourceError, anyio.EndOfStream, anyio.ClosedResourceError, ssl.SSLError):
                    pass

        async with listener, anyio.create_task_group() as tasks:
            tasks.start_soon(listener.serve, handle)
            target = Target("s", speaks, "tcp", "l", HERE, port, (HERE, port), "reachable", **more)  # type: ignore[arg-type]
            with anyio.fail_after(deadline + 2):
                found = await probe(SystemDoor(), target, deadline)
            tasks.cancel_scope.cancel()
        return found

    return anyio.run(work)


async def say(words: bytes, stream: ByteStream, _: Endpoint) -> None:
    await stream.send(words)
    await stream.receive()
    await anyio.sleep(1)


async def answer(words: bytes, stream: ByteStream, _: Endpoint) -> None:
    await stream.receive()
    await stream.send(words)


async def hang_up(stream: ByteStream, _: Endpoint) -> None:
    await anyio.lowlevel.checkpoint()


async def reset(stream: ByteStream, _: Endpoint) -> None:
    await stream.receive(1)
    raw = stream.extra(anyio.abc.SocketAttribute.raw_socket)
    raw.setsockopt(1, 13, struct.pack("ii", 1, 0))  # SO_LINGER of nothing: the close becomes a reset


async def endless(stream: ByteStream, _: Endpoint) -> None:
    while True:
        await stream.send(b"A" * 65536)


async def drip(stream: ByteStream, _: Endpoint) -> None:
    for byte in b"HTTP/1.1 200 OK\r\nServer: slow\r\n\r\n":
        await stream.send(bytes([byte]))
        await anyio.sleep(0.1)


ROGUES: dict[str, Behaviour] = {
    "says nothing": devices.silent,
    "hangs up": hang_up,
    "resets": reset,
    "never ends": endless,
    "drips": drip,
    "says zeros": partial(say, bytes(2000)),
    "says 0xff": partial(say, b"\xff" * 2000),
    "says lines": partial(say, b"hello\r\n" * 5000),
    "answers a TLS alert": partial(answer, b"\x15\x03\x03\x00\x02\x02\x28"),
    "answers half a TLS record": partial(answer, b"\x16\x03\x03\x40\x00\x02"),
    "answers half a TPKT": partial(answer, b"\x03\x00\x00"),
    "answers an absurd TPKT": partial(answer, b"\x03\x00\xff\xff" + b"x" * 70000),
    "answers a head without end": partial(answer, b"HTTP/1.1 200 OK\r\n" + b"X: y\r\n" * 20000),
    "answers HTTP without a head": partial(answer, b"<html>hi</html>"),
}


@pytest.mark.parametrize("name", ROGUES)
@pytest.mark.parametrize("speaks", STREAMED)
def test_a_rogue_is_never_taken_for_the_service(speaks: str, name: str) -> None:
    found = seen_by(speaks, ROGUES[name])
    assert found.detail
    if not SPEECHES[speaks].told:
        assert found.verdict == "connected"
    elif SPEECHES[speaks].probe in ("tls", "https") and name == "answers a TLS alert":
        assert (found.verdict, found.problems) == ("answered", ["tls-failed"])
    elif speaks == "https" and name in ("answers a head without end", "answers HTTP without a head"):
        assert (found.verdict, found.problems) == ("answered", ["clear-text"])
    else:
        assert found.verdict in ("connected", "mismatched"), found
    assert found.took_ms < 2000


def test_old_and_plain_servers_are_understood() -> None:
    plain = seen_by("http", partial(answer, b'HTTP/1.0 401\nWWW-Authenticate: Basic realm="cam"\n\n'))
    assert (plain.verdict, plain.greeting) == ("answered", "cam")
    assert seen_by("http", partial(answer, b"HTTP/1.1 302 Found\r\nLocation: /x\r\n\r\n")).verdict == "answered"
    assert seen_by("rtsp", partial(answer, b"RTSP/1.0 454 Session Not Found\r\nCSeq: 1\r\n\r\n")).verdict == "answered"
    assert seen_by("vnc", partial(say, b"RFB 003.008\n")).greeting == "RFB 003.008"
    assert seen_by("ssh", partial(say, b"Welcome\r\nSSH-2.0-x\r\n")).greeting == "SSH-2.0-x"
    legacy = seen_by("rdp", partial(answer, bytes.fromhex("0300000b06d00000123400")))
    assert (legacy.verdict, legacy.problems) == ("answered", ["clear-text"])
    refusing = seen_by("rdp", partial(answer, bytes.fromhex("030000130ed000001234000300080003000000")))
    assert (refusing.verdict, refusing.problems) == ("answered", ["tls-failed"])


def test_the_expected_text_decides() -> None:
    page = devices.web("Race films", "film box")
    assert seen_by("http", page, expect="Race films").verdict == "answered"
    assert seen_by("http", page, expect="Heating").verdict == "mismatched"


def test_a_server_of_the_last_century() -> None:
    identity = self_signed("old.local", START)
    context = identity.context
    context.set_ciphers("ALL:@SECLEVEL=0")
    with pytest.warns(DeprecationWarning, match="TLSv1"):
        context.minimum_version = context.maximum_version = ssl.TLSVersion.TLSv1
    found = seen_by("https", devices.secured(identity, devices.web("Old", "old")))
    assert (found.verdict, found.tls_version) == ("answered", "TLSv1")


@pytest.mark.parametrize("name", ["under_score.example.net", "xn--bcher-kva.example", "a." * 100 + "example"])
def test_odd_server_names_do_no_harm(name: str) -> None:
    identity = self_signed("odd.local", START)
    found = seen_by("https", devices.secured(identity, devices.web("Odd", "odd")), server_name=name)
    assert found.verdict == "answered"
    assert found.certificate is not None
    assert found.certificate.names == ("odd.local",)


def test_certificates_that_cannot_be_read() -> None:
    for data in (b"", b"\x30\x00", b"\x30\x82\x01\x00" + bytes(256), b"\xff" * 100):
        assert read_certificate(data) is None


def test_nobody_listens() -> None:
    async def work() -> Seen:
        listener = await SystemDoor().listen(Endpoint(HERE, 0))
        port = listener.local.port
        await listener.aclose()
        return await probe(SystemDoor(), Target.alone(HERE, port, "https"), 2)

    found = anyio.run(work)
    assert (found.verdict, found.icmp) == ("refused", None)


@pytest.mark.parametrize(
    ("speaks", "port", "location", "code"),
    [
        ("https", 8443, "https://home.example:8443/login", None),
        ("https", 8443, "https://home.example/login", "port-lost"),
        ("https", 8443, "https://203.0.113.44/", "port-lost"),
        ("https", 443, "https://HOME.example/login", None),
        ("https", 443, "http://home.example/login", "https-lost"),
        ("https", 8443, "https://10.44.7.50:8443/", "inner-address"),
        ("http", 80, "https://home.example/", None),
        ("https", 8443, "/login", None),
        ("https", 8443, "https://elsewhere.example/", None),
        ("https", 8443, "https://home.example:x/", None),
        ("https", 8443, "https://[", None),
    ],
)
def test_where_a_page_sends_people(speaks: str, port: int, location: str, code: str | None) -> None:
    inner = (IPv4Address("10.44.7.50"), 8443)
    target = Target(
        "hub-page", speaks, "tcp", "fibre", IPv4Address("203.0.113.44"), port, inner, "reachable",
        server_name="home.example",
    )  # fmt: skip
    assert [found for found, _ in redirected(target, location)] == ([code] if code else [])
    assert redirected(replace(target, address=inner[0]), location) == [], "inside it may be right"


def test_http_where_https_is_wanted() -> None:
    """A TLS server that hangs up or sends an alert, and one that says so in clear text."""
    identity = self_signed("hub.local", START)
    found = seen_by("http", devices.secured(identity, devices.web("Hub", "hub")))
    assert (found.verdict, found.problems) in (("mismatched", ["https-needed"]), ("connected", []))

    async def says_so(stream: ByteStream, _: Endpoint) -> None:
        await stream.receive()
        await stream.send(b"HTTP/1.1 400 Bad Request\r\n\r\n<title>400</title>plain HTTP was sent to an HTTPS port")

    found = seen_by("http", says_so)
    assert (found.verdict, found.problems) == ("answered", ["https-needed"])

    async def alert(stream: ByteStream, _: Endpoint) -> None:
        await stream.receive()
        await stream.send(bytes.fromhex("15030100020246"))  # RFC 8446 section 6: a fatal alert, protocol version

    found = seen_by("http", alert)
    assert (found.verdict, found.problems) == ("mismatched", ["https-needed"])
