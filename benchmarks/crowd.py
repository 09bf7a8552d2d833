"""Many probes side by side: 300 services behind 100 ms, and 1,000 targets of which a fifth is silent; in ratios.

Usage: python benchmarks/crowd.py. Everything stays on the loopback: a server that answers each step after 100 ms, and a
port that takes connections and says nothing.
"""

from __future__ import annotations

import socket
import subprocess
import sys
import time
from contextlib import closing
from ipaddress import IPv4Address

import anyio

from hooper.check.checking import probe_all
from hooper.check.results import Seen
from hooper.check.targets import Target
from hooper.net.system import SystemDoor

LOOPBACK = IPv4Address("127.0.0.1")
ROUND_TRIP = 0.1  # seconds
SERVER = f"""
import asyncio
async def answer(reader, writer):
    await asyncio.sleep({ROUND_TRIP})
    try:
        await reader.readuntil(b"\\r\\n\\r\\n")
        await asyncio.sleep({ROUND_TRIP})
        writer.write(b"HTTP/1.1 200 OK\\r\\nServer: hut\\r\\nContent-Length: 18\\r\\n\\r\\n<title>Hut</title>")
        await writer.drain()
    except (asyncio.IncompleteReadError, ConnectionError):
        pass
    writer.close()
async def main():
    server = await asyncio.start_server(answer, "127.0.0.1", 0, backlog=2048)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()
asyncio.run(main())
"""


def target(port: int) -> Target:
    return Target("hut", "http", "tcp", "line", LOOPBACK, port, (LOOPBACK, port), "reachable", expect=None)


async def crowd(ports: list[int], deadline: float) -> tuple[float, list[Seen]]:
    door = SystemDoor()
    started = time.monotonic()
    seen = await probe_all([(door, target(port)) for port in ports], deadline)
    return time.monotonic() - started, seen


def measured() -> tuple[float, float]:
    """The time of 300 probes by that of their slowest, and that of 1,000 by their deadline."""
    with subprocess.Popen([sys.executable, "-c", SERVER], stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        try:
            port = int(server.stdout.readline())
            together, seen = anyio.run(crowd, [port] * 300, 5.0)
            assert all(one.verdict == "answered" for one in seen), {one.verdict for one in seen}
            slowest = max(one.took_ms for one in seen) / 1000
            with closing(socket.create_server(("127.0.0.1", 0), backlog=1024)) as silent:
                ports = [silent.getsockname()[1] if number % 5 == 0 else port for number in range(1000)]
                many, seen = anyio.run(crowd, ports, 5.0)
            told = [one.verdict for one in seen]
            assert (told.count("answered"), told.count("connected")) == (800, 200), told
        finally:
            server.kill()
    print(f"300 behind {ROUND_TRIP:g} s: {together:.2f} s, the slowest of them {slowest:.2f} s")
    print(f"1,000, a fifth silent: {many:.2f} s of 5 s")
    return together / slowest, many / 5.0


if __name__ == "__main__":
    print("ratios: {:.2f}, {:.2f}".format(*measured()))
