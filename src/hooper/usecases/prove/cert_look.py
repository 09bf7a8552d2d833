"""Looking at the certificate of any server, service or file: what it is, and what each kind of client says to it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Literal
from urllib.parse import urlsplit

from hooper.addresses import IPAddress, parse_address
from hooper.certs.bundles import read_bundle
from hooper.certs.client_words import ClientWord, clients_say
from hooper.certs.inspect import (
    fingerprint_of,
    load_chain,
    names_of,
    vouches,
    well_known_roots,
    with_known_keys,
)
from hooper.certs.problems import REVOKED
from hooper.certs.revocation import RevocationRow, revocations
from hooper.certs.site_roots import roots_beside
from hooper.certs.store import key_type
from hooper.check.certificates import Judge
from hooper.check.probes import probe
from hooper.check.targets import Target, inner_targets, outer_targets
from hooper.clock import rfc3339
from hooper.errors import CounterpartError, HooperError, UsageError
from hooper.files import STDIO, machine_error, read_whole
from hooper.line.public import public_addresses
from hooper.places import Place
from hooper.planning.typed import name_for
from hooper.usecases.origins import open_place
from hooper.usecases.prove.probing import revoked_certificates
from hooper.usecases.run import Run
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.secret import Secret

SPOKEN = {3389: "rdp"}  # ports whose protocol says something before TLS; all others begin with it
DNS_LENGTH = 253


class NoCertificateSeen(CounterpartError):
    """A server showed no certificate."""

    code = "no-certificate-seen"


@dataclass(frozen=True, slots=True)
class ShownCertificate:
    """One certificate. names: that it is for. not_before, not_after: RFC 3339. days_left: whole ones.

    key, signature: of which kind.

    serial: in hexadecimal. fingerprint: "sha256:...". authority: whether it may vouch for others.
    """

    subject: str
    issuer: str
    names: tuple[str, ...]
    not_before: str
    not_after: str
    days_left: int
    key: str
    signature: str
    serial: str
    fingerprint: str
    authority: bool


@dataclass(frozen=True, slots=True)
class LookProblem:
    """What a check has against it. code: of the problem. says: in words."""

    code: str
    says: Said


@dataclass(frozen=True, slots=True)
class LookedDocument:
    """`hooper cert look`.

    subject: what was looked at. source: whence the certificates are. address: of the server. server_name: that was
    asked for by TLS. tls_version: as negotiated. form: of the file. has_key: the file holds a private key. key_fits: it
    is for the first certificate; null: it has none, or it is behind a pass phrase. chain: its own first. clients: what
    each kind says. revocation: what the places say that it names. problems: what a check has against it, where it is of
    a service of the site. ok: at least one kind of client takes it by the first that is typed, and it is not revoked.
    """

    subject: str
    source: Literal["server", "file"]
    address: str | None
    port: int | None
    server_name: str | None
    tls_version: str | None
    form: str | None
    has_key: bool
    key_fits: bool | None
    chain: tuple[ShownCertificate, ...]
    clients: tuple[ClientWord, ...]
    revocation: tuple[RevocationRow, ...]
    problems: tuple[LookProblem, ...]
    ok: bool


@dataclass(frozen=True)
class LookRequest:
    """what: HOST[:PORT], a URL, a service of the site, or a file. name: what people type; None: as `what` has it.

    origin: from where. deadline: seconds for each question. ask: whether to ask about revocation.
    """

    what: str
    name: str | None
    origin: Place
    deadline: float
    passphrase: Secret | None = None
    ask: bool = True


async def look_at(run: Run, request: LookRequest) -> tuple[LookedDocument, list[HooperError]]:
    """Look. Raises: UsageError: it is none of those; NoCertificateSeen; as `open_place`."""
    path = _file_there(request.what) if request.what not in run.site.services else None
    if path is not None:
        return await _file(run, request, path), []
    door = run.here
    if request.origin.kind != "here":
        door = await open_place(run, request.origin, request.deadline)
    service = request.what if request.what in run.site.services else ""
    targets = await _targets(run, request, service)
    seen = await probe(door, targets[0], request.deadline)
    ders = seen.chain
    chain = with_known_keys(load_chain(ders[:12]))
    target = targets[0]
    if not chain:
        where = f"{target.address}:{target.port}"
        remedy = "Name the port where it speaks TLS, such as HOST:443." if seen.verdict == "mismatched" else None
        raise NoCertificateSeen(f"{request.what} shows no certificate at {where}: {seen.detail}", remedy=remedy)
    now = door.clock.now()
    typed = _typed(target.server_name, target)
    problems: list[tuple[str, Said]] = []
    if service:
        problems = Judge(run.site, run.base, revoked_certificates(run)).problems(service, target.server_name, ders, now)
    return await _document(
        run, request, chain, typed, now,
        LookedDocument(request.what, "server", str(target.address), target.port, target.server_name, seen.tls_version,
                       None, False, None, (), (), (), tuple(LookProblem(*one) for one in problems), False),
    ), []  # fmt: skip


def _file_there(text: str) -> Path | None:
    try:
        path = Path(text).expanduser()
        return path if path.is_file() or path == STDIO else None
    except (OSError, RuntimeError, ValueError):  # a name that no file can have
        return None


async def _file(run: Run, request: LookRequest, path: Path) -> LookedDocument:
    try:
        data = read_whole(path)
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None
    bundle = read_bundle(data, str(path), request.passphrase)
    chain = with_known_keys(bundle.chain)
    if not chain:
        raise UsageError(f"{path} holds a certificate that cannot be understood", remedy="Name another file.")
    names = [request.name] if request.name else list(names_of(chain[0])) or ["(no name)"]
    empty = LookedDocument(request.what, "file", None, None, None, None, bundle.form, bundle.has_key, bundle.key_fits,
                           (), (), (), (), False)  # fmt: skip
    return await _document(run, request, chain, [(name, name) for name in names[:4]], run.here.clock.now(), empty)


async def _targets(run: Run, request: LookRequest, service: str) -> list[Target]:
    """What to shake hands with, and the name to ask for."""
    if service:
        found = list(inner_targets(run.topology, [service]))
        if request.origin.kind != "here" and run.site.services[service].reach == "public":
            line = run.topology.lines[service]
            known = await public_addresses(run.here, run.site, (line,), run.given({}), request.deadline)
            public = {line: known[line].address.value} if known[line].address.value is not None else {}
            outer = outer_targets(run.topology, [service], public, None)[0]  # type: ignore[arg-type]
            found = [one for one in outer if one.address is not None and one.expected == "reachable"] or found
        if not found:
            raise UsageError(f"{service} has no port to look at", remedy="Name the server: HOST:PORT.")
        name = request.name or (found[0].server_name if found[0].server_name else name_for(run.topology, service))
        return [replace(found[0], server_name=name)]
    host, port = _host_port(request.what)
    addresses: list[IPAddress]
    name = request.name
    try:
        addresses = [parse_address(host)]
    except ValueError:
        name = name or host
        addresses = await run.here.lookup(host, "ipv4") or await run.here.lookup(host, "ipv6")
        if not addresses:
            raise CounterpartError(
                f"the name {host} has no address", code="no-address", remedy="See whether it is mistyped; a file that"
                " is meant has to be there.",
            ) from None  # fmt: skip
    target = Target.alone(addresses[0], port, SPOKEN.get(port, "tls"))
    return [replace(target, server_name=name)]


def _host_port(text: str) -> tuple[str, int]:
    """Raises: UsageError: it names no host."""
    try:
        parts = urlsplit(text if "://" in text else f"//{text if text.count(':') < 2 or '[' in text else f'[{text}]'}")
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if not host or len(host) > DNS_LENGTH or "/" in (text if "://" not in text else ""):
        raise UsageError(
            f"{text!r} is no server and no file that is there",
            remedy="Name HOST[:PORT], a URL, a service of the site, or a file.",
        )
    return host, port or 443


def _typed(name: str | None, target: Target) -> list[tuple[str, str]]:
    """What people type to be led there, and the name or address in that; the name first."""
    host = f"[{target.address}]" if ":" in str(target.address) else str(target.address)
    port = "" if target.port == 443 else f":{target.port}"
    found = [(f"{name}{port}", name)] if name is not None else []
    return [*found, (f"{host}{port}", str(target.address))]


async def _document(
    run: Run, request: LookRequest, chain: Sequence[x509.Certificate], typed: list[tuple[str, str]], now: datetime,
    begun: LookedDocument,
) -> LookedDocument:  # fmt: skip
    usual, own = _roots(run)
    words = clients_say(chain, typed, usual, own, now) if not vouches(chain[0]) else []
    asked = await revocations(run.here, chain, now, request.deadline) if request.ask else []
    revoked = any(row.standing == "revoked" for row in asked)
    if revoked:
        words = [
            replace(one, takes=False, problems=(*one.problems, REVOKED), says=say("client-revoked"))
            if one.takes
            else one
            for one in words
        ]
    taken = any(word.takes for word in words if word.typed == typed[0][0]) or not words
    ok = taken and not revoked and not begun.problems
    rows = tuple(_shown(one, now) for one in chain)
    return replace(begun, chain=rows, clients=tuple(words), revocation=tuple(asked), ok=ok)


def _roots(run: Run) -> tuple[list[x509.Certificate], list[x509.Certificate]]:
    """The roots that everybody knows, and the site's own. In the town everybody knows the town's authority."""
    known = tuple(key for key, one in run.site.authorities.items() if run.here.world == "lab" and one.kind == "acme")
    others = tuple(key for key in run.site.authorities if key not in known)
    return [*well_known_roots(), *roots_beside(run.site, run.base, known)], roots_beside(run.site, run.base, others)


def _shown(one: x509.Certificate, now: datetime) -> ShownCertificate:
    kind = key_type(one.public_key()) or type(one.public_key()).__name__.removesuffix("PublicKey").lower().strip("_")
    digest = one.signature_hash_algorithm
    return ShownCertificate(
        one.subject.rfc4514_string(),
        one.issuer.rfc4514_string(),
        names_of(one),
        rfc3339(one.not_valid_before_utc),
        rfc3339(one.not_valid_after_utc),
        (one.not_valid_after_utc - now).days,
        kind,
        digest.name if digest is not None else "without a digest",
        f"{one.serial_number:x}",
        fingerprint_of(one),
        vouches(one),
    )
