"""The one acceptor: whoever comes, and however many, who speaks is served, and one connection ends at a time."""

from __future__ import annotations

import contextlib
import os
import random
import socket
import ssl
import statistics
import subprocess
import sys
import time
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path

import anyio
import pytest

from hooper.keep.metrics import MetricsPage, is_own_name
from hooper.net.acceptor import Guest, accept_all
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from support.program import LabProcess, start_lab

LOOPBACK = Endpoint(ip_address("127.0.0.1"), 0)
SERVER = """
import resource, sys
from ipaddress import ip_address
from pathlib import Path
import anyio
from hooper.net.serving import HttpSaid, serve_http
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
resource.setrlimit(resource.RLIMIT_NOFILE, (int(sys.argv[1]),) * 2)
async def answer(asked):
    if asked.target == "/fails":
        raise RuntimeError("whatever a stranger brings about")
    return HttpSaid(200, b"here")
async def main():
    async with await SystemDoor().listen(Endpoint(ip_address("127.0.0.1"), 0)) as listener:
        print(listener.local.port, flush=True)
        await serve_http(listener, answer)
anyio.run(main)
"""


@contextlib.contextmanager
def server(descriptors: int) -> Iterator[tuple[subprocess.Popen[str], int]]:
    command = [sys.executable, "-c", SERVER, str(descriptors)]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as ran:
        try:
            assert ran.stdout is not None
            yield ran, int(ran.stdout.readline())
        finally:
            ran.kill()


def asked(port: int, target: str = "/") -> tuple[bytes, float]:
    """The answer to one request, and how long it took in seconds."""
    start = time.monotonic()
    with socket.create_connection(("127.0.0.1", port), 5) as phone:
        phone.sendall(f"GET {target} HTTP/1.1\r\nHost: a\r\n\r\n".encode())
        got = b""
        while part := phone.recv(4096):
            got += part
    return got, time.monotonic() - start


@pytest.mark.parametrize("descriptors", [64, 1024])
def test_a_phone_is_served_beside_four_thousand_idle_strangers(descriptors: int) -> None:
    with server(descriptors) as (ran, port), contextlib.ExitStack() as strangers:
        asked(port)
        took: list[float] = []
        for number in range(4000):
            one = strangers.enter_context(socket.socket())
            one.setblocking(False)
            one.connect_ex(("127.0.0.1", port))
            if number % 500 == 499:
                got, seconds = asked(port)
                assert got.endswith(b"here")
                took.append(seconds)
        assert statistics.median(took) < 5, took  # what hangs, not what is late on a busy machine
        assert asked(port)[0].endswith(b"here")
        assert len(os.listdir(f"/proc/{ran.pid}/fd")) < descriptors // 2 + 32
        assert ran.poll() is None


def test_who_says_a_part_is_ended_too_and_trouble_ends_one_connection() -> None:
    with server(256) as (ran, port), contextlib.ExitStack() as strangers:
        for number in range(300):
            one = strangers.enter_context(socket.create_connection(("127.0.0.1", port), 5))
            one.sendall(random.Random(number).choice((b"G", b"GET / HTTP/1.1\r\nHost:", b"\x16\x03\x01", b"\0" * 100)))
        assert asked(port, "/fails")[0] == b""
        assert asked(port)[0].endswith(b"here")
        assert ran.poll() is None


def test_a_first_byte_has_its_time_and_who_stays_is_not_bounded() -> None:
    silent: list[Endpoint] = []

    async def served(guest: Guest) -> None:
        if await guest.receive() == b"token":
            guest.stay()
        await guest.send(b"in")
        await anyio.sleep_forever()

    async def main() -> None:
        async with await SystemDoor().listen(LOOPBACK) as listener, anyio.create_task_group() as tasks:

            async def accepting() -> None:
                await accept_all(listener, served, at_once=2, of_each=2, silent=silent.append)

            tasks.start_soon(accepting)
            own = []
            for _ in range(5):
                own.append(await SystemDoor().connect(LOOPBACK.address, listener.local.port))
                await own[-1].send(b"token")
                assert await own[-1].receive() == b"in"
            idle = await SystemDoor().connect(LOOPBACK.address, listener.local.port)
            with anyio.fail_after(6), pytest.raises((anyio.EndOfStream, anyio.BrokenResourceError)):
                await idle.receive()
            strangers = [await SystemDoor().connect(LOOPBACK.address, listener.local.port) for _ in range(3)]
            with anyio.fail_after(1), pytest.raises((anyio.EndOfStream, anyio.BrokenResourceError)):
                await strangers[0].receive()  # the oldest makes room
            for stream in own:
                with anyio.move_on_after(0.05) as scope:
                    await stream.receive()
                assert scope.cancelled_caught
            for stream in (*own, idle, *strangers):
                await stream.aclose()
            tasks.cancel_scope.cancel()

    anyio.run(main)
    assert len(silent) == 1


@pytest.mark.skipif(sys.platform != "linux" or not socket.has_ipv6, reason="elsewhere one socket takes one family")
def test_who_comes_over_ipv4_has_an_ipv4_address_on_a_socket_for_both() -> None:
    async def main() -> Endpoint:
        async with await SystemDoor().listen(Endpoint(ip_address("::"), 0)) as listener:
            stream = await SystemDoor().connect(LOOPBACK.address, listener.local.port)
            accepted, peer = await listener.accept()
            await stream.aclose()
            await accepted.aclose()
        return peer

    assert anyio.run(main).address == LOOPBACK.address


@pytest.mark.skipif(sys.platform != "linux", reason="elsewhere 127.0.0.1 is the only address of its network")
@pytest.mark.parametrize("crowd", [("127.0.0.%d", 250), ("127.0.0.1", 1)])
def test_who_came_alone_is_not_sent_away_for_a_crowd_of_another_network(crowd: tuple[str, int]) -> None:
    """He spoke first and waits longest: he would be the oldest."""

    async def served(guest: Guest) -> None:
        if await guest.receive() == b"alone":
            await anyio.sleep(0.5)
            await guest.send(b"served")
        else:
            await anyio.sleep_forever()

    async def main() -> bytes:
        async with await SystemDoor().listen(LOOPBACK) as listener, anyio.create_task_group() as tasks:

            async def accepting() -> None:
                await accept_all(listener, served, at_once=16, of_each=12)

            tasks.start_soon(accepting)
            with contextlib.ExitStack() as held:
                for number in range(100):
                    one = held.enter_context(socket.socket())
                    one.bind(("127.9.0.1" if number == 10 else crowd[0].replace("%d", str(number % crowd[1] + 2)), 0))
                    await anyio.to_thread.run_sync(one.connect, ("127.0.0.1", listener.local.port))
                    if number == 10:
                        one.sendall(b"alone")
                        alone = one
                    elif number % 2:
                        one.sendall(b"another")
                alone.settimeout(5)
                came = await anyio.to_thread.run_sync(alone.recv, 64)
            tasks.cancel_scope.cancel()
        return came

    assert anyio.run(main) == b"served"


@pytest.mark.parametrize(
    ("host", "own"),
    [
        ("127.0.0.1:9464", True), ("127.0.0.1", True), ("[::1]:9464", True), ("[::1]", True), ("localhost:9464", True),
        ("", True), ("strange.example", False), ("strange.example:9464", False), ("192.0.2.1:9464", False),
        ("127.0.0.1.strange.example", False), ("localhost.strange.example:80", False), ("::1]", True),
    ],
)  # fmt: skip
def test_metrics_are_shown_under_this_computers_own_names(host: str, own: bool) -> None:
    assert is_own_name(host) == own


def test_the_metrics_page_answers_no_name_of_others() -> None:
    async def main() -> None:
        page = MetricsPage(b"hooper_well 1\n# EOF\n")
        async with await SystemDoor().listen(LOOPBACK) as free:
            at = free.local
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(page.serve, at)
            for host, right in ((str(at), True), ("strange.example", False)):
                stream = await _until_there(at)
                await stream.send(f"GET /metrics HTTP/1.1\r\nHost: {host}\r\n\r\n".encode())
                got = b""
                with contextlib.suppress(anyio.EndOfStream, anyio.BrokenResourceError):
                    while True:
                        got += await stream.receive()
                assert (b"hooper_well" in got) == right
                await stream.aclose()
            tasks.cancel_scope.cancel()

    anyio.run(main)


async def _until_there(at: Endpoint) -> anyio.abc.ByteStream:
    with anyio.fail_after(5):
        while True:
            with contextlib.suppress(Exception):
                return await SystemDoor().connect(at.address, at.port)
            await anyio.sleep(0.01)
    raise AssertionError


def test_the_labs_port_takes_little_before_the_token(tmp_path: Path) -> None:
    with start_lab(tmp_path) as lab:
        with socket.create_connection(("127.0.0.1", lab.private()["port"]), 5) as stranger:
            stranger.sendall(b'{"do":"hello","more":"')
            sent = 0
            with contextlib.suppress(OSError):
                for _ in range(64):
                    stranger.sendall(b"x" * 65536)
                    sent += 65536
                    time.sleep(0.01)
            assert sent < 4 * 1024 * 1024
        assert lab.run("router", "list").code in (0, 1)


def through_town(lab: LabProcess, place: str, address: str, port: int) -> socket.socket:
    """A connection from a place in the town, by its SOCKS5 entrance (RFC 1928, 1929)."""
    private = lab.private()
    stream = socket.create_connection(("127.0.0.1", private["port"]), 5)
    token = private["token"].encode()
    stream.sendall(b"\5\1\2")
    assert stream.recv(2) == b"\5\2"
    stream.sendall(b"\1" + bytes([len(place)]) + place.encode() + bytes([len(token)]) + token)
    assert stream.recv(2) == b"\1\0"
    stream.sendall(b"\5\1\0\1" + socket.inet_aton(address) + port.to_bytes(2, "big"))
    assert stream.recv(10)[:2] == b"\5\0"
    return stream


def test_a_handshake_that_is_closed_half_way_ends_no_town(tmp_path: Path) -> None:
    """TLS with a device, given up at each point, through the town's own port."""
    with start_lab(tmp_path) as lab:
        for cut in (0, 1, 5, 60, 200, 10_000):
            with contextlib.suppress(OSError, ssl.SSLError), through_town(lab, "here", "10.44.7.30", 443) as stream:
                incoming, outgoing = ssl.MemoryBIO(), ssl.MemoryBIO()
                client = ssl._create_unverified_context().wrap_bio(incoming, outgoing)
                with contextlib.suppress(ssl.SSLWantReadError):
                    client.do_handshake()
                hello = outgoing.read()
                stream.sendall(hello[:cut])
                if cut > len(hello):
                    incoming.write(stream.recv(65536))
                    with contextlib.suppress(ssl.SSLWantReadError):
                        client.do_handshake()
                        stream.sendall(outgoing.read())
                        with contextlib.suppress(ssl.SSLError):
                            client.unwrap()
                        stream.sendall(outgoing.read())
        assert lab.run("router", "list").code in (0, 1)
