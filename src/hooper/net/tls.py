"""TLS for probes: talks to old devices too, keeps what they show, and trusts nothing."""

from __future__ import annotations

import ssl
import warnings
from functools import cache
from typing import Any

from anyio.abc import ByteStream
from anyio.streams.tls import TLSStream

LEGACY_SERVER_CONNECT = 0x4  # SSL_OP_LEGACY_SERVER_CONNECT, openssl/ssl.h


@cache
def probe_context() -> ssl.SSLContext:
    """A client's context that completes a handshake with almost anything. What it carries is never trusted."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DeprecationWarning)  # old versions are the point
        context.minimum_version = ssl.TLSVersion.TLSv1
    context.set_ciphers("ALL:@SECLEVEL=0")
    context.options |= LEGACY_SERVER_CONNECT
    return context


async def start_tls(stream: ByteStream, server_name: str | None) -> TLSStream:
    """A TLS client on `stream`. Raises: ssl.SSLError, anyio's errors of a stream that ended."""
    return await TLSStream.wrap(
        stream,
        server_side=False,
        hostname=server_name,
        ssl_context=probe_context(),
        standard_compatible=False,
    )


def chain_of(stream: TLSStream) -> tuple[bytes, ...]:
    """The certificates that the server showed, its own first, in DER; empty: none."""
    from anyio.streams.tls import TLSAttribute

    shown = stream.extra(TLSAttribute.ssl_object)
    leaf = shown.getpeercert(binary_form=True)
    if not isinstance(leaf, bytes):
        return ()
    # public since Python 3.13; before that only inside, and then as objects
    teller: Any = shown if hasattr(shown, "get_unverified_chain") else getattr(shown, "_sslobj", None)
    told = teller.get_unverified_chain() if hasattr(teller, "get_unverified_chain") else ()
    chain = [
        certificate if isinstance(certificate, bytes) else ssl.PEM_cert_to_DER_cert(certificate.public_bytes())
        for certificate in told or ()
    ]
    return (leaf, *(certificate for certificate in chain if certificate != leaf))
