"""One request over HTTP to what speaks it badly, or shows a certificate that nobody vouches for: routers and devices at
home. Everything else goes by `net.http`.
"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urlsplit

import anyio

from hooper.addresses import IPAddress, parse_address
from hooper.errors import NoAnswer, WireError
from hooper.net.proxy import close_quietly
from hooper.net.types import Door, Endpoint
from hooper.wire import head
from hooper.wire.body import LIMIT, read_body

QUIET = 2.0  # seconds without a byte after which a body with a wrong length is taken as it is


@dataclass(frozen=True, slots=True)
class Url:
    """An http URL whose host is an address."""

    address: IPAddress
    port: int
    target: str

    @classmethod
    def parse(cls, text: str) -> Url:
        """Raises: WireError: not such a URL."""
        try:
            parts = urlsplit(text.strip())
            address, port = parse_address(parts.hostname or ""), parts.port or 80
        except ValueError:
            raise WireError("URL", 0, f"{text[:80]!r} is no http URL with an address") from None
        if parts.scheme.lower() != "http":
            raise WireError("URL", 0, f"{text[:80]!r} is not http")
        target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        if not target.isascii() or not target.isprintable() or " " in target:
            raise WireError("URL", 0, "holds letters that no URL has")
        return cls(address, port, target)

    def __str__(self) -> str:
        return f"http://{Endpoint(self.address, self.port)}{self.target}"


@dataclass(frozen=True, slots=True)
class PlainAnswer:
    head: head.Head
    body: bytes


async def ask(
    door: Door,
    url: Url,
    deadline: float,
    *,
    method: str = "GET",
    fields: tuple[tuple[str, str], ...] = (),
    body: bytes = b"",
    secure: bool = False,
) -> PlainAnswer:
    """Send one request and read the answer, on a connection of its own.

    deadline: seconds. secure: in TLS, whatever certificate is shown: what comes proves nothing.

    Raises: NoAnswer, ConnectFailed; WireError: it answers, but not by HTTP, or not by TLS.
    """
    to = Endpoint(url.address, url.port)
    own: tuple[tuple[str, str], ...] = (("Host", str(to)), ("User-Agent", "hooper UPnP/1.1"), ("Connection", "close"))
    if body:
        own = (*own, ("Content-Length", str(len(body))))
    try:
        with anyio.fail_after(deadline):
            stream = await door.connect(url.address, url.port)
            try:
                stream = await _secured(stream) if secure else stream
                await stream.send(head.serialize_request(method, url.target, "HTTP/1.1", (*own, *fields)) + body)
                return await _read(stream)
            finally:
                await close_quietly(stream)
    except TimeoutError:
        raise NoAnswer(f"no answer from {to} within {deadline:g} s") from None
    except (anyio.BrokenResourceError, anyio.EndOfStream):
        raise NoAnswer(f"{to} hung up without an answer") from None


async def _secured(stream: anyio.abc.ByteStream) -> anyio.abc.ByteStream:
    """Raises: WireError: TLS does not come up."""
    import ssl

    from hooper.net.tls import start_tls

    try:
        return await start_tls(stream, None)
    except ssl.SSLError as exc:
        raise WireError("TLS", 0, exc.reason or "it does not come up") from None


async def _read(stream: anyio.abc.ByteReceiveStream) -> PlainAnswer:
    data = b""
    while (found := head.split_head(data)) is None or 100 <= found[0].status < 200:
        if found is not None:  # an interim answer (RFC 9110 section 15.2): the real one follows
            data = found[1]
            continue
        data += await stream.receive()
    got, rest = found
    ended = False
    while (whole := read_body(got, rest, ended=ended)) is None:
        try:
            with anyio.fail_after(QUIET if rest else None):
                rest += await stream.receive()
        except (anyio.EndOfStream, anyio.BrokenResourceError, TimeoutError):
            ended = True
        if len(rest) > LIMIT:
            raise WireError("body", LIMIT, f"longer than {LIMIT} bytes")
    return PlainAnswer(got, whole)
