"""What is bound to a socket of the system's, and ends with it."""

from __future__ import annotations

from ipaddress import ip_address
from typing import TYPE_CHECKING, Any, Self

import anyio

from hooper.net.types import Endpoint

if TYPE_CHECKING:
    import socket


class OnSocket:
    """One non-blocking socket."""

    def __init__(self, sock: socket.socket) -> None:
        self._sock = sock

    @property
    def local(self) -> Endpoint:
        return endpoint_of(self._sock.getsockname())

    async def aclose(self) -> None:
        if self._sock.fileno() >= 0:
            anyio.notify_closing(self._sock)
            self._sock.close()

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()


def endpoint_of(name: tuple[Any, ...]) -> Endpoint:
    """Of a socket's name, as the socket module has it, without an interface."""
    return Endpoint(ip_address(name[0].partition("%")[0]), name[1])
