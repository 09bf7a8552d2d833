"""HTTP with verified TLS over any door: httpcore speaks it, over connections that the door makes.

No redirection is followed, so that no secret goes where nobody named it.
"""

from __future__ import annotations

import base64
import contextlib
import ssl
from collections.abc import AsyncIterator, Iterable, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime
from email.utils import parsedate_to_datetime
from functools import lru_cache
from typing import Any, Protocol, TypeVar
from urllib.parse import quote, unquote, urlsplit

import anyio
import httpcore
from anyio.abc import ByteStream

from hooper.addresses import parse_address
from hooper.errors import CounterpartError, HooperError, MachineError
from hooper.jsonform import read_json
from hooper.net.proxy import close_quietly
from hooper.net.types import Door
from hooper.secret import excerpt

WAIT_S = 300.0  # seconds to leave a busy server alone where it does not say how long
WAIT_AT_MOST_S = 86_400.0
URL_SAFE = "/%:@!$&'()*+,;=~?-._"
CHARSETS = ("utf-8", "us-ascii", "ascii", "iso-8859-1", "iso-8859-15", "windows-1252", "latin-1")
T = TypeVar("T")
BODY_LIMIT = 1024 * 1024  # bytes; no answer that we ask for is longer


@lru_cache(maxsize=8)
def trusting(roots: str | None) -> ssl.SSLContext:
    """A client's context that verifies. roots: further root certificates in PEM, beside those that are well known.

    Raises: MachineError: they are none.
    """
    import certifi

    context = ssl.create_default_context(cafile=certifi.where())
    context.load_default_certs()
    if roots is not None:
        try:
            context.load_verify_locations(cadata=roots)
        except (ssl.SSLError, ValueError):
            raise MachineError(
                "the file that `trust` names holds no certificate", remedy="It must hold one or more in PEM."
            ) from None
        context.verify_flags &= ~getattr(ssl, "VERIFY_X509_STRICT", 0)  # home-made roots lack what nobody needs
    return context


class _Stream(httpcore.AsyncNetworkStream):
    """A door's stream as httpcore wants it."""

    def __init__(self, stream: ByteStream) -> None:
        self._stream = stream

    async def read(self, max_bytes: int, timeout: float | None = None) -> bytes:
        try:
            with anyio.fail_after(timeout):
                return await self._stream.receive(max_bytes)
        except anyio.EndOfStream:
            return b""
        except TimeoutError as exc:
            raise httpcore.ReadTimeout from exc
        except (anyio.BrokenResourceError, anyio.ClosedResourceError, ssl.SSLError, HooperError) as exc:
            raise httpcore.ReadError(str(exc)) from exc

    async def write(self, buffer: bytes, timeout: float | None = None) -> None:
        if not buffer:
            return
        try:
            with anyio.fail_after(timeout):
                await self._stream.send(buffer)
        except TimeoutError as exc:
            raise httpcore.WriteTimeout from exc
        except (anyio.BrokenResourceError, anyio.ClosedResourceError, ssl.SSLError, HooperError) as exc:
            raise httpcore.WriteError(str(exc)) from exc

    async def aclose(self) -> None:
        await close_quietly(self._stream)

    async def start_tls(
        self, ssl_context: ssl.SSLContext, server_hostname: str | None = None, timeout: float | None = None
    ) -> _Stream:
        try:
            return await self._wrapped(ssl_context, server_hostname, timeout)
        except BaseException:
            await self.aclose()  # nobody else will: httpcore has not got a stream yet
            raise

    async def _wrapped(self, context: ssl.SSLContext, hostname: str | None, timeout: float | None) -> _Stream:
        from anyio.streams.tls import TLSStream

        try:
            with anyio.fail_after(timeout):
                wrapped = await TLSStream.wrap(
                    self._stream, server_side=False, hostname=hostname, ssl_context=context, standard_compatible=False
                )
        except TimeoutError as exc:
            raise httpcore.ConnectTimeout("no answer to TLS") from exc
        except ssl.SSLCertVerificationError as exc:
            raise httpcore.ConnectError(f"its certificate is not to be trusted: {exc.verify_message}") from exc
        except ssl.SSLError as exc:
            reason = (exc.reason or "handshake failed").lower().replace("_", " ")
            raise httpcore.ConnectError(f"TLS does not come up: {reason}") from exc
        except (anyio.BrokenResourceError, anyio.EndOfStream) as exc:
            raise httpcore.ConnectError("it hangs up in the middle of TLS") from exc
        return _Stream(wrapped)

    def get_extra_info(self, info: str) -> Any:
        if info == "ssl_object":
            from anyio.streams.tls import TLSAttribute

            return self._stream.extra(TLSAttribute.ssl_object, None)
        return False if info == "is_readable" else None


class _Backend(httpcore.AsyncNetworkBackend):
    """Connections through a door; names are looked up there too, IPv4 first."""

    def __init__(self, door: Door) -> None:
        self._door = door

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,
        local_address: str | None = None,
        socket_options: Iterable[Any] | None = None,
    ) -> _Stream:
        del local_address, socket_options
        try:
            with anyio.fail_after(timeout):
                return _Stream(await self._connect(host, port))
        except TimeoutError as exc:
            raise httpcore.ConnectTimeout(f"no answer from {host}:{port}") from exc
        except HooperError as exc:
            raise httpcore.ConnectError(exc.message) from exc

    async def _connect(self, host: str, port: int) -> ByteStream:
        try:
            addresses = [parse_address(host)]
        except ValueError:
            addresses = await self._door.lookup(host, "ipv4")
            addresses += [] if addresses else await self._door.lookup(host, "ipv6")
        problem: Exception = httpcore.ConnectError(f"the name {host} has no address")
        for address in addresses:
            try:
                return await self._door.connect(address, port)
            except HooperError as exc:
                problem = exc
        raise problem

    async def sleep(self, seconds: float) -> None:
        await anyio.sleep(seconds)


class HttpFailed(CounterpartError):
    """No answer came by HTTP, or none that could be used."""

    code = "http-failed"


@dataclass(frozen=True)
class HttpAnswer:
    """A whole answer. headers: by their names in lower case; several of Link as one (RFC 9110 section 5.3)."""

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    content: bytes = b""

    def header(self, name: str) -> str | None:
        return self.headers.get(name.lower())

    @property
    def text(self) -> str:
        """The body in the encoding that it names, if that is in use, else in UTF-8; what does not fit is replaced."""
        _, _, named = self.headers.get("content-type", "").lower().partition("charset=")
        charset = named.partition(";")[0].strip("\"' ")
        return self.content.decode(charset if charset in CHARSETS else "utf-8", "replace")

    def read_as(self, kind: type[T]) -> T:
        """The JSON of the body as that type: what is not ours is read here and nowhere else.

        Raises: ValueError: it is no JSON, or of another form.
        """
        return read_json(kind, self.content)


class HttpClient(Protocol):
    """What sends requests."""

    async def request(
        self, method: str, url: str, *, headers: Mapping[str, str] | None = None, content: bytes | None = None
    ) -> HttpAnswer:
        """One request with its whole answer. No redirection is followed. Raises: HttpFailed."""
        ...


class _Client:
    def __init__(self, pool: httpcore.AsyncConnectionPool, deadline: float) -> None:
        self._pool, self._deadline = pool, deadline

    async def request(
        self, method: str, url: str, *, headers: Mapping[str, str] | None = None, content: bytes | None = None
    ) -> HttpAnswer:
        where, login = _parsed(url)
        sent = {"User-Agent": "hooper", "Accept": "*/*", "Accept-Encoding": "identity", **login, **(headers or {})}
        if content is None and method in ("POST", "PUT", "PATCH"):
            sent["Content-Length"] = "0"
        waits = dict.fromkeys(("connect", "read", "write", "pool"), self._deadline)
        try:
            fields = [(name.encode("ascii"), value.encode("latin-1")) for name, value in sent.items()]
            with anyio.fail_after(self._deadline):
                async with self._pool.stream(
                    method, where, headers=fields, content=content, extensions={"timeout": waits}
                ) as answer:
                    return await _whole(answer)
        except (TimeoutError, httpcore.TimeoutException) as exc:
            raise HttpFailed(str(exc) or "no whole answer in time") from None
        except (httpcore.NetworkError, httpcore.ProtocolError, httpcore.UnsupportedProtocol) as exc:
            raise HttpFailed(str(exc) or "the connection broke") from None
        except UnicodeEncodeError as exc:
            raise HttpFailed(f"a header cannot be sent: {exc.reason}") from None


async def _whole(answer: httpcore.Response) -> HttpAnswer:
    body = bytearray()
    async for chunk in answer.aiter_stream():
        body += chunk
        if len(body) > BODY_LIMIT:
            raise HttpFailed(f"the answer is longer than {BODY_LIMIT} bytes")
    headers: dict[str, str] = {}
    for name, value in answer.headers:
        key, text = name.decode("latin-1").lower(), value.decode("latin-1")
        headers[key] = f"{headers[key]}, {text}" if key == "link" and key in headers else headers.get(key, text)
    if headers.get("content-encoding", "identity").strip().lower() not in ("", "identity"):
        raise HttpFailed(
            f"it answers in an encoding that was not asked for: {excerpt(headers['content-encoding'], 40)!r}"
        )
    return HttpAnswer(answer.status, headers, bytes(body))


def _parsed(url: str) -> tuple[httpcore.URL, dict[str, str]]:
    """A URL as httpcore wants it, and the login that it carries. Raises: HttpFailed: it is none."""
    try:
        parts = urlsplit(url)
        host, port = (parts.hostname or "").encode("idna" if ":" not in (parts.hostname or "") else "ascii"), parts.port
    except (ValueError, UnicodeError):
        raise HttpFailed("the URL cannot be understood") from None
    if parts.scheme not in ("http", "https") or not host:
        raise HttpFailed("the URL names no host, or is none of HTTP")
    target = quote(parts.path or "/", safe="/%:@!$&'()*+,;=~") + (
        f"?{quote(parts.query, safe=URL_SAFE)}" if parts.query else ""
    )
    login: dict[str, str] = {}
    if parts.username is not None:
        pair = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
        login = {"Authorization": f"Basic {base64.b64encode(pair.encode()).decode()}"}
    return httpcore.URL(scheme=parts.scheme.encode(), host=host, port=port, target=target.encode("ascii")), login


@asynccontextmanager
async def http(door: Door, roots: str | None, deadline: float) -> AsyncIterator[HttpClient]:
    """A client. roots: as for `trusting`. deadline: seconds for a request with its answer. Raises: MachineError."""
    async with httpcore.AsyncConnectionPool(ssl_context=trusting(roots), network_backend=_Backend(door)) as pool:
        yield _Client(pool, deadline)


def retry_after(text: str | None, now: datetime, at_most: float = WAIT_AT_MOST_S) -> float:
    """Seconds to wait by a Retry-After field (RFC 9110 section 10.2.3). now: in UTC. at_most: seconds."""
    seconds = WAIT_S
    if text is not None and text.strip().isascii() and text.strip().isdigit():
        seconds = float(text.strip()[:9])
    elif text is not None:
        with contextlib.suppress(ValueError, TypeError):
            seconds = (parsedate_to_datetime(text) - now).total_seconds()
    return min(max(seconds, 1.0), at_most)
