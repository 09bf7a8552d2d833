"""HTTP with verified TLS over any door: an httpx client whose connections a door makes."""

from __future__ import annotations

import ssl
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager
from functools import lru_cache
from typing import Any

import anyio
import httpcore
import httpx
from anyio.abc import ByteStream

from hooper.addresses import parse_address
from hooper.errors import HooperError, MachineError
from hooper.net.proxy import close_quietly
from hooper.net.types import Door

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
                    self._stream,
                    server_side=False,
                    hostname=hostname,
                    ssl_context=context,
                    standard_compatible=False,
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


class _Body(httpx.AsyncByteStream):
    def __init__(self, answer: httpcore.Response) -> None:
        self._answer = answer

    async def __aiter__(self) -> AsyncIterator[bytes]:
        size = 0
        try:
            async for chunk in self._answer.aiter_stream():
                size += len(chunk)
                if size > BODY_LIMIT:
                    raise httpx.ReadError(f"the answer is longer than {BODY_LIMIT} bytes")
                yield chunk
        except (httpcore.NetworkError, httpcore.ProtocolError) as exc:
            raise httpx.ReadError(str(exc) or "the answer was cut short") from exc
        except httpcore.TimeoutException as exc:
            raise httpx.ReadTimeout("the answer stopped in the middle") from exc

    async def aclose(self) -> None:
        await self._answer.aclose()


class _Transport(httpx.AsyncBaseTransport):
    def __init__(self, door: Door, context: ssl.SSLContext) -> None:
        self._pool = httpcore.AsyncConnectionPool(ssl_context=context, network_backend=_Backend(door))

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        assert isinstance(request.stream, httpx.AsyncByteStream)
        asked = httpcore.Request(
            request.method,
            httpcore.URL(
                scheme=request.url.raw_scheme,
                host=request.url.raw_host,
                port=request.url.port,
                target=request.url.raw_path,
            ),
            headers=request.headers.raw,
            content=request.stream,
            extensions=request.extensions,
        )
        try:
            answer = await self._pool.handle_async_request(asked)
        except httpcore.TimeoutException as exc:
            raise httpx.TimeoutException(str(exc) or "no answer in time", request=request) from exc
        except (httpcore.NetworkError, httpcore.ProtocolError, httpcore.UnsupportedProtocol) as exc:
            raise httpx.NetworkError(str(exc) or "the connection broke", request=request) from exc
        return httpx.Response(
            answer.status, headers=answer.headers, stream=_Body(answer), extensions=answer.extensions, request=request
        )

    async def aclose(self) -> None:
        await self._pool.aclose()


async def request(client: httpx.AsyncClient, method: str, url: str, **more: Any) -> httpx.Response:
    """One request with its whole answer, within the client's deadline for all of it. Raises: httpx.HTTPError."""
    try:
        with anyio.fail_after(client.timeout.read):
            return await client.request(method, url, **more)
    except TimeoutError:
        raise httpx.TimeoutException("no whole answer in time") from None


@asynccontextmanager
async def http(door: Door, roots: str | None, deadline: float) -> AsyncIterator[httpx.AsyncClient]:
    """A client. roots: as for `trusting`. deadline: seconds for a request with its answer.

    It follows no redirect, so that no secret goes where nobody named it. Raises: MachineError.
    """
    transport = _Transport(door, trusting(roots))
    async with httpx.AsyncClient(
        transport=transport, trust_env=False, timeout=deadline, headers={"User-Agent": "hooper"}
    ) as client:
        yield client
