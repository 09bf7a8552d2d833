"""The town's certificate authority as ACME shows it (RFC 8555): it checks everything, and refuses some nonces."""

from __future__ import annotations

import json
import secrets
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from hashlib import sha256
from typing import Any

import anyio
from anyio.abc import ByteStream
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature

from hooper.clock import rfc3339
from hooper.lab.acme_proofs import Problem, Proof, b64, looked, unb64
from hooper.lab.certificates import TownAuthority
from hooper.lab.devices import read_request
from hooper.lab.streets import Streets
from hooper.lab.things import Machine
from hooper.net.types import Endpoint
from hooper.wire import head

HOST = "ca.heronquay.example"
BASE = f"https://{HOST}"
KINDS = ("http-01", "dns-01", "tls-alpn-01")
SHORT_DAYS = 6
PROFILES = {"classic": "ninety days", "shortlived": "six days"}
REFUSED_NONCES = 4  # every so many good nonces one is refused, as real authorities do now and then


@dataclass
class AcmeAccount:
    url: str
    jwk: dict[str, str]
    thumbprint: str


@dataclass
class PlacedOrder:
    account: str
    names: list[str]
    proofs: list[str]
    profile: str = "classic"
    status: str = "pending"
    chain: bytes | None = None


@dataclass
class AcmeServer:
    """node: where it stands, to look at names and pages from. refuses: a fault: it takes no order. base: its URL."""

    town: Streets
    node: Machine
    authority: TownAuthority
    refuses: bool = False
    base: str = BASE
    nonces: set[str] = field(default_factory=set)
    accounts: dict[str, AcmeAccount] = field(default_factory=dict)
    orders: dict[str, PlacedOrder] = field(default_factory=dict)
    proofs: dict[str, Proof] = field(default_factory=dict)
    issued: int = 0
    limited_until: datetime | None = None  # it asks to wait
    renew_now: bool = False  # as after a mistake of its own: everybody is to renew at once
    replaced: set[str] = field(default_factory=set)
    _good: int = 0

    async def serve(self, stream: ByteStream, peer: Endpoint) -> None:
        del peer
        while (got := await read_request(stream)) is not None:
            asked, body = got
            try:
                status, fields, answer = await self._route(asked, body)
            except Problem as no:
                status, fields = no.status, {"Content-Type": "application/problem+json", **no.fields}
                answer = json.dumps(no.document()).encode()
            headers = {"Replay-Nonce": self._nonce(), "Cache-Control": "no-store", **fields}
            data = head.serialize_response(status, "-", "HTTP/1.1", tuple(headers.items()), answer)
            if asked.method == "HEAD":
                data = data[: data.index(b"\r\n\r\n") + 4]
            try:
                await stream.send(data)
            except anyio.BrokenResourceError:
                return

    def _nonce(self) -> str:
        nonce = secrets.token_urlsafe(16)
        self.nonces.add(nonce)
        return nonce

    async def _route(self, asked: head.Head, body: bytes) -> tuple[int, dict[str, str], bytes]:
        path = asked.target.partition("?")[0]
        if path == "/directory" and asked.method == "GET":
            names = ("newNonce", "newAccount", "newOrder", "revokeCert", "keyChange")
            places = {name: f"{self.base}/{name}" for name in names}
            places["renewalInfo"] = f"{self.base}/renewal"
            meta = {"termsOfService": f"{self.base}/terms", "profiles": PROFILES}
            return 200, {"Content-Type": "application/json"}, json.dumps({**places, "meta": meta}).encode()
        if path.startswith("/renewal/") and asked.method == "GET":
            return 200, {"Content-Type": "application/json", "Retry-After": "21600"}, self._renewal(path[9:])
        if path == "/newNonce":
            return 200 if asked.method == "HEAD" else 204, {}, b""
        if asked.method != "POST":
            raise Problem("malformed", "POST only", 405)
        routes: dict[str, Callable[[str, Any, AcmeAccount], Awaitable[tuple[int, dict[str, str], bytes]]]] = {
            "newOrder": self._new_order,
            "account": self._account,
            "order": self._order,
            "finalize": self._finalize,
            "proof": self._proof,
            "challenge": self._challenge,
            "certificate": self._certificate,
            "revokeCert": self._revoke,
            "keyChange": self._key_change,
        }
        _, _, kind = path.partition("/")
        kind, _, key = kind.partition("/")
        protected, payload, account = self._verified(asked, path, body)
        if kind == "newAccount":
            return self._new_account(protected, payload)
        if kind not in routes or account is None:
            raise Problem("malformed", "no such place, or no account named", 404)
        return await routes[kind](key, payload, account)

    def _renewal(self, name: str) -> bytes:
        """RFC 9773 section 4.2: the last third of a certificate's life, or now. Raises: Problem: it is none of ours."""
        for order in self.orders.values():
            leaf = x509.load_pem_x509_certificate(order.chain) if order.chain is not None else None
            if leaf is None or _renewal_name(leaf) != name:
                continue
            start, end = leaf.not_valid_before_utc, leaf.not_valid_after_utc
            first, last = start + (end - start) * 0.62, start + (end - start) * 0.7
            if self.renew_now:
                first, last = self.town.now() - timedelta(hours=2), self.town.now() - timedelta(hours=1)
            return self._json({"suggestedWindow": {"start": rfc3339(first), "end": rfc3339(last)}})
        raise Problem("malformed", "no such certificate", 404)

    # --- signatures (RFC 8555 section 6.2, RFC 7515)

    def _verified(self, asked: head.Head, path: str, body: bytes) -> tuple[dict[str, Any], Any, AcmeAccount | None]:
        if asked.get("content-type") != "application/jose+json":
            raise Problem("malformed", "the content type is not application/jose+json", 415)
        try:
            message = json.loads(body)
            protected = json.loads(unb64(message["protected"]))
            payload = json.loads(unb64(message["payload"])) if message["payload"] else None
            signature = unb64(message["signature"])
        except (ValueError, KeyError, TypeError):
            raise Problem("malformed", "not a flattened JWS") from None
        if set(message) != {"protected", "payload", "signature"}:
            raise Problem("malformed", "not a flattened JWS")
        if protected.get("alg") != "ES256":
            raise Problem("badSignatureAlgorithm", "ES256 only")
        if ("jwk" in protected) == ("kid" in protected) or ("jwk" in protected) != (path == "/newAccount"):
            raise Problem("malformed", "jwk for a new account, kid for all else")
        if protected.get("url") != self.base + path:
            raise Problem("unauthorized", "the url is not the one that was asked", 403)
        account = self.accounts.get(str(protected.get("kid")))
        if "kid" in protected and account is None:
            raise Problem("accountDoesNotExist", "no such account")
        jwk = account.jwk if account is not None else protected["jwk"]
        self._check_signature(jwk, f"{message['protected']}.{message['payload']}".encode(), signature)
        nonce = protected.get("nonce")
        if nonce not in self.nonces:
            raise Problem("badNonce", "this nonce is not one of ours, or was used")
        self.nonces.discard(nonce)
        self._good += 1
        if self._good % REFUSED_NONCES == 0:
            raise Problem("badNonce", "this nonce came too late")
        return protected, payload, account

    @staticmethod
    def _check_signature(jwk: dict[str, str], data: bytes, signature: bytes) -> None:
        try:
            if jwk["kty"] != "EC" or jwk["crv"] != "P-256" or len(signature) != 64:
                raise Problem("badPublicKey", "P-256 only")
            x, y = (int.from_bytes(unb64(jwk[part]), "big") for part in ("x", "y"))
            public = ec.EllipticCurvePublicNumbers(x, y, ec.SECP256R1()).public_key()
            r, s = int.from_bytes(signature[:32], "big"), int.from_bytes(signature[32:], "big")
            public.verify(encode_dss_signature(r, s), data, ec.ECDSA(hashes.SHA256()))
        except InvalidSignature:
            raise Problem("unauthorized", "the signature does not fit", 403) from None
        except (KeyError, ValueError, TypeError):
            raise Problem("badPublicKey", "the key makes no sense") from None

    # --- accounts and orders

    def _new_account(self, protected: dict[str, Any], payload: Any) -> tuple[int, dict[str, str], bytes]:
        jwk = {part: protected["jwk"][part] for part in ("crv", "kty", "x", "y")}
        thumbprint = thumbprint_of(jwk)
        known = next((account for account in self.accounts.values() if account.thumbprint == thumbprint), None)
        if known is None and (payload or {}).get("onlyReturnExisting"):
            raise Problem("accountDoesNotExist", "no such account")
        if known is None and (payload or {}).get("termsOfServiceAgreed") is not True:
            raise Problem("userActionRequired", "the terms of service were not agreed to", 403)
        status = 200 if known is not None else 201
        if known is None:
            known = AcmeAccount(f"{self.base}/account/{len(self.accounts) + 1}", jwk, thumbprint)
            self.accounts[known.url] = known
        return status, {"Location": known.url}, self._json({"status": "valid", "orders": f"{known.url}/orders"})

    async def _account(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del key, payload
        return 200, {"Location": account.url}, self._json({"status": "valid"})

    async def _new_order(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del key
        try:
            names = [str(identifier["value"]) for identifier in payload["identifiers"] if identifier["type"] == "dns"]
        except (KeyError, TypeError):
            raise Problem("malformed", "no identifiers") from None
        if self.refuses or not names or not all(name.endswith(".heronquay.example") for name in names):
            raise Problem("rejectedIdentifier", "this authority issues nothing for these names", 403)
        replaces = payload.get("replaces")
        if replaces is not None:
            if replaces in self.replaced:
                raise Problem("alreadyReplaced", "that certificate was replaced before", 409)
            self.replaced.add(str(replaces))
        profile = str(payload.get("profile", "classic"))
        if profile not in PROFILES:
            raise Problem("invalidProfile", f"there is no profile {profile!r}")
        if self.limited_until is not None and self.town.now() < self.limited_until:
            seconds = int((self.limited_until - self.town.now()).total_seconds()) + 1
            detail = f"too many certificates for these names, retry after {rfc3339(self.limited_until)}"
            raise Problem("rateLimited", detail, 429, {"Retry-After": str(seconds)})
        proofs = []
        for name in reversed(names):  # in another order than asked
            proof = Proof(name.removeprefix("*."), account.url, name.startswith("*."), secrets.token_urlsafe(24))
            number = f"p{len(self.proofs) + 1}"
            self.proofs[number] = proof
            proofs.append(number)
        number = f"o{len(self.orders) + 1}"
        self.orders[number] = PlacedOrder(account.url, names[::-1], proofs, profile)
        return 201, {"Location": f"{self.base}/order/{number}"}, self._order_json(number)

    def _own_order(self, key: str, account: AcmeAccount) -> PlacedOrder:
        order = self.orders.get(key)
        if order is None or order.account != account.url:
            raise Problem("unauthorized", "not your order", 403)
        states = {self.proofs[number].status for number in order.proofs}
        if order.status == "pending" and states == {"valid"}:
            order.status = "ready"
        if "invalid" in states and order.status in ("pending", "ready"):
            order.status = "invalid"
        return order

    def _order_json(self, key: str) -> bytes:
        order = self.orders[key]
        document = {
            "status": order.status,
            "expires": rfc3339(self.town.now() + timedelta(days=7)),
            "identifiers": [{"type": "dns", "value": name} for name in order.names],
            "authorizations": [f"{self.base}/proof/{number}" for number in order.proofs],
            "finalize": f"{self.base}/finalize/{key}",
        }
        if order.chain is not None:
            document["certificate"] = f"{self.base}/certificate/{key}"
        return self._json(document)

    async def _order(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del payload
        order = self._own_order(key, account)
        if order.status == "processing":
            order.status = "valid"
        return 200, {}, self._order_json(key)

    async def _finalize(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        order = self._own_order(key, account)
        if order.status != "ready":
            raise Problem("orderNotReady", f"the order is {order.status}", 403)
        try:
            request = x509.load_der_x509_csr(unb64(payload["csr"]))
            shown = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            names, public = shown.get_values_for_type(x509.DNSName), request.public_key()
            sound = request.is_signature_valid
        except (KeyError, TypeError, ValueError, x509.ExtensionNotFound):
            raise Problem("badCSR", "the request cannot be read") from None
        known = isinstance(public, ec.EllipticCurvePublicKey | rsa.RSAPublicKey)
        if not sound or sorted(names) != sorted(order.names) or not known:
            raise Problem("badCSR", "its signature, its names or its key do not fit")
        if isinstance(public, ec.EllipticCurvePublicKey) and public.public_bytes(*_RAW) == self._account_key(account):
            raise Problem("badCSR", "the account's own key may not be used")
        start = self.town.now() - timedelta(hours=1)
        days = SHORT_DAYS if order.profile == "shortlived" else 90
        order.chain = self.authority.issue(sorted(names), public, start, days)  # type: ignore[arg-type]
        order.status = "processing"
        self.issued += 1
        return 200, {"Retry-After": "1"}, self._order_json(key)

    @staticmethod
    def _account_key(account: AcmeAccount) -> bytes:
        return b"\x04" + unb64(account.jwk["x"]) + unb64(account.jwk["y"])

    async def _certificate(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del payload
        key, _, other = key.partition("/")
        order = self._own_order(key, account)
        if order.chain is None:
            raise Problem("malformed", "there is no certificate yet", 404)
        fields = {"Content-Type": "application/pem-certificate-chain"}
        if other:
            return 200, fields, self.authority.other_chain(order.chain)
        link = f'<{self.base}/certificate/{key}/1>;rel="alternate"'
        return 200, {**fields, "Link": link}, order.chain

    # --- taking back, and another key (RFC 8555 sections 7.6 and 7.3.5)

    async def _revoke(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del key
        try:
            shown, reason = x509.load_der_x509_certificate(unb64(payload["certificate"])), payload.get("reason", 0)
        except (KeyError, TypeError, ValueError):
            raise Problem("malformed", "no certificate") from None
        if reason not in (0, 1, 3, 4, 5):
            raise Problem("badRevocationReason", "this reason is not accepted")
        chains = [order.chain for order in self.orders.values() if order.account == account.url and order.chain]
        if not any(x509.load_pem_x509_certificate(chain) == shown for chain in chains):
            raise Problem("unauthorized", "not your certificate", 403)
        if shown.serial_number in self.authority.revoked:
            raise Problem("alreadyRevoked", "it is revoked already")
        self.authority.revoked[shown.serial_number] = self.town.now(), reason
        return 200, {}, b""

    async def _key_change(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        del key
        try:
            protected, inner = json.loads(unb64(payload["protected"])), json.loads(unb64(payload["payload"]))
            fresh = {part: protected["jwk"][part] for part in ("crv", "kty", "x", "y")}
            signed, signature = f"{payload['protected']}.{payload['payload']}", unb64(payload["signature"])
        except (KeyError, TypeError, ValueError):
            raise Problem("malformed", "the inner request is no flattened JWS") from None
        if protected.get("url") != f"{self.base}/keyChange" or "nonce" in protected:
            raise Problem("malformed", "the inner request has another url, or a nonce")
        self._check_signature(fresh, signed.encode(), signature)
        if inner != {"account": account.url, "oldKey": account.jwk}:
            raise Problem("malformed", "the inner request is for another account, or from another key")
        if any(one.jwk == fresh for one in self.accounts.values()):
            raise Problem("malformed", "that key has an account", 409)
        account.jwk, account.thumbprint = fresh, thumbprint_of(fresh)
        return 200, {}, self._json({"status": "valid"})

    # --- proofs (RFC 8555 sections 7.5 and 8)

    def _own_proof(self, key: str, account: AcmeAccount) -> Proof:
        proof = self.proofs.get(key)
        if proof is None or proof.account != account.url:
            raise Problem("unauthorized", "not yours", 403)
        return proof

    def _challenge_json(self, key: str, proof: Proof, kind: str) -> dict[str, Any]:
        status = proof.status if proof.tried == kind else "pending"
        document: dict[str, Any] = {"type": kind, "url": f"{self.base}/challenge/{key}/{kind}", "token": proof.token}
        document["status"] = "processing" if proof.tried == kind and status == "pending" else status
        if proof.error is not None and proof.tried == kind:
            document["error"] = proof.error
        return document

    async def _proof(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        proof = self._own_proof(key, account)
        if payload == {"status": "deactivated"}:
            proof.status = "deactivated"
        elif proof.status == "pending" and proof.tried is not None:
            try:
                await looked(self.town, self.node, proof, f"{proof.token}.{account.thumbprint}")
                proof.status = "valid"
            except Problem as no:
                proof.status, proof.error = "invalid", no.document()
        kinds = ("dns-01",) if proof.wildcard else KINDS
        document: dict[str, Any] = {
            "status": proof.status,
            "identifier": {"type": "dns", "value": proof.name},
            "challenges": [self._challenge_json(key, proof, kind) for kind in kinds],
        }
        if proof.wildcard:
            document["wildcard"] = True
        return 200, {}, self._json(document)

    async def _challenge(self, key: str, payload: Any, account: AcmeAccount) -> tuple[int, dict[str, str], bytes]:
        number, _, kind = key.partition("/")
        proof = self._own_proof(number, account)
        if payload == {} and proof.status == "pending":
            if kind not in KINDS or (proof.wildcard and kind != "dns-01"):
                raise Problem("malformed", "no such challenge", 404)
            proof.tried = kind
        return 200, {}, self._json(self._challenge_json(number, proof, kind))

    @staticmethod
    def _json(document: dict[str, Any]) -> bytes:
        return json.dumps(document).encode()


def thumbprint_of(jwk: dict[str, str]) -> str:
    """RFC 7638."""
    return b64(sha256(json.dumps(jwk, sort_keys=True, separators=(",", ":")).encode()).digest())


def _renewal_name(leaf: x509.Certificate) -> str:
    """RFC 9773 section 4.1."""
    key = leaf.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier or b""
    length = leaf.serial_number.bit_length() // 8 + 1
    return f"{b64(key)}.{b64(leaf.serial_number.to_bytes(length, 'big'))}"


_RAW = (serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
