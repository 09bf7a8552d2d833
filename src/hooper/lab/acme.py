"""The town's certificate authority as ACME shows it (RFC 8555): it checks everything, and refuses some nonces."""

from __future__ import annotations

import base64
import json
import secrets
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import timedelta
from hashlib import sha256
from typing import Any

import anyio
from anyio.abc import ByteStream
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature

from hooper.clock import rfc3339
from hooper.lab.certificates import TownAuthority
from hooper.lab.devices import read_request
from hooper.lab.streets import Streets
from hooper.lab.things import Machine
from hooper.net.types import Endpoint
from hooper.wire import head

HOST = "ca.heronquay.example"
BASE = f"https://{HOST}"
LOOK_S = 2.0  # seconds for a page at port 80
REFUSED_NONCES = 4  # every so many good nonces one is refused, as real authorities do now and then


class Problem(Exception):
    """A refusal (RFC 8555 section 6.7)."""

    def __init__(self, kind: str, detail: str, status: int = 400) -> None:
        super().__init__(detail)
        self.kind, self.detail, self.status = kind, detail, status

    def document(self) -> dict[str, Any]:
        kind = f"urn:ietf:params:acme:error:{self.kind}"
        return {"type": kind, "detail": self.detail, "status": self.status}


@dataclass
class Account:
    url: str
    jwk: dict[str, str]
    thumbprint: str


@dataclass
class Proof:
    """An authorization with its challenges. tried: the challenge that the client asked to look at."""

    name: str
    account: str
    wildcard: bool
    token: str
    status: str = "pending"
    tried: str | None = None
    error: dict[str, Any] | None = None


@dataclass
class PlacedOrder:
    account: str
    names: list[str]
    proofs: list[str]
    status: str = "pending"
    chain: bytes | None = None


def b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


def unb64(text: str) -> bytes:
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


@dataclass
class AcmeServer:
    """node: where it stands, to look at names and pages from. refuses: a fault: it takes no order. base: its URL."""

    town: Streets
    node: Machine
    authority: TownAuthority
    refuses: bool = False
    base: str = BASE
    nonces: set[str] = field(default_factory=set)
    accounts: dict[str, Account] = field(default_factory=dict)
    orders: dict[str, PlacedOrder] = field(default_factory=dict)
    proofs: dict[str, Proof] = field(default_factory=dict)
    issued: int = 0
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
                status, fields = no.status, {"Content-Type": "application/problem+json"}
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
            names = ("newNonce", "newAccount", "newOrder")
            places = {name: f"{self.base}/{name}" for name in names}
            places["renewalInfo"] = f"{self.base}/renewal"
            meta = {"termsOfService": f"{self.base}/terms"}
            return 200, {"Content-Type": "application/json"}, json.dumps({**places, "meta": meta}).encode()
        if path.startswith("/renewal/") and asked.method == "GET":
            return 200, {"Content-Type": "application/json", "Retry-After": "21600"}, self._renewal(path[9:])
        if path == "/newNonce":
            return 200 if asked.method == "HEAD" else 204, {}, b""
        if asked.method != "POST":
            raise Problem("malformed", "POST only", 405)
        routes: dict[str, Callable[[str, Any, Account], Awaitable[tuple[int, dict[str, str], bytes]]]] = {
            "newOrder": self._new_order,
            "account": self._account,
            "order": self._order,
            "finalize": self._finalize,
            "proof": self._proof,
            "challenge": self._challenge,
            "certificate": self._certificate,
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

    def _verified(self, asked: head.Head, path: str, body: bytes) -> tuple[dict[str, Any], Any, Account | None]:
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
        thumbprint = b64(sha256(json.dumps(jwk, sort_keys=True, separators=(",", ":")).encode()).digest())
        known = next((account for account in self.accounts.values() if account.thumbprint == thumbprint), None)
        if known is None and (payload or {}).get("onlyReturnExisting"):
            raise Problem("accountDoesNotExist", "no such account")
        if known is None and (payload or {}).get("termsOfServiceAgreed") is not True:
            raise Problem("userActionRequired", "the terms of service were not agreed to", 403)
        status = 200 if known is not None else 201
        if known is None:
            known = Account(f"{self.base}/account/{len(self.accounts) + 1}", jwk, thumbprint)
            self.accounts[known.url] = known
        return status, {"Location": known.url}, self._json({"status": "valid", "orders": f"{known.url}/orders"})

    async def _account(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
        del key, payload
        return 200, {"Location": account.url}, self._json({"status": "valid"})

    async def _new_order(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
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
        proofs = []
        for name in reversed(names):  # in another order than asked
            proof = Proof(name.removeprefix("*."), account.url, name.startswith("*."), secrets.token_urlsafe(24))
            number = f"p{len(self.proofs) + 1}"
            self.proofs[number] = proof
            proofs.append(number)
        number = f"o{len(self.orders) + 1}"
        self.orders[number] = PlacedOrder(account.url, names[::-1], proofs)
        return 201, {"Location": f"{self.base}/order/{number}"}, self._order_json(number)

    def _own_order(self, key: str, account: Account) -> PlacedOrder:
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

    async def _order(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
        del payload
        order = self._own_order(key, account)
        if order.status == "processing":
            order.status = "valid"
        return 200, {}, self._order_json(key)

    async def _finalize(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
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
        if not sound or sorted(names) != sorted(order.names) or not isinstance(public, ec.EllipticCurvePublicKey):
            raise Problem("badCSR", "its signature, its names or its key do not fit")
        if public.public_bytes(*_RAW) == self._account_key(account):
            raise Problem("badCSR", "the account's own key may not be used")
        start = self.town.now() - timedelta(hours=1)
        order.chain = self.authority.issue(sorted(names), public, start)
        order.status = "processing"
        self.issued += 1
        return 200, {"Retry-After": "1"}, self._order_json(key)

    @staticmethod
    def _account_key(account: Account) -> bytes:
        return b"\x04" + unb64(account.jwk["x"]) + unb64(account.jwk["y"])

    async def _certificate(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
        del payload
        order = self._own_order(key, account)
        if order.chain is None:
            raise Problem("malformed", "there is no certificate yet", 404)
        return 200, {"Content-Type": "application/pem-certificate-chain"}, order.chain

    # --- proofs (RFC 8555 sections 7.5 and 8)

    def _own_proof(self, key: str, account: Account) -> Proof:
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

    async def _proof(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
        proof = self._own_proof(key, account)
        if payload == {"status": "deactivated"}:
            proof.status = "deactivated"
        elif proof.status == "pending" and proof.tried is not None:
            try:
                await self._look(proof, account)
                proof.status = "valid"
            except Problem as no:
                proof.status, proof.error = "invalid", no.document()
        kinds = ("dns-01",) if proof.wildcard else ("http-01", "dns-01")
        document: dict[str, Any] = {
            "status": proof.status,
            "identifier": {"type": "dns", "value": proof.name},
            "challenges": [self._challenge_json(key, proof, kind) for kind in kinds],
        }
        if proof.wildcard:
            document["wildcard"] = True
        return 200, {}, self._json(document)

    async def _challenge(self, key: str, payload: Any, account: Account) -> tuple[int, dict[str, str], bytes]:
        number, _, kind = key.partition("/")
        proof = self._own_proof(number, account)
        if payload == {} and proof.status == "pending":
            if kind not in ("dns-01", "http-01") or (proof.wildcard and kind != "dns-01"):
                raise Problem("malformed", "no such challenge", 404)
            proof.tried = kind
        return 200, {}, self._json(self._challenge_json(number, proof, kind))

    async def _look(self, proof: Proof, account: Account) -> None:
        """Raises: Problem: what should be there is not."""
        answer = f"{proof.token}.{account.thumbprint}"
        if proof.tried == "dns-01":
            shown = self.town.zone.get(f"_acme-challenge.{proof.name}", "TXT")
            if not shown:
                raise Problem("dns", f"no TXT record at _acme-challenge.{proof.name}")
            if b64(sha256(answer.encode()).digest()) not in shown:
                raise Problem("unauthorized", "the TXT record holds something else", 403)
            return
        page = await self._fetch(proof)
        if page.strip() != answer.encode():
            raise Problem("unauthorized", "the page holds something else", 403)

    async def _fetch(self, proof: Proof) -> bytes:
        address = self.town.zone.address(proof.name)
        if address is None:
            raise Problem("dns", f"{proof.name} has no address")
        body = b""
        with anyio.move_on_after(LOOK_S):
            async with self.town.dialled(self.node, address, 80) as stream:
                if stream is None:
                    raise Problem("connection", f"{address}:80 refuses")
                target = f"/.well-known/acme-challenge/{proof.token}"
                fields = (("Host", proof.name), ("Connection", "close"))
                await stream.send(head.serialize_request("GET", target, "HTTP/1.1", fields))
                try:
                    while (found := head.split_head(body)) is None or len(found[1]) < 80:
                        body += await stream.receive()
                except anyio.EndOfStream:
                    pass
        found = head.split_head(body)
        if found is None or found[0].status != 200:
            raise Problem("connection", f"no page at {address}:80")
        return found[1]

    @staticmethod
    def _json(document: dict[str, Any]) -> bytes:
        return json.dumps(document).encode()


def _renewal_name(leaf: x509.Certificate) -> str:
    """RFC 9773 section 4.1."""
    key = leaf.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier or b""
    length = leaf.serial_number.bit_length() // 8 + 1
    return f"{b64(key)}.{b64(leaf.serial_number.to_bytes(length, 'big'))}"


_RAW = (serialization.Encoding.X962, serialization.PublicFormat.UncompressedPoint)
