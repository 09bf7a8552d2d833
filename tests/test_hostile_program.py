"""The built program against servers that flood, trickle, lie or say nothing: in time, in memory, never a fault of ours.

Some ways to be hostile are tried here, all of them by `python -m fuzz.hostile`.
"""

from __future__ import annotations

import os
import random
import resource
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path

import pytest

from hooper.lab.certificates import TownAuthority
from support.sites import ONE_BOX

MEMORY = 400 * 1024 * 1024  # bytes that the whole process may have
DEADLINE, AFTER, START = 1.0, 4.0, 8.0  # seconds; what never ends takes longer than a busy machine does
WEB = """[services.web]
host = "hub"
speaks = "http"
reach = "public"
"""
Talk = Callable[[socket.socket], None]


def _for_ever(start: bytes, more: bytes) -> Talk:
    def talk(peer: socket.socket) -> None:
        peer.sendall(start)
        while True:
            peer.sendall(more)

    return talk


def _trickle(peer: socket.socket) -> None:
    for letter in b"HTTP/1.1 200 OK\r\nContent-Length: 99999\r\n\r\n" + b"{" * 99999:
        peer.sendall(bytes([letter]))
        time.sleep(0.05)


def _nothing(peer: socket.socket) -> None:
    while peer.recv(65536):
        pass


def _page(body: bytes, more: str = "") -> Talk:
    def talk(peer: socket.socket) -> None:
        peer.recv(65536)
        peer.sendall(f"HTTP/1.1 200 OK\r\n{more}Content-Length: {len(body)}\r\n\r\n".encode() + body)

    return talk


STREAMS: dict[str, Talk] = {
    "nothing": _nothing,
    "hangs up": lambda peer: None,
    "zeros": _for_ever(b"", bytes(65536)),
    "greets by SOCKS, then zeros": _for_ever(b"\5\0\5\0\0\1", bytes(65536)),
    "a head without end": _for_ever(b"HTTP/1.1 200 OK\r\n", b"X: " + b"y" * 5000 + b"\r\n"),
    "a body without end": _for_ever(
        b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", b"8000\r\n" + b"[" * 32768 + b"\r\n"
    ),
    "trickles": _trickle,
    "deep": _page(b"[" * 500_000),
    "wide": _page(b'{"newNonce":' + b'"x",' * 200_000 + b"}", "Content-Type: application/json\r\n"),
    "sends elsewhere": _page(b"", "Location: /again\r\nRetry-After: 99999999999999\r\n"),
    "garbage": lambda peer: peer.sendall(random.Random(7).randbytes(200_000)),
}
DATAGRAMS: dict[str, Callable[[bytes], list[bytes]]] = {
    "nothing": lambda data: [],
    "echo": lambda data: [data] * 3,
    "garbage": lambda data: [random.Random(7).randbytes(900)] * 200,
    "large": lambda data: [data[:2] + b"\x81\x80" + data[4:12] + bytes(60_000)] * 20,
    "the right start": lambda data: [data[:n] + b"\xff" * 40 for n in (2, 8, 12, 20)],
}


@contextmanager
def stream_server(talk: Talk, folder: Path, *, secured: bool = False) -> Iterator[int]:
    authority = TownAuthority(datetime.now(UTC))
    context = authority.identity(["localhost"], datetime.now(UTC)).context
    (folder / "root.pem").write_bytes(authority.root_pem)
    listener = socket.create_server(("127.0.0.1", 0))

    def one(peer: socket.socket) -> None:
        peer.settimeout(20)
        with suppress(OSError), peer:
            if not secured:
                talk(peer)
                return
            with context.wrap_socket(peer, server_side=True) as wrapped:
                talk(wrapped)

    def serve() -> None:
        with suppress(OSError):
            while True:
                threading.Thread(target=one, args=(listener.accept()[0],), daemon=True).start()

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield listener.getsockname()[1]
    finally:
        listener.close()


@contextmanager
def datagram_server(answer: Callable[[bytes], list[bytes]]) -> Iterator[int]:
    server = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    server.bind(("127.0.0.1", 0))

    def serve() -> None:
        with suppress(OSError):
            while True:
                data, peer = server.recvfrom(65536)
                for reply in answer(data):
                    server.sendto(reply, peer)

    threading.Thread(target=serve, daemon=True).start()
    try:
        yield server.getsockname()[1]
    finally:
        server.close()


def site(folder: Path, *, stream: int = 9, datagram: int = 9) -> None:
    text = f"""
[measure]
stun = ["127.0.0.1:{datagram}"]
resolvers = ["127.0.0.1:{datagram}"]

[names."boathouse.heronquay.example"]
line = "fibre"
updated_by = "club-names"

[updaters.club-names]
kind = "http"
set.url = "http://127.0.0.1:{stream}/set?address={{value}}"
set_text.url = "http://127.0.0.1:{stream}/text?value={{value}}"

[certificates.boathouse]
names = ["boathouse.heronquay.example"]
authority = "town-ca"

[authorities.town-ca]
directory = "https://localhost:{stream}/directory"
agreed = true
trust = "file:root.pem"
"""
    (folder / "site.toml").write_text(ONE_BOX + WEB + text)


def bounded(folder: Path, *arguments: str, more: float = 0.0) -> subprocess.CompletedProcess[str]:
    """Run the program under the limit of memory. more: seconds that it may take beside its deadline."""
    started = time.monotonic()
    ran = subprocess.run(
        [sys.executable, "-m", "hooper", *arguments, "--state", "state", "--deadline", str(DEADLINE)],
        cwd=folder, capture_output=True, text=True, timeout=60, stdin=subprocess.DEVNULL,
        env={key: value for key, value in os.environ.items() if not key.startswith("HOOPER_")},
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, MEMORY)),
    )  # fmt: skip
    took = time.monotonic() - started
    assert took < DEADLINE + more + AFTER + START, (took, ran.stderr)
    assert ran.returncode in (0, 1, 4, 5), (ran.returncode, ran.stdout, ran.stderr)
    assert "Traceback" not in ran.stderr
    assert len(ran.stdout + ran.stderr) < 20_000, "what a stranger says is not all repeated"
    return ran


def over_tcp(mode: str, folder: Path) -> None:
    """A provider, a proxy, and an authority with and without TLS."""
    with stream_server(STREAMS[mode], folder) as port:
        site(folder, stream=port)
        update = ("name", "update", "--public", "203.0.113.44", "--for", "0", "--accept", "a trial")
        bounded(folder, *update, more=2.0)
        bounded(folder, "check", "--from", f"socks5://127.0.0.1:{port}", "--public", "203.0.113.44", more=2.0)
        bounded(folder, "cert", "order", "--for", "1", more=3.0)
    with stream_server(STREAMS[mode], folder, secured=True) as port:
        site(folder, stream=port)
        bounded(folder, "cert", "order", "--for", "1", more=3.0)


def over_udp(mode: str, folder: Path) -> None:
    """STUN servers and resolvers."""
    with datagram_server(DATAGRAMS[mode]) as port:
        site(folder, datagram=port)
        for words in (("survey",), ("check",), ("name", "list"), ("why", "web")):
            bounded(folder, *words)


@pytest.mark.parametrize("mode", ["a body without end", "wide"])
def test_servers_over_tcp(mode: str, tmp_path: Path) -> None:
    over_tcp(mode, tmp_path)


@pytest.mark.parametrize("mode", ["the right start"])
def test_servers_over_udp(mode: str, tmp_path: Path) -> None:
    over_udp(mode, tmp_path)
