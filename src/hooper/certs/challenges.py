"""Proving that a name is ours: a TXT record, a page at port 80, or a certificate at port 443 (RFC 8555, RFC 8737)."""

from __future__ import annotations

import base64
from collections.abc import AsyncIterator, Callable
from contextlib import AbstractAsyncContextManager, asynccontextmanager, nullcontext, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.certs.proof_ways import Kind, ProofWay, proof_ways
from hooper.errors import CounterpartError, HooperError, NeedsAPerson
from hooper.files import make_folder, write_atomically
from hooper.names.own_servers import authority_for
from hooper.names.publishers import open_publisher
from hooper.net.dns import QUESTION_S, published, shown_by_all
from hooper.net.serving import NOT_THERE, HttpAsked, HttpSaid, serve_http, serve_tls
from hooper.net.tls import server_context
from hooper.net.types import Door, Endpoint, Listener
from hooper.site.references import PROOF_PORTS, name_entry, text_updater

if TYPE_CHECKING:
    import ssl
    from datetime import datetime

    from hooper.site.certificate_tables import Certificate
    from hooper.site.model import Site

SHOWN_EVERY = 1.0  # seconds
WELL_KNOWN = "/.well-known/acme-challenge/"
ALPN = "acme-tls/1"  # RFC 8737 section 6.2
PROOF_OID = "1.3.6.1.5.5.7.1.31"  # RFC 8737 section 6.1
ALIASES = 8  # that are followed from a record to where it stands


class NoProof(NeedsAPerson):
    """There is no way to prove a name."""

    code = "no-challenge"
    remedy = (
        "Give the name an updater that sets TXT records (`set_text`, or dns-update), or let port 80 or 443 come in to"
        " this computer."
    )


class TextNotShown(CounterpartError):
    """The TXT record did not arrive at all servers of the zone."""

    code = "text-not-shown"
    remedy = f"Run the command again later, or wait longer with {deeds.WAIT_FOR_NAMES}; it goes on where it stopped."


class ProofMemory(Protocol):
    """What is remembered of TXT records that are published, so that none is left behind by a run that was killed."""

    def texts(self) -> list[tuple[str, str]]: ...

    def save_text(self, name: str, text: str, *, there: bool) -> None: ...


class Lender(Protocol):
    """What lets a port in to this computer for a while."""

    async def unlendable(self, line: str) -> dict[int, str]:
        """Why each port of `PROOF_PORTS` cannot be let in from a line; empty: it can."""
        ...

    async def own(self) -> IPAddress:
        """Where this computer is on the LAN."""
        ...

    def lent(self, outside: int, inside: int) -> AbstractAsyncContextManager[None]:
        """While this is open, a port outside leads to one of this computer. Raises: NoProof."""
        ...


@dataclass(frozen=True)
class Prover:
    """Makes what a challenge looks for, and takes it away again. lender: None: nothing is entered at routers."""

    here: Door
    site: Site
    certificate: Certificate
    base: Path
    deadline: float
    patience: float
    memory: ProofMemory
    lender: Lender | None = None

    async def choose(self, name: str, offered: set[str]) -> ProofWay:
        """The way to take for a name. offered: the kinds of challenges that the authority gives. Raises: NoProof."""
        around = await self.here.surroundings()
        own: set[IPAddress] = {address.ip for interface in around.interfaces for address in interface.addresses}
        entry = name_entry(self.site, name)
        unlendable = await self.lender.unlendable(entry.line) if self.lender is not None and entry is not None else {}
        ways, against = proof_ways(self.site, self.certificate, name, own, self.base, unlendable)
        if (way := next((way for way in ways if way.kind in offered), None)) is not None:
            return way
        against |= {way.kind: "it is not offered" for way in ways}
        reasons = "; ".join(f"{kind}: {text}" for kind, text in against.items())
        raise NoProof(f"there is no way to prove {name}: {reasons}")

    @asynccontextmanager
    async def shown(self, way: ProofWay, name: str, token: str, answer: str, text: str) -> AsyncIterator[None]:
        """While this is open, the challenge is answered. answer: the key authorization; text: for the TXT record.

        Raises: TextNotShown; NoProof: the port is not let in; what the updater or this computer has against it.
        """
        if way.how == "record":
            async with self._text(way.updater, name, text):
                yield
        elif way.folder is not None:
            folder = way.folder / ".well-known" / "acme-challenge"
            make_folder(folder)
            write_atomically(folder / token, answer.encode())
            try:
                yield
            finally:
                with suppress(OSError):
                    (folder / token).unlink()
        else:
            served = self._answering(way.kind, name, token, answer, text)
            async with self._listening(way, served):
                yield

    def _answering(self, kind: Kind, name: str, token: str, answer: str, text: str) -> Callable[[Listener], Any]:
        if kind == "tls-alpn-01":
            digest = base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
            context = proving_context(name, digest, self.here.clock.now())
            return lambda listener: serve_tls(listener, context)
        page = HttpSaid(200, answer.encode(), "application/octet-stream")

        async def said(asked: HttpAsked) -> HttpSaid:
            return page if asked.target == WELL_KNOWN + token else NOT_THERE

        return lambda listener: serve_http(listener, said)

    @asynccontextmanager
    async def _listening(self, way: ProofWay, served: Callable[[Listener], Any]) -> AsyncIterator[None]:
        """Answer at the port, and where it is lent let it in meanwhile."""
        lender = self.lender if way.listen is None else None
        at = way.listen or Endpoint(await lender.own(), 0)  # type: ignore[union-attr]
        problem: HooperError | None = None
        async with await self.here.listen(at) as listener, anyio.create_task_group() as tasks:
            tasks.start_soon(served, listener)
            try:
                inside = listener.local.port
                async with lender.lent(PROOF_PORTS[way.kind], inside) if lender is not None else nullcontext():
                    yield
            except HooperError as exc:  # kept, since the task group would wrap it up
                problem = exc
            tasks.cancel_scope.cancel()
        if problem is not None:
            raise problem

    async def _record(self, name: str) -> str:
        """Where the TXT record stands: at the name, or where an alias leads (RFC 8555 section 8.4, RFC 1034 3.6.2)."""
        record = f"_acme-challenge.{name.removeprefix('*.')}"
        entry = name_entry(self.site, name)
        for _ in range(ALIASES):
            updated_by = entry.updated_by if entry is not None else ""
            where = await authority_for(self.here, self.site, record, updated_by, self.deadline)
            found = await published(self.here, where, record, "CNAME", min(self.deadline, QUESTION_S))
            if not found.values:
                break
            record, entry = found.values[0].rstrip("."), None
        return record

    @asynccontextmanager
    async def _text(self, updater: str, name: str, text: str) -> AsyncIterator[None]:
        record = await self._record(name)
        publisher = open_publisher(self.here, self.site, updater, self.base, self.deadline)
        self.memory.save_text(name, text, there=True)
        try:
            await publisher.set_text(record, text)
            await self._until_shown(record, text, updater)
            yield
        finally:
            with anyio.CancelScope(shield=True), anyio.move_on_after(self.deadline), suppress(HooperError):
                await publisher.clear_text(record, text)
                self.memory.save_text(name, text, there=False)

    async def clear_leftovers(self) -> None:
        """Take away the records that a run which was killed has left."""
        for name, text in self.memory.texts():
            owner = next((one for one in self.site.certificates.values() if name in one.names), self.certificate)
            updater = text_updater(self.site, owner, name) if name_entry(self.site, name) is not None else None
            with suppress(HooperError):
                if updater is not None:
                    publisher = open_publisher(self.here, self.site, updater, self.base, self.deadline)
                    await publisher.clear_text(await self._record(name), text)
                self.memory.save_text(name, text, there=False)

    async def _until_shown(self, record: str, text: str, updater: str) -> None:
        """Wait until all of the zone's servers have the record; where none can be asked, the authority decides."""
        where = await authority_for(self.here, self.site, record, updater, self.deadline)
        unanswered = 0
        with anyio.move_on_after(self.patience):
            while True:
                shown = await shown_by_all(self.here, where, record, "TXT", text, min(self.deadline, QUESTION_S))
                unanswered = unanswered + 1 if shown is None else 0
                if shown or unanswered >= 2:
                    return
                await self.here.clock.sleep(SHOWN_EVERY)
        servers = ", ".join(str(server.address) for server in where.servers)
        raise TextNotShown(f"after {self.patience:g} s the TXT record at {record} is not shown by all of {servers}")


def proving_context(name: str, digest: bytes, now: datetime) -> ssl.SSLContext:
    """What answers a tls-alpn-01 challenge (RFC 8737 section 3). digest: SHA-256 of the key authorization."""
    from datetime import timedelta

    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.x509.oid import NameOID

    key = ec.generate_private_key(ec.SECP256R1())
    own = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "ACME proof")])
    proof = x509.UnrecognizedExtension(x509.ObjectIdentifier(PROOF_OID), b"\x04\x20" + digest)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(own)
        .issuer_name(own)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=2))
        .not_valid_after(now + timedelta(days=7))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .add_extension(proof, critical=True)
        .sign(key, hashes.SHA256())
    )
    form = serialization.PrivateFormat.PKCS8
    pem = key.private_bytes(serialization.Encoding.PEM, form, serialization.NoEncryption())
    return server_context(certificate.public_bytes(serialization.Encoding.PEM), pem, ALPN)
