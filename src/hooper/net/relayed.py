"""A process whose connections all go by the relay of another one, and so by that one's door.

It is for a program of ours that runs what knows no door; it is imported by nothing else.
"""

from __future__ import annotations

import socket
from typing import Any


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
