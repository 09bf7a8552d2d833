"""A web server of the town that tells names apart on one port, and hands them on to other devices."""

from __future__ import annotations

import ssl
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

import anyio
from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream

from hooper.lab.devices import PATIENCE
from hooper.lab.pipe import splice
from hooper.net.tls import start_tls
from hooper.wire import head

if TYPE_CHECKING:
    from hooper.lab.certificates import Identity
    from hooper.lab.streets import Streets
    from hooper.lab.things import Machine, StreamHandler
    from hooper.net.types import Endpoint

WAITS_S = 2.0  # seconds for the device behind it
REFUSED = bytes([21, 3, 3, 0, 2, 2, 112])  # a fatal alert, unrecognized_name (RFC 8446 section 6.2)
GONE = {True: (502, "Bad Gateway"), False: (504, "Gateway Timeout")}  # by whether something refused


class HandsOn:
    """What answers at the port: its own page, and those of others by their names.

    names: its own. to: by name, address and port of the device, and whether it speaks TLS. shows: what it shows in TLS
    for each name. strict: it has handed names on, and refuses those that it does not know.
    """

    def __init__(self, town: Streets, node: Machine, own: Identity, page: StreamHandler, *names: str) -> None:
        self.town, self.node, self.own, self.page, self.names = town, node, own, page, names
        self.strict = False
        self.to: dict[str, tuple[IPv4Address, int, bool]] = {}
        self.shows: dict[str, ssl.SSLContext] = {}

    def hand(self, name: str, shown: Identity, address: IPv4Address, port: int, *, tls: bool) -> None:
        """A name more, and what is shown for it."""
        self.to[name], self.strict = (address, port, tls), True
        self.shows[name] = shown.context

    def forget(self, name: str) -> None:
        """As a web server whose file lacks the name."""
        self.to.pop(name, None)
        self.shows.pop(name, None)

    def _chosen(self, shown: ssl.SSLObject, name: str | None, _: ssl.SSLContext) -> int | None:
        """RFC 6066 section 3: by the name that is asked for; one that it does not know is refused, once it has several.

        Who asks by address gets its own.
        """
        if name in self.shows:
            shown.context = self.shows[name]
        elif name is not None and self.strict and name not in self.names:
            return int(ssl.ALERT_DESCRIPTION_UNRECOGNIZED_NAME)
        return None

    async def serve(self, stream: ByteStream, peer: Endpoint) -> None:
        """One connection."""
        context = self.own.context
        context.sni_callback = self._chosen
        with anyio.fail_after(PATIENCE):
            try:
                wrapped = await TLSStream.wrap(stream, server_side=True, ssl_context=context, standard_compatible=False)
            except ssl.SSLError as exc:
                if exc.reason == "CALLBACK_FAILED":
                    await stream.send(REFUSED)
                raise
            data = b""
            while (found := head.split_head(data)) is None:
                data += await wrapped.receive()
        name = (found[0].get("host") or "").partition(":")[0].lower()
        again = _Again(wrapped, data)
        if name not in self.to:
            await self.page(again, peer)
            return
        refused = False
        with anyio.move_on_after(WAITS_S) as waiting:
            async with self.town.dialled(self.node, *self.to[name][:2]) as far:
                refused = far is None
                if far is not None:
                    behind: ByteStream = await start_tls(far, None) if self.to[name][2] else far
                    waiting.deadline = float("inf")
                    await splice(again, behind)
                    return
        await wrapped.send(head.serialize_response(*GONE[refused], "HTTP/1.1", (("Connection", "close"),)))


class _Again(ByteStream):
    """A stream of which something was read already."""

    def __init__(self, inner: ByteStream, first: bytes) -> None:
        self._inner, self._first = inner, first

    async def receive(self, max_bytes: int = 65536) -> bytes:
        data, self._first = self._first, b""
        return data or await self._inner.receive(max_bytes)

    async def send(self, item: bytes) -> None:
        await self._inner.send(item)

    async def send_eof(self) -> None:
        await self._inner.send_eof()

    async def aclose(self) -> None:
        await self._inner.aclose()
