"""Carries one notice, as a program of its own: what it imports and where it connects is no matter of the keeper's.

It is given a JSON object on its input: addresses, title, body, and the relay by which alone it connects. Exit code 0:
it was taken; 1: it was not; 2: an address is none.
"""

from __future__ import annotations

import json
import logging
import socket
import sys
from typing import Any

NO_ADDRESS = 2


def go_by(port: int, word: str) -> None:
    """From here on, this process connects by the relay alone."""
    own_connect = socket.socket.connect

    def connected(address: tuple[Any, ...], timeout: Any = None, *_: Any, **__: Any) -> socket.socket:
        sock = socket.socket()
        try:
            sock.settimeout(timeout if isinstance(timeout, int | float) else 30.0)
            own_connect(sock, ("127.0.0.1", port))
            sock.sendall(f"{word} {address[0]} {address[1]}\n".encode())
            answer = b""
            while not answer.endswith(b"\n"):
                more = sock.recv(1)
                if not more:
                    break
                answer += more
            if answer != b"ok\n":
                raise OSError(f"{address[0]} cannot be reached")
        except BaseException:
            sock.close()
            raise
        return sock

    def refused(*_: Any, **__: Any) -> Any:
        raise OSError("it connects by the relay alone")

    from urllib3.util import connection

    socket.create_connection = connection.create_connection = connected
    socket.socket.connect = socket.socket.connect_ex = refused  # type: ignore[method-assign]
    socket.getaddrinfo = refused


def carry(asked: dict[str, Any]) -> int:
    """Send it; the exit code."""
    import apprise

    logging.getLogger("apprise").setLevel(logging.CRITICAL)  # what it says holds addresses, which are secret
    carrier = apprise.Apprise()
    if not all(carrier.add(one) for one in asked["addresses"]):
        return NO_ADDRESS
    go_by(asked["port"], asked["word"])
    return 0 if carrier.notify(title=asked["title"], body=asked["body"]) else 1


if __name__ == "__main__":
    sys.exit(carry(json.load(sys.stdin)))
