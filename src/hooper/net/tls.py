"""TLS for probes: talks to old devices too, keeps what they show, and trusts nothing."""

from __future__ import annotations

import ssl
import tempfile
import warnings
from contextlib import suppress
from functools import cache
from pathlib import Path
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


def server_context(chain: bytes, key: bytes, alpn: str | None = None) -> ssl.SSLContext:
    """A server's context. chain, key: in PEM. alpn: the one protocol that it speaks (RFC 7301); None: it does not say.

    Raises: ssl.SSLError: the two do not belong together.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
        path = Path(folder, "pair.pem")
        path.touch(0o600)
        path.write_bytes(chain + b"\n" + key)
        context.load_cert_chain(path)
    if alpn is not None:
        context.set_alpn_protocols([alpn])
    return context


async def start_tls(stream: ByteStream, server_name: str | None) -> TLSStream:
    """A TLS client on `stream`. Raises: ssl.SSLError, anyio's errors of a stream that ended."""
    return await TLSStream.wrap(
        stream, server_side=False, hostname=server_name, ssl_context=probe_context(), standard_compatible=False
    )


def chain_of(stream: TLSStream) -> tuple[bytes, ...]:
    """The certificates that the server showed, its own first, in DER; empty: none."""
    from anyio.streams.tls import TLSAttribute

    shown = stream.extra(TLSAttribute.ssl_object)
    leaf = shown.getpeercert(binary_form=True)
    if not isinstance(leaf, bytes):
        return ()
    return (leaf, *(certificate for certificate in _shown_by(shown) if certificate != leaf))


def _shown_by(tls: Any) -> list[bytes]:
    """All certificates that the other end has shown so far, in DER."""
    # public since Python 3.13; before that only inside, and then as objects
    teller: Any = tls if hasattr(tls, "get_unverified_chain") else getattr(tls, "_sslobj", None)
    told = teller.get_unverified_chain() if hasattr(teller, "get_unverified_chain") else ()
    return [
        certificate if isinstance(certificate, bytes) else ssl.PEM_cert_to_DER_cert(certificate.public_bytes())
        for certificate in told or ()
    ]


class MemoryTls:
    """A TLS client whose bytes are carried by somebody else, as far as the server has proven its certificate.

    proven: it has signed with the key of what it shows. chain: that, in DER, its own first. version: as negotiated.
    """

    def __init__(self) -> None:
        self._in, self._out = ssl.MemoryBIO(), ssl.MemoryBIO()
        self._tls = probe_context().wrap_bio(self._in, self._out)
        self.proven, self.chain, self.version = False, tuple[bytes, ...](), ""

    def step(self, data: bytes) -> bytes:
        """Take what came, and return what is to be sent. With the proof that is the last of it: no certificate of ours
        and a goodbye, so that the server does not wait for more. Raises: ssl.SSLError: it is no such TLS.
        """
        self._in.write(data)
        try:
            self._tls.do_handshake()
            self.proven = True
        except ssl.SSLWantReadError:
            self._note()
            # up to TLS 1.2 the proof stands beside the certificate, and what follows is ours to say
            self.proven = bool(self.chain) and self._out.pending > 0
            return self._out.read()
        self._note()
        with suppress(ssl.SSLError):
            self._tls.unwrap()
        return self._out.read()

    def _note(self) -> None:
        self.chain = tuple(_shown_by(self._tls))
        self.version = self._tls.version() or ""
