"""A client of ACME (RFC 8555): requests are signed by ES256, nonces are carried on, orders are driven to their end."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import AsyncIterator, Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import urljoin

from hooper.certs.acme_refusals import AcmeBusy, AcmeFailed, AcmeRefused, refusal
from hooper.certs.acmeform import AcmeProblem, Authorization, Challenge, Directory, OrderBody, RenewalInfo
from hooper.clock import Clock, read_moment
from hooper.net.http import retry_after
from hooper.secret import excerpt

if TYPE_CHECKING:
    from cryptography import x509
    from joserfc.jwk import ECKey, Key

    from hooper.net.http import HttpAnswer, HttpClient

T = TypeVar("T")
Polled = TypeVar("Polled", OrderBody, Authorization)
NONCE = re.compile(r"[A-Za-z0-9_-]{1,400}")  # RFC 8555 section 6.5.1
NONCE_TRIES = 8
ALTERNATE = re.compile(r"<([^<>]*)>(?=[^,<]*;\s*rel=\"?alternate\"?\b)")  # RFC 8288 section 3
CHAINS = 8  # beside the first
REDIRECTIONS = 5
POLL_S = (0.3, 0.7, 1.0, 2.0, 3.0, 5.0)  # seconds between looks where the authority does not say; the last repeats


def encoded(data: bytes) -> str:
    """base64url without padding (RFC 8555 section 6.1)."""
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


@dataclass(frozen=True)
class Order:
    """An order as the authority shows it (RFC 8555 section 7.1.3)."""

    url: str
    body: OrderBody

    @property
    def status(self) -> str:
        return self.body.status


class AcmeClient:
    """One authority, one account key. clock: to wait by. patience: seconds for an order or proof to come to its end."""

    def __init__(self, client: HttpClient, directory: str, key_pem: bytes, clock: Clock, patience: float) -> None:
        self._client, self._directory_url, self._key_pem = client, directory, key_pem
        self._clock, self._patience = clock, patience
        self._directory: Directory | None = None
        self._nonces: list[str] = []
        self.account: str | None = None

    @cached_property
    def _key(self) -> ECKey:
        from joserfc.jwk import ECKey

        return ECKey.import_key(self._key_pem)

    @cached_property
    def thumbprint(self) -> str:
        """Of the account's key (RFC 7638), as challenges want it."""
        return self._key.thumbprint()

    # --- requests

    async def _send(self, method: str, url: str, message: object = None) -> HttpAnswer:
        """message: what is sent as JSON. Raises: AcmeFailed."""
        import json

        from hooper.net.http import HttpFailed

        headers = {"Content-Type": "application/jose+json"} if message is not None else {}
        content = json.dumps(message).encode() if message is not None else None
        if not url.startswith("https://"):
            raise AcmeFailed(f"the authority names an address that is not https: {excerpt(url, 100)}")
        try:
            answer = await self._client.request(method, url, headers=headers, content=content)
        except HttpFailed as exc:
            host = url.split("/")[2]
            raise AcmeFailed(f"the authority {host} cannot be reached: {exc.message}") from None
        nonce = answer.header("Replay-Nonce")
        if nonce is not None and NONCE.fullmatch(nonce):  # RFC 8555 section 6.5.1: others must be ignored
            self._nonces = [*self._nonces[-NONCE_TRIES:], nonce]
        return answer

    async def directory(self) -> Directory:
        """What the authority offers (RFC 8555 section 7.1.1). Raises: AcmeFailed."""
        if self._directory is None:
            answer = await self._following(self._directory_url)
            try:
                found = answer.read_as(Directory)
            except ValueError:
                found = None
            if answer.status != 200 or found is None:
                raise AcmeFailed(
                    f"{self._directory_url} is no ACME directory: it answers {answer.status}",
                    remedy="Correct `directory` in [authorities.*].",
                )
            self._directory = found
        return self._directory

    async def _following(self, url: str) -> HttpAnswer:
        """What nobody's secret is sent for: redirections are followed. Raises: AcmeFailed."""
        for _ in range(REDIRECTIONS):
            answer = await self._send("GET", url)
            to = answer.header("Location")
            if answer.status not in (301, 302, 303, 307, 308) or to is None:
                return answer
            try:
                url = urljoin(url, to)
            except ValueError:
                raise AcmeFailed(f"the authority leads to what is no address: {excerpt(to, 100)!r}") from None
        raise AcmeFailed(f"{self._directory_url} leads round and round")

    async def _nonce(self) -> str:
        if not self._nonces:
            answer = await self._send("HEAD", (await self.directory()).newNonce)
            if not self._nonces:
                raise AcmeFailed(f"the authority gives no nonce: it answers {answer.status}")
        return self._nonces.pop()

    def _signed(self, url: str, nonce: str, payload: object, *, by_key: bool) -> dict[str, str]:
        """A request (RFC 8555 section 6.2). payload: None: the empty one of a POST-as-GET."""
        header: dict[str, Any] = {"alg": "ES256", "nonce": nonce, "url": url}
        header |= {"jwk": _public(self._key)} if by_key else {"kid": self.account}
        return _flattened(header, payload, self._key)

    async def post(self, url: str, payload: object, *, by_key: bool = False) -> HttpAnswer:
        """A signed request, again with a fresh nonce where one is refused (RFC 8555 section 6.5).

        Raises: AcmeRefused, AcmeBusy, AcmeFailed.
        """
        for _ in range(NONCE_TRIES):
            message = self._signed(url, await self._nonce(), payload, by_key=by_key)
            answer = await self._send("POST", url, message)
            if answer.status < 400:
                return answer
            problem = _problem(answer)
            if problem is None or problem.kind != "badNonce":
                raise refusal(answer, problem, self._clock.now())
        raise AcmeFailed(f"the authority refused {NONCE_TRIES} nonces in a row")

    # --- account

    async def register(
        self, contact: Sequence[str], known: str | None, binding: tuple[str, bytes] | None = None
    ) -> str:
        """Make the account, or find the one of this key (RFC 8555 section 7.3); gives its URL.

        binding: the name and the key of a customer's account that it is to belong to. Raises: as `post`.
        """
        if known is not None:
            self.account = known
            return known
        new = (await self.directory()).newAccount
        payload: dict[str, Any] = {"termsOfServiceAgreed": True}
        if contact:
            payload["contact"] = list(contact)
        if binding is not None:
            payload["externalAccountBinding"] = self._binding(new, *binding)
        answer = await self.post(new, payload, by_key=True)
        self.account = answer.header("Location")
        if not self.account:
            raise AcmeFailed("the authority gives the account no address")
        return self.account

    def _binding(self, url: str, name: str, secret: bytes) -> dict[str, str]:
        """RFC 8555 section 7.3.4: our public key, signed with the key that the customer was given."""
        from joserfc.jwk import OctKey

        return _flattened({"alg": "HS256", "kid": name, "url": url}, _public(self._key), OctKey.import_key(secret))

    async def change_key(self, fresh_pem: bytes) -> None:
        """Have the account's key replaced (RFC 8555 section 7.3.5); afterwards this client signs with the fresh one.

        Raises: as `post`; AcmeFailed: the authority has no such place.
        """
        from joserfc.jwk import ECKey

        url = (await self.directory()).keyChange
        if not url:
            raise AcmeFailed("the authority has no place to change an account's key")
        fresh = ECKey.import_key(fresh_pem)
        change = {"account": self.account, "oldKey": _public(self._key)}
        inner = _flattened({"alg": "ES256", "jwk": _public(fresh), "url": url}, change, fresh)
        await self.post(url, inner)
        self._key = fresh

    async def known(self) -> str | None:
        """The account of this key (RFC 8555 section 7.3.1); None: there is none. Raises: as `post`."""
        try:
            answer = await self.post((await self.directory()).newAccount, {"onlyReturnExisting": True}, by_key=True)
        except AcmeRefused as exc:
            if exc.kind != "accountDoesNotExist":
                raise
            return None
        self.account = answer.header("Location")
        return self.account

    async def revoke(self, certificate_der: bytes, reason: int) -> None:
        """RFC 8555 section 7.6. reason: a code of RFC 5280 section 5.3.1. Raises: as `post`; AcmeFailed: no place."""
        url = (await self.directory()).revokeCert
        if not url:
            raise AcmeFailed("the authority has no place to revoke a certificate")
        await self.post(url, {"certificate": encoded(certificate_der), "reason": reason})

    # --- orders

    async def renewal_window(self, name: str) -> tuple[datetime, datetime] | None:
        """When the authority wants a certificate renewed (RFC 9773 section 4); None: it says nothing of use.

        name: of the certificate, as `renewal_name` makes it. Raises: AcmeFailed.
        """
        place = (await self.directory()).renewalInfo
        if not place:
            return None
        answer = await self._following(f"{place.rstrip('/')}/{name}")
        try:
            window = answer.read_as(RenewalInfo).suggestedWindow if answer.status == 200 else None
            found = (read_moment(window.start), read_moment(window.end)) if window is not None else None
        except ValueError:
            return None
        return found if found is not None and found[0] < found[1] else None

    async def new_order(self, names: Sequence[str], replaces: str | None = None, profile: str | None = None) -> Order:
        """RFC 8555 section 7.4. replaces: the name of the certificate that it is to take the place of, where the
        authority tells when to renew (RFC 9773 section 5). profile: by which it is to be issued.

        Raises: as `post`; AcmeRefused: it has no such profile.
        """
        wanted: dict[str, Any] = {"identifiers": [{"type": "dns", "value": name} for name in names]}
        directory = await self.directory()
        if profile is not None:
            if profile not in directory.meta.profiles:
                there = ", ".join(list(directory.meta.profiles)[:8])
                said = f"it has {excerpt(there, 200)}" if there else "it has none"
                raise AcmeRefused(f"the authority has no profile {profile!r}: {said}", "invalidProfile")
            wanted["profile"] = profile
        if replaces is not None and directory.renewalInfo:
            wanted["replaces"] = replaces
        try:
            answer = await self.post(directory.newOrder, wanted)
        except AcmeRefused as exc:
            if "replaces" not in wanted or exc.kind not in ("alreadyReplaced", "malformed"):
                raise
            del wanted["replaces"]  # it was replaced before, as in a run whose end was not seen
            answer = await self.post(directory.newOrder, wanted)
        url = answer.header("Location")
        if not url:
            raise AcmeFailed("the authority gives the order no address")
        return Order(url, _body(answer, OrderBody, "order"))

    async def order(self, url: str) -> Order:
        """An order as it stands. Raises: as `post`."""
        return Order(url, _body(await self.post(url, None), OrderBody, "order"))

    async def authorizations(self, order: Order, names: Collection[str]) -> list[tuple[str, Authorization]]:
        """Its authorizations, each with its own address. names: that were ordered.

        Raises: AcmeFailed: it asks for proofs of something else; as `post`.
        """
        urls = list(dict.fromkeys(order.body.authorizations))
        if len(urls) > len(set(names)):
            raise AcmeFailed(f"the authority asks for {len(urls)} proofs of {len(set(names))} names")
        found = [(url, _body(await self.post(url, None), Authorization, "authorization")) for url in urls]
        strange = [proof.name for _, proof in found if proof.name.lower() not in {name.lower() for name in names}]
        if strange:
            raise AcmeFailed(f"the authority asks for a proof of {excerpt(strange[0], 100)!r}, which was not ordered")
        return found

    async def prove(self, challenge: Challenge, authorization: str) -> None:
        """Ask the authority to look at a challenge, and wait for what it finds (RFC 8555 section 7.5.1).

        Raises: AcmeRefused: it did not find what it should; as `post`.
        """
        await self.post(challenge.url, {})
        proof = await self._poll(authorization, Authorization, "authorization", ("pending", "processing"))
        if proof.status == "valid":
            return
        errors = [challenge.error for challenge in proof.challenges if challenge.error is not None]
        why = "; ".join(error.words() for error in errors) or f"it is {proof.status}"
        kind = errors[0].kind if errors else "unauthorized"
        raise AcmeRefused(f"the authority looked by {challenge.type} and says about {proof.name}: {why}", kind)

    async def finalize(self, order: Order, csr: bytes) -> Order:
        """Hand in the request and wait for the certificate (RFC 8555 section 7.4). csr: DER. Raises: as `post`."""
        body = _body(await self.post(order.body.finalize, {"csr": encoded(csr)}), OrderBody, "order")
        if body.status not in ("valid", "invalid"):
            return await self.settled(order, ("processing", "ready", "pending"))
        return Order(order.url, body)

    async def settled(self, order: Order, while_: Sequence[str]) -> Order:
        """An order once it is in none of these states. Raises: as `post`."""
        return Order(order.url, await self._poll(order.url, OrderBody, "order", while_))

    async def chains(self, order: Order) -> AsyncIterator[bytes]:
        """The chain in PEM, then others to other roots (RFC 8555 section 7.4.2). Raises: as `post`."""
        answer = await self.post(order.body.certificate, None)
        yield answer.content
        for url in ALTERNATE.findall(answer.header("Link") or "")[:CHAINS]:
            yield (await self.post(urljoin(order.body.certificate, url), None)).content

    async def _poll(self, url: str, kind: type[Polled], what: str, while_: Sequence[str]) -> Polled:
        end, step = self._clock.monotonic() + self._patience, 0
        while True:
            answer = await self.post(url, None)
            document = _body(answer, kind, what)
            if document.status not in while_:
                return document
            pause = POLL_S[min(step, len(POLL_S) - 1)]
            if (said := answer.header("Retry-After")) is not None:
                pause = min(retry_after(said, self._clock.now()), 10.0)
            if self._clock.monotonic() + pause > end:
                raise AcmeBusy(f"after {self._patience:g} s the authority is still {document.status}")
            await self._clock.sleep(pause)
            step += 1

    def key_authorization(self, token: str) -> str:
        """RFC 8555 section 8.1."""
        return f"{token}.{self.thumbprint}"

    def text_of(self, token: str) -> str:
        """What the TXT record of dns-01 holds (RFC 8555 section 8.4)."""
        return encoded(hashlib.sha256(self.key_authorization(token).encode()).digest())


def _public(key: ECKey) -> dict[str, Any]:
    """The members that RFC 7638 section 3.2 wants of an EC key, and no other."""
    public = key.as_dict(private=False)
    return {part: public[part] for part in ("crv", "kty", "x", "y")}


def _flattened(header: dict[str, Any], payload: object, key: Key) -> dict[str, str]:
    """A flattened JWS (RFC 7515 section 7.2.2). payload: what becomes JSON; None: nothing."""
    import json

    from joserfc import jws

    body = b"" if payload is None else json.dumps(payload).encode()
    registry = jws.JWSRegistry(algorithms=[header["alg"]], strict_check_header=False)
    signed = jws.serialize_json({"protected": header}, body, key, registry=registry)
    return {part: str(signed.get(part, "")) for part in ("protected", "payload", "signature")}


def _body(answer: HttpAnswer, kind: type[T], what: str) -> T:
    """What an answer holds. Raises: AcmeFailed: it is none of that form."""
    try:
        return answer.read_as(kind)
    except ValueError as exc:
        raise AcmeFailed(f"the authority sends what is no {what}: {excerpt(str(exc), 150)}") from None


def _problem(answer: HttpAnswer) -> AcmeProblem | None:
    """What an answer says that is wrong; None: nothing of use."""
    try:
        found = answer.read_as(AcmeProblem)
    except ValueError:
        return None
    return found if found != AcmeProblem() else None


def renewal_name(certificate: x509.Certificate) -> str | None:
    """What RFC 9773 section 4.1 calls a certificate: its authority's key and its serial number; None: it has none."""
    from cryptography import x509

    try:
        issuer = certificate.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier
    except (x509.ExtensionNotFound, ValueError):
        return None
    serial = certificate.serial_number
    number = serial.to_bytes(serial.bit_length() // 8 + 1, "big")  # as DER has it: a sign bit in front
    return f"{encoded(issuer)}.{encoded(number)}" if issuer else None


def request_for(key_pem: bytes, names: Sequence[str]) -> bytes:
    """A certificate request (RFC 2986) in DER. names: all of them, as the subjectAltName."""
    from cryptography import x509
    from cryptography.hazmat.primitives import hashes, serialization

    key: Any = serialization.load_pem_private_key(key_pem, None)
    shown = x509.SubjectAlternativeName([x509.DNSName(name) for name in names])
    builder = x509.CertificateSigningRequestBuilder().subject_name(x509.Name([]))
    request = builder.add_extension(shown, critical=False).sign(key, hashes.SHA256())
    return request.public_bytes(serialization.Encoding.DER)
