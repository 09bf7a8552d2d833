"""The door through a SOCKS5 proxy (RFC 1928): streams leave from the proxy, everything else does not."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass

import anyio
from anyio.abc import AnyByteStream, ByteStream
from anyio.streams.buffered import BufferedByteStream

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.errors import CounterpartError, HooperError, WireError
from hooper.net.passing import PassingDoor
from hooper.net.types import (
    ConnectFailed,
    Datagrams,
    Endpoint,
    Listener,
    ProxyTrouble,
    Refused,
    Unreachable,
)
from hooper.places import Place
from hooper.secret import Secret
from hooper.wire import socks5


class ProxyFailed(CounterpartError):
    """The proxy itself cannot be used."""

    code = "proxy-failed"
    remedy = "Check the proxy's address, its user name and its password."


async def close_quietly(stream: AnyByteStream) -> None:
    """Close at once, whatever state the stream is in, also when cancelled."""
    with anyio.CancelScope(shield=True), contextlib.suppress(OSError, anyio.BrokenResourceError):
        await anyio.aclose_forcefully(stream)


async def read_reply(stream: BufferedByteStream) -> socks5.SocksReply:
    """Read a SOCKS5 reply. Raises: WireError, anyio's errors of a stream that ended."""
    version, code, _, kind, first = await stream.receive_exactly(5)
    if version != socks5.VERSION:
        raise WireError("reply version", 0, f"{version} is not 5")
    rest = await stream.receive_exactly(socks5.address_length(kind, first))
    bound, port = socks5.parse_address(kind, bytes([first]) + rest)
    return socks5.SocksReply(code, bound, port)


@dataclass
class ProxyDoor(PassingDoor):
    """A SOCKS5 proxy at `proxy`, itself reached through `inner`."""

    proxy: Endpoint
    user: str | None = None
    password: Secret | None = None

    @property
    def place(self) -> Place:
        return Place("proxy", str(self.proxy.address), self.proxy.port, self.user)

    @property
    def hears_icmp(self) -> bool:
        return False

    def through(self, interface: str) -> ProxyDoor:
        return ProxyDoor(self.inner.through(interface), self.proxy, self.user, self.password)

    async def greet(self) -> BufferedByteStream:
        """A stream to the proxy that is ready for a request. Raises: ProxyFailed."""
        try:
            stream = BufferedByteStream(await self.inner.connect(self.proxy.address, self.proxy.port))
        except ConnectFailed as exc:
            raise ProxyFailed(f"the proxy {self.proxy} cannot be reached: {exc.message}") from None
        try:
            await self._log_in(stream)
        except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError):
            await close_quietly(stream)
            raise ProxyFailed(f"{self.proxy} hung up instead of answering as a SOCKS5 proxy") from None
        except BaseException:
            await close_quietly(stream)
            raise
        return stream

    async def _log_in(self, stream: BufferedByteStream) -> None:
        login = self.user is not None
        await stream.send(socks5.serialize_greeting(login=login))
        version, method = await stream.receive_exactly(2)
        if version != socks5.VERSION:
            raise ProxyFailed(f"{self.proxy} does not answer as a SOCKS5 proxy")
        if method == socks5.NO_METHOD or method != (socks5.LOGIN if login else socks5.NO_LOGIN):
            wants = "wants another way to log in" if login else "wants a user name and a password"
            raise ProxyFailed(
                f"the proxy {self.proxy} {wants}", remedy=f"Give the user in the URL, and {deeds.PROXY_PASSWORD}."
            )
        if not login:
            return
        assert self.user is not None
        await stream.send(socks5.serialize_login(self.user, self.password.reveal() if self.password else ""))
        _, status = await stream.receive_exactly(2)
        if status != 0:
            raise ProxyFailed(f"the proxy {self.proxy} does not accept this user name and password")

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        if source is not None:
            raise ProxyTrouble("the proxy chooses its own source address")
        target = Endpoint(to, port)
        try:
            stream = await self.greet()
        except ProxyFailed as exc:
            raise ProxyTrouble(exc.message) from None
        try:
            await stream.send(socks5.serialize_request(to, port))
            reply = await read_reply(stream)
        except (anyio.EndOfStream, anyio.IncompleteRead, anyio.BrokenResourceError, WireError):
            await close_quietly(stream)
            raise ProxyTrouble(f"the proxy {self.proxy} hung up without an answer about {target}") from None
        except BaseException:
            await close_quietly(stream)
            raise
        if reply.code == socks5.GRANTED:
            return stream
        await close_quietly(stream)
        said = f"the proxy {self.proxy} says about {target}: {socks5.REPLIES.get(reply.code, f'code {reply.code}')}"
        if reply.code == socks5.REFUSED:
            raise Refused(said)
        if reply.code in (socks5.HOST_UNREACHABLE, socks5.NET_UNREACHABLE, socks5.TTL_EXPIRED):
            raise Unreachable(said)
        raise ProxyTrouble(said)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        raise _streams_only("datagrams")

    async def listen(self, local: Endpoint) -> Listener:
        raise _streams_only("a listening port")

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        """The proxy chooses it, and does not say."""
        return None


def _streams_only(what: str) -> HooperError:
    return ProxyTrouble(f"a proxy carries connections only, not {what}")
