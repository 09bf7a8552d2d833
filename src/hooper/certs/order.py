"""Getting a certificate, from an account to a chain on the disk. A run that was killed is taken up where it stopped."""

from __future__ import annotations

import base64
import hashlib
import re
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from hooper import deeds
from hooper.certs.acme import AcmeClient, Order, renewal_name, request_for
from hooper.certs.acme_refusals import WAIT_AT_MOST, AcmeBusy, AcmeFailed, AcmeRefused
from hooper.certs.challenges import Lender, ProofMemory, Prover
from hooper.certs.documents import CertificateRow, ProofRow
from hooper.certs.inspect import (
    AUTHORITY,
    CHAIN_LENGTH,
    TOO_LONG,
    fingerprint_of,
    leads_to,
    load_pem,
    unfit,
    well_known_roots,
    with_known_keys,
)
from hooper.certs.own_authority import NoRoot, OwnAuthority, names_to_sign
from hooper.certs.problems import ABSENT, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED
from hooper.certs.proof_ways import KINDS
from hooper.certs.site_roots import roots_beside
from hooper.certs.store import CertificateStore, Kept, key_type, new_key
from hooper.clock import rfc3339
from hooper.errors import CounterpartError, MachineError, RefusedForSafety, UsageError
from hooper.files import read_text
from hooper.net.types import Door
from hooper.store.updates import Started
from hooper.words.said import NOTHING, say, together

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.site.certificate_tables import Authority, Certificate
    from hooper.site.model import Site

DUE_SHARE = 1 / 3  # of its life: what is left when a certificate should be ordered anew
SPREAD = 0.1  # of its life: by how much sooner, at a moment of its own, so that not all are due in one hour
TOKEN = re.compile(r"[A-Za-z0-9_-]{1,400}")  # RFC 8555 section 8.1: base64url
WORDS = {
    ABSENT: "it vouches for itself alone",
    EXPIRED: "it has ended already",
    NOT_YET: "it begins later",
    OTHER_NAME: "it is not for all names that were ordered",
    UNTRUSTED: "nobody that is trusted vouches for it",
    AUTHORITY: "it is an authority's own, which could vouch for others",
    TOO_LONG: f"its chain has more than {CHAIN_LENGTH} certificates",
}
FORGOTTEN = ("accountDoesNotExist",)
REASONS = {"no-longer-used": 5, "key-leaked": 1, "replaced": 4}  # RFC 5280 5.3.1


class OrderMemory(ProofMemory, Protocol):
    """What is remembered of accounts, orders and proofs."""

    def account(self, directory: str) -> str | None: ...

    def save_account(self, directory: str, url: str) -> None: ...

    def started(self, certificate: str) -> Started | None: ...

    def save_started(self, certificate: str, started: Started | None, at: datetime) -> None: ...

    def hold(self, certificate: str) -> datetime | None: ...

    def save_hold(self, certificate: str, until: datetime | None, at: datetime) -> None: ...


@dataclass
class Ordering:
    """One run. base: the site file's folder. deadline: seconds for a request. patience: for records, the authority.

    lender: what lets a port in for a proof; None: nothing does. proofs: how names were proven in this run.
    """

    here: Door
    site: Site
    base: Path
    store: CertificateStore
    memory: OrderMemory
    deadline: float
    patience: float
    lender: Lender | None = None
    proofs: dict[str, ProofRow] = field(default_factory=dict)

    async def order(self, certificate: str, *, anew: bool, staging: bool = False) -> CertificateRow:
        """Get a certificate, unless the one that is kept is still good. anew: also then. staging: try it at the
        authority's staging directory first, where it does not count.

        Raises: UsageError: a device keeps it; RefusedForSafety: the terms are not agreed to; AcmeRefused, AcmeBusy,
        AcmeFailed, OtherKey, NoProof, TextNotShown, MachineError, StateError.
        """
        planned = self.site.certificates[certificate]
        if planned.authority == "device":
            raise UsageError(f"{certificate} is kept by the device itself", remedy="Order it on the device.")
        row = self.row(certificate)
        if row.state == "current" and not anew and not await self._wanted_by_authority(certificate):
            if self.memory.started(certificate) is not None:  # killed after the certificate was kept
                await self._prover(certificate).clear_leftovers()
                self._started(certificate, None)
            return row
        if self.site.authorities[planned.authority].kind == "own":
            self._issue(certificate)
            return self.row(certificate, ordered=True)
        until = self.memory.hold(certificate)
        if until is not None and not anew and self.here.clock.now() < until <= self.here.clock.now() + WAIT_AT_MOST:
            raise AcmeBusy(f"{planned.authority} asked to wait until {until:%Y-%m-%d %H:%M} UTC", until)
        authority = self._agreed(planned.authority)
        try:
            if staging:
                await self._rehearse(certificate, authority)
            await self._get(certificate, authority)
        except AcmeBusy as exc:
            self.memory.save_hold(certificate, exc.until, self.here.clock.now())
            raise
        self.memory.save_hold(certificate, None, self.here.clock.now())
        return self.row(certificate, ordered=True)

    def _own(self, key: str) -> OwnAuthority:
        """An authority of our own. Raises: NoRoot, MachineError."""
        trust = self.site.authorities[key].trust
        if trust is None:
            raise NoRoot(f"{key} has not been made yet", remedy=f"Make it with `{deeds.MAKE_AUTHORITY(key)}`.")
        return OwnAuthority(self.store.folder, key, read_text(self.base / trust.place))

    def _issue(self, certificate: str) -> None:
        """Have our own authority issue it, for its names and for the addresses of its services. Raises: as `_own`."""
        from cryptography.hazmat.primitives.serialization import load_pem_private_key

        planned, now = self.site.certificates[certificate], self.here.clock.now()
        own, authority = self._own(planned.authority), self.site.authorities[planned.authority]
        hosts = [self.site.devices[self.site.services[key].host].address for key in planned.services]
        names = names_to_sign(planned.names, [one for one in hosts if one is not None], authority.signs)
        key = self.store.pending_key(certificate, fresh=True, kind=planned.key_type)
        leaf = own.issue(names, load_pem_private_key(key, None).public_key(), now)
        self.store.keep(certificate, key, [leaf])

    def _agreed(self, key: str) -> Authority:
        """Raises: RefusedForSafety: its terms are not agreed to."""
        authority = self.site.authorities[key]
        if not authority.agreed:
            raise RefusedForSafety(
                f"you have not agreed to the terms of service of {key}",
                remedy=f"Read them, then write `agreed = true` in [authorities.{key}].",
            )
        return authority

    @asynccontextmanager
    async def _client(
        self, authority: Authority, directory: str = "", key: bytes | None = None
    ) -> AsyncIterator[AcmeClient]:
        """directory: another one of this authority's than its own. key: another one than the account's."""
        from hooper.net.http import http

        at = directory or authority.acme_directory
        roots = read_text(self.base / authority.trust.place) if authority.trust is not None else None
        async with http(self.here, roots, self.deadline) as client:
            yield AcmeClient(client, at, key or self.store.account_key(at), self.here.clock, self.patience)

    async def _wanted_by_authority(self, certificate: str) -> bool:
        """Whether the authority wants it renewed by now (RFC 9773), at a moment of its window that stays the same."""
        kept = self.store.kept(certificate)
        authority = self.site.authorities[self.site.certificates[certificate].authority]
        name = renewal_name(kept.leaf) if kept is not None else None
        if name is None or not authority.agreed or authority.kind == "own":
            return False
        try:
            async with self._client(authority) as acme:
                window = await acme.renewal_window(name)
        except AcmeFailed:
            return False  # it is still good: who does not answer now is asked again
        if window is None:
            return False
        share = hashlib.sha256(name.encode()).digest()[0] / 256
        return self.here.clock.now() >= window[0] + (window[1] - window[0]) * share

    async def _get(self, certificate: str, authority: Authority) -> None:
        await self._end_change(authority)
        async with self._client(authority) as acme:
            await self._account(acme, authority, known=self.memory.account(authority.acme_directory))
            try:
                await self._drive(acme, certificate, authority.acme_directory)
            except AcmeRefused as exc:
                if exc.kind not in FORGOTTEN:
                    raise
                await self._account(acme, authority, known=None)  # it has forgotten us, and all orders
                await self._drive(acme, certificate, authority.acme_directory)

    async def _rehearse(self, certificate: str, authority: Authority) -> None:
        """All of an order at the staging directory, whose certificate nobody trusts and nobody keeps."""
        if authority.staging is None:
            raise UsageError(
                f"{self.site.certificates[certificate].authority} has no staging directory in the site file",
                remedy="Write `staging = ...` in [authorities], with the address that the authority names.",
            )
        planned = self.site.certificates[certificate]
        async with self._client(authority, authority.staging) as acme:
            await self._account(acme, authority, known=None, directory=authority.staging)
            order = await acme.new_order(planned.names, None, planned.profile)
            if order.status == "pending":
                await self._prove_all(acme, certificate, order)
                order = await acme.settled(order, ("pending",))
            order = await acme.finalize(order, request_for(new_key(planned.key_type), planned.names))
            if order.status != "valid":
                raise AcmeRefused(f"the order at the staging directory came to the state {order.status!r}", "")

    # --- the account, and taking back

    async def change_account_key(self, key: str) -> None:
        """Have an authority replace our account's key, which may have been seen. Raises: as `order`; UsageError."""
        if self.site.authorities[key].kind == "own":
            raise UsageError(f"{key} is your own: there is no account at it", remedy="Name one that speaks ACME.")
        authority = self._agreed(key)
        known = self.memory.account(authority.acme_directory)
        if known is None:
            raise UsageError(f"there is no account at {key} yet", remedy=f"`{deeds.ORDER}` makes one.")
        await self._end_change(authority)
        async with self._client(authority) as acme:
            await acme.register((), known)
            fresh = self.store.next_account_key(authority.acme_directory, make=True)
            assert fresh is not None
            await acme.change_key(fresh)
            self.store.end_change(authority.acme_directory, taken=True)

    async def _end_change(self, authority: Authority) -> None:
        """A run may have been killed while it changed the key: whose account it is now, the authority knows."""
        fresh = self.store.next_account_key(authority.acme_directory, make=False)
        if fresh is None:
            return
        async with self._client(authority, key=fresh) as acme:
            known = await acme.known()
        self.store.end_change(authority.acme_directory, taken=known is not None)

    async def revoke(self, certificate: str, generation: str, reason: str) -> CertificateRow:
        """Have the authority revoke what is kept, or an earlier generation. reason: of `REASONS`.

        Raises: as `order`; UsageError: there is none.
        """
        from cryptography.hazmat.primitives.serialization import Encoding

        kept = self.store.earlier(certificate).get(generation) if generation else self.store.kept(certificate)
        if kept is None:
            raise UsageError(f"there is nothing kept of {certificate} to revoke", remedy=f"See `{deeds.GENERATIONS}`.")
        by = self.site.certificates[certificate].authority
        if self.site.authorities[by].kind == "own":
            self._own(by).revoke(kept.leaf, self.here.clock.now())
            self.store.note_revoked(certificate, fingerprint_of(kept.leaf))
            return self.row(certificate)
        authority = self._agreed(by)
        await self._end_change(authority)
        async with self._client(authority) as acme:
            await self._account(acme, authority, known=self.memory.account(authority.acme_directory))
            try:
                await acme.revoke(kept.leaf.public_bytes(Encoding.DER), REASONS[reason])
            except AcmeRefused as exc:
                if exc.kind != "alreadyRevoked":
                    raise
        self.store.note_revoked(certificate, fingerprint_of(kept.leaf))
        return self.row(certificate)

    async def _account(self, acme: AcmeClient, authority: Authority, *, known: str | None, directory: str = "") -> None:
        binding = None
        if authority.binding_id is not None and authority.binding_key is not None and known is None:
            text = authority.binding_key.read(self.base).reveal().strip().rstrip("=")
            try:
                binding = authority.binding_id, base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))
            except ValueError:
                raise MachineError(
                    "the key that `binding_key` names is not base64url",
                    code="secret-unusable",
                    remedy="Copy it anew from the authority's page: letters, digits, - and _, and nothing else.",
                ) from None
        url = await acme.register(authority.contact, known, binding)
        if url != known:
            self.memory.save_account(directory or authority.acme_directory, url)

    async def _drive(self, acme: AcmeClient, certificate: str, directory: str) -> None:
        """An order from wherever it stands to its certificate; one that was taken up and is of no use, begun again."""
        order = await self._taken_up(acme, certificate, directory)
        if order is not None:
            try:
                await self._finish(acme, certificate, order)
                return
            except AcmeRefused as exc:
                if exc.kind in FORGOTTEN:
                    raise
        planned = self.site.certificates[certificate]
        self.store.pending_key(certificate, fresh=True, kind=planned.key_type)
        self._started(certificate, Started(directory, None, planned.names))
        kept = self.store.kept(certificate)
        replaces = renewal_name(kept.leaf) if kept is not None else None
        order = await acme.new_order(planned.names, replaces, planned.profile)
        self._started(certificate, Started(directory, order.url, planned.names))
        await self._finish(acme, certificate, order)

    async def _finish(self, acme: AcmeClient, certificate: str, order: Order) -> None:
        """Prove, hand in the request, fetch and keep the certificate."""
        planned = self.site.certificates[certificate]
        key = self.store.pending_key(certificate, fresh=False, kind=planned.key_type)
        try:
            if order.status == "pending":
                await self._prove_all(acme, certificate, order)
                order = await acme.settled(order, ("pending",))
            if order.status == "ready":
                order = await acme.finalize(order, request_for(key, planned.names))
            if order.status == "processing":
                order = await acme.settled(order, ("processing",))
            if order.status != "valid" or not order.body.certificate:
                why = order.body.error.detail if order.body.error is not None else ""
                raise AcmeRefused(f"the order came to the state {order.status!r}" + (f": {why}" if why else ""), "")
            self.store.keep(certificate, key, self._judged(certificate, await self._chosen_chain(acme, order, planned)))
        except AcmeRefused as exc:
            if exc.kind not in FORGOTTEN:
                self._started(certificate, None)  # a refused order is of no use any more
            raise
        except (MachineError, CounterpartError) as exc:
            if exc.code in ("wrong-key", "certificate-unfit"):  # what it gives would be the same once more
                self._started(certificate, None)
            raise
        await self._prover(certificate).clear_leftovers()
        self._started(certificate, None)

    @staticmethod
    async def _chosen_chain(acme: AcmeClient, order: Order, planned: Certificate) -> bytes:
        """The chain that the site file wants; where the authority has none such, its first."""
        first = b""
        async for data in acme.chains(order):
            first = first or data
            if planned.chain_to is None:
                break
            with suppress(ValueError):
                if leads_to(load_pem(data), planned.chain_to):
                    return data
        return first

    def _judged(self, certificate: str, data: bytes) -> list[x509.Certificate]:
        """The chain that came, if it is better than what is kept. Raises: AcmeFailed: it is of no use."""
        try:
            chain = load_pem(data)
            if len(with_known_keys(chain)) < len(chain):
                raise ValueError("what no library knows")
        except ValueError:
            raise AcmeFailed("what the authority gave is no certificate in PEM") from None
        planned, now = self.site.certificates[certificate], self.here.clock.now()
        roots = [*well_known_roots(), *roots_beside(self.site, self.base, (planned.authority,))]
        kept = self.store.kept(certificate)
        wrong = unfit(chain, planned.names, roots, now)
        if wrong == [UNTRUSTED]:  # some roots are known to devices alone: it may serve, but replaces nothing better
            good = kept is not None and not unfit(kept.chain, planned.names, roots, now)
            wrong = wrong if good else []
        if wrong:
            left = "; the one that is kept stays" if kept is not None else ""
            what = ", ".join(WORDS[code] for code in wrong)
            raise AcmeFailed(f"what the authority issued is of no use: {what}{left}", code="certificate-unfit")
        return chain

    async def _taken_up(self, acme: AcmeClient, certificate: str, directory: str) -> Order | None:
        """The order of a run that did not come to its end; None: there is none that is of use."""
        started = self.memory.started(certificate)
        if started is None or started.url is None or started.directory != directory:
            return None
        if sorted(started.names) != sorted(self.site.certificates[certificate].names):
            return None
        try:
            order = await acme.order(started.url)
        except AcmeRefused as exc:
            if exc.kind in FORGOTTEN:
                raise
            return None
        return order if order.status in ("pending", "ready", "processing", "valid") else None

    def _started(self, certificate: str, started: Started | None) -> None:
        self.memory.save_started(certificate, started, self.here.clock.now())

    def _prover(self, certificate: str) -> Prover:
        planned = self.site.certificates[certificate]
        return Prover(self.here, self.site, planned, self.base, self.deadline, self.patience, self.memory, self.lender)

    async def ways(self, certificate: str) -> tuple[ProofRow, ...]:
        """How its names would be proven, as far as that can be told before. Raises: NoProof, MachineError."""
        if self.site.authorities[self.site.certificates[certificate].authority].kind == "own":
            return ()
        prover = self._prover(certificate)
        found = [(name, await prover.choose(name, set(KINDS))) for name in self.site.certificates[certificate].names]
        return tuple(ProofRow(name, way.kind, way.why) for name, way in found)

    async def _prove_all(self, acme: AcmeClient, certificate: str, order: Order) -> None:
        """One name after the other: two records at one name, as with a wildcard, then never hide each other."""
        prover = self._prover(certificate)
        for url, proof in await acme.authorizations(order, self.site.certificates[certificate].names):
            if proof.status == "valid":
                continue
            if proof.status != "pending":
                raise AcmeRefused(f"the proof of {proof.name} is {proof.status}", "unauthorized")
            challenges = {challenge.type: challenge for challenge in proof.challenges}
            way = await prover.choose(proof.name, set(challenges))
            self.proofs[proof.name] = ProofRow(proof.name, way.kind, way.why)
            token = challenges[way.kind].token
            if TOKEN.fullmatch(token) is None:
                raise AcmeFailed(f"the authority gives a token that is none: {token[:40]!r}")
            async with prover.shown(way, proof.name, token, acme.key_authorization(token), acme.text_of(token)):
                await acme.prove(challenges[way.kind], url)

    # --- what is kept

    def row(self, certificate: str, *, ordered: bool = False) -> CertificateRow:
        """How a certificate that Hooper keeps stands. Raises: MachineError."""
        planned = self.site.certificates[certificate]
        kept = self.store.kept(certificate)
        now = self.here.clock.now()
        chain, key = str(self.store.chain_path(certificate)), str(self.store.key_path(certificate))
        if kept is None:
            return _row(certificate, planned, "absent", None, now)
        gone = fingerprint_of(kept.leaf) in self.store.revoked(certificate)
        state = "revoked" if gone else "ordered" if ordered else state_of(kept, planned.names, now)
        other = state in ("current", "ordered") and key_type(kept.leaf.public_key()) != planned.key_type
        return _row(
            certificate, planned, "due" if other else state, kept, now, chain=chain, key=key,
            proofs=tuple(self.proofs[name] for name in planned.names if name in self.proofs), other_key=other,
        )  # fmt: skip


def state_of(kept: Kept, names: Sequence[str], now: datetime) -> str:
    """Whether a kept certificate will do for `names`."""
    start, end = kept.leaf.not_valid_before_utc, kept.leaf.not_valid_after_utc
    if now > end:
        return "expired"
    if not set(names) <= {name.lower() for name in kept.names}:
        return "absent"
    share = DUE_SHARE + SPREAD * (kept.leaf.serial_number % 997) / 997
    return "due" if end - now < (end - start) * share else "current"


def _row(
    certificate: str,
    planned: Certificate,
    state: str,
    kept: Kept | None,
    now: datetime,
    *,
    chain: str | None = None,
    key: str | None = None,
    proofs: tuple[ProofRow, ...] = (),
    other_key: bool = False,
) -> CertificateRow:
    detail = {
        "absent": say("there-is-none-yet") if kept is None else say("the-one-that-is-kept"),
        "due": say("it-has-another-key", kind=planned.key_type) if other_key else say("it-expires-soon"),
        "expired": say("it-has-expired"),
        "revoked": say("it-is-revoked"),
    }.get(state, NOTHING)
    if kept is not None and planned.chain_to is not None and not leads_to(kept.chain, planned.chain_to):
        detail = together((detail, say("no-chain-to", root=planned.chain_to)), "; ")
    end = kept.leaf.not_valid_after_utc if kept is not None else None
    return CertificateRow(
        certificate=certificate,
        names=planned.names,
        authority=planned.authority,
        services=planned.services,
        state=state,  # type: ignore[arg-type]
        issuer=kept.leaf.issuer.rfc4514_string() if kept is not None else None,
        not_before=rfc3339(kept.leaf.not_valid_before_utc) if kept is not None else None,
        not_after=rfc3339(end) if end is not None else None,
        days_left=(end - now).days if end is not None else None,
        chain=chain,
        key=key,
        ok=state in ("current", "due", "ordered"),
        detail=detail,
        proofs=proofs,
    )
