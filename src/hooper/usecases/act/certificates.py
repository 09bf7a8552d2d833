"""Certificates: which there are, and getting them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time

from hooper import deeds
from hooper.certs.documents import CertificateRow, CertificatesDocument, EarlierRow, NewKeyDocument
from hooper.certs.inspect import judge, load_chain, names_of, well_known_roots
from hooper.certs.order import Ordering
from hooper.certs.site_roots import own_roots
from hooper.certs.store import CertificateStore
from hooper.check.probes import probe
from hooper.check.targets import inner_targets
from hooper.clock import read_moment, rfc3339
from hooper.errors import HooperError, UsageError
from hooper.net.types import Door
from hooper.planning.topology import Topology
from hooper.report.expiry import Care, Ending
from hooper.store.kept import Condition
from hooper.store.locking import alone
from hooper.usecases.act.giving import GiveRequest, give_one
from hooper.usecases.act.proof_ports import ProofPorts
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions, of_certificates
from hooper.words.said import NOTHING, say


@dataclass(frozen=True)
class CertificatesRequest:
    """certificates: only these; empty: all. deadline: seconds for each question; patience: for what has to show.

    again: order also where the one that is kept is still good. staging: try it at the authority's staging directory
    first. earlier: list the generations before too. generation: the one to bring back, or to revoke; empty: the newest,
    or the one that is kept. reason: why it is revoked. dry_run: say what would be done.
    """

    certificates: tuple[str, ...] = ()
    deadline: float = 5.0
    patience: float = 0.0
    again: bool = False
    staging: bool = False
    reason: str = "no-longer-used"
    earlier: bool = False
    generation: str = ""
    dry_run: bool = False


def _ordering(run: Run, request: CertificatesRequest) -> Ordering:
    store = CertificateStore(run.kept.certificates)
    return Ordering(
        run.here, run.site, run.base, store, run.kept.orders, request.deadline, request.patience, ProofPorts(run)
    )


def _chosen(run: Run, given: Sequence[str]) -> tuple[str, ...]:
    chosen = tuple(given) or tuple(run.site.certificates)
    if not chosen:
        raise UsageError("the site file has no certificates", remedy="Add [certificates.KEY] with its names.")
    return chosen


async def list_certificates(run: Run, request: CertificatesRequest) -> tuple[CertificatesDocument, list[HooperError]]:
    """How the certificates stand. Raises: UsageError."""
    rows: list[CertificateRow] = []
    for key in _chosen(run, request.certificates):
        if run.site.certificates[key].authority == "device":
            rows.append(await _watched(run.here, run.topology, key, request.deadline))
        elif run.state is not None:
            rows.append(_ordering(run, request).row(key))
    keep_conditions(run, of_certificates(rows))
    return CertificatesDocument(tuple(rows), _earlier(run, request) if request.earlier else ()), []


def endings(run: Run, rows: Sequence[CertificateRow]) -> list[Ending]:
    """All of the site that ends on a day, for a time line: these certificates, own roots, peers' days, risks."""
    found: list[Ending] = []
    for row in rows:
        if row.not_after is not None:
            begin = read_moment(row.not_before) if row.not_before is not None else None
            care: Care = "renewed" if row.authority != "device" else "by-hand"
            found.append(Ending(f"certificate {row.certificate}", begin, read_moment(row.not_after), care))
    for key, root in own_roots(run.site, run.base).items():
        found.append(Ending(f"root {key}", root.not_valid_before_utc, root.not_valid_after_utc, "by-hand"))
    for key, peer in run.site.peers.items():
        if peer.until is not None and peer.revoked is None:
            found.append(Ending(f"peer {key}", None, _night(peer.until), "by-hand"))
    for key, service in run.site.services.items():
        found += [Ending(f"risk {key} {one.finding}", None, _night(one.until), "by-hand") for one in service.accepted]
    return found


def _night(day: date) -> datetime:
    """The end of a day, in UTC."""
    return datetime.combine(day, time.max, UTC)


def _earlier(run: Run, request: CertificatesRequest) -> tuple[EarlierRow, ...]:
    if run.state is None:
        return ()
    store = CertificateStore(run.state.certificates)
    return tuple(
        EarlierRow(key, name, kept.names, kept.leaf.issuer.rfc4514_string(), rfc3339(kept.leaf.not_valid_after_utc))
        for key in _chosen(run, request.certificates)
        for name, kept in store.earlier(key).items()
    )


async def restore_certificate(run: Run, request: CertificatesRequest) -> tuple[CertificatesDocument, list[HooperError]]:
    """Bring an earlier generation back. Raises: UsageError: there is none; MachineError, Busy."""
    (key,) = request.certificates
    if run.state is None:
        return CertificatesDocument(()), []
    store = CertificateStore(run.state.certificates)
    known = store.earlier(key)
    if not known or (request.generation and request.generation not in known):
        there = f"there are: {', '.join(known)}" if known else "none was kept before"
        raise UsageError(f"{key} has no such earlier generation; {there}", remedy=f"See `{deeds.GENERATIONS}`.")
    if request.dry_run:
        chosen = request.generation or next(iter(known))
        return CertificatesDocument((), tuple(row for row in _earlier(run, request) if row.generation == chosen)), []
    async with alone(run.state.lock("orders"), run.here.clock, "is ordering certificates"):
        store.restore(key, request.generation or next(iter(known)))
    return CertificatesDocument((_ordering(run, request).row(key),), _earlier(run, request)), []


async def revoke_certificate(run: Run, request: CertificatesRequest) -> tuple[CertificatesDocument, list[HooperError]]:
    """Have the authority revoke what is kept, or an earlier generation. Raises: UsageError; as `Ordering.revoke`."""
    (key,) = request.certificates
    if run.site.certificates[key].authority == "device":
        raise UsageError(f"{key} is kept by the device itself", remedy="Have it revoked there.")
    if run.state is None:
        return CertificatesDocument(()), []
    ordering = _ordering(run, request)
    if request.dry_run:
        return CertificatesDocument((replace(ordering.row(key), detail=say("would-be-revoked")),)), []
    async with alone(run.state.lock("orders"), run.here.clock, "is ordering certificates"):
        row = await ordering.revoke(key, request.generation, request.reason)
    keep_conditions(run, of_certificates([row]))
    return CertificatesDocument((row,)), []


async def change_account_key(
    run: Run, authority: str, request: CertificatesRequest
) -> tuple[NewKeyDocument, list[HooperError]]:
    """Have an authority replace the key of our account. Raises: UsageError; as `Ordering.change_account_key`."""
    does = run.state is not None and not request.dry_run
    if does:
        async with alone(run.kept.lock("orders"), run.here.clock, "is ordering certificates"):
            await _ordering(run, request).change_account_key(authority)
    return NewKeyDocument(authority, does), []


async def order_certificates(run: Run, request: CertificatesRequest) -> tuple[CertificatesDocument, list[HooperError]]:
    """Get the certificates that are missing or end soon; without a state nothing is ordered. Raises: UsageError."""
    chosen = _chosen(run, request.certificates)
    if not request.certificates:
        chosen = tuple(key for key in chosen if run.site.certificates[key].authority != "device")
    if not chosen:
        raise UsageError("all certificates of this site are kept by devices", remedy=f"See `{deeds.CERTIFICATES}`.")
    rows: list[CertificateRow] = []
    trouble: list[HooperError] = []
    if run.state is None:
        return CertificatesDocument(()), trouble
    ordering = _ordering(run, request)
    for key in chosen:
        run.detail(f"{key}: {', '.join(run.site.certificates[key].names)}")
        if request.dry_run:
            row, by = ordering.row(key), run.site.certificates[key].authority
            kept = row.state == "current" and not request.again
            said = say("would-be-left") if kept else say("would-be-ordered", by=by)
            try:
                ways = () if kept else await ordering.ways(key)
            except HooperError as exc:
                ways = ()
                trouble.append(exc.about(key))
            rows.append(replace(row, detail=said, proofs=ways))
            continue
        try:
            async with alone(run.state.lock("orders"), run.here.clock, "is ordering certificates"):
                rows.append(await ordering.order(key, anew=request.again, staging=request.staging))
        except HooperError as exc:
            trouble.append(exc.about(key))
            if run.site.certificates[key].authority != "device":
                row = ordering.row(key)
                rows.append(replace(row, state="failed" if not row.ok else row.state, detail=say("not-ordered")))
    if not request.dry_run:
        keep_conditions(run, of_certificates(rows))
    return CertificatesDocument(tuple(rows)), trouble


async def keep_certificates(run: Run, request: CertificatesRequest) -> list[HooperError]:
    """Order what ends soon, give it to whoever shows it, and look whether it is shown; the trouble on the way."""
    _, trouble = await order_certificates(run, request)
    for key, planned in run.site.certificates.items():
        try:
            if planned.authority == "device":
                keep_conditions(run, of_certificates([await _watched(run.here, run.topology, key, request.deadline)]))
            elif run.state is not None and CertificateStore(run.kept.certificates).kept(key) is not None:
                await give_one(run, key, GiveRequest((key,), request.deadline))
        except HooperError as exc:
            problem = exc.about(key)
            trouble.append(problem)
            code = "certificate-not-given"
            keep_conditions(run, [Condition("certificate", key, "given", "not-given", "wrong", problem.told, code)])
    return trouble


async def _watched(here: Door, topology: Topology, certificate: str, deadline: float) -> CertificateRow:
    """How the certificate stands at the first of its services that shows one. Never raises for the network."""
    planned = topology.site.certificates[certificate]
    now = here.clock.now()
    detail = say("no-service-asked") if not planned.services else NOTHING
    for target in inner_targets(topology, planned.services):
        seen = await probe(here, target, deadline)
        chain = load_chain(seen.chain)
        if not chain:
            detail = say("shows-no-certificate", service=target.service, why=seen.detail)
            continue
        leaf, roots = chain[0], well_known_roots()
        problems = {p for name in planned.names for p in judge(chain, name, roots, now, planned=True).problems}
        return CertificateRow(
            certificate=certificate,
            names=planned.names,
            authority="device",
            services=planned.services,
            state="watched",
            issuer=leaf.issuer.rfc4514_string(),
            not_before=rfc3339(leaf.not_valid_before_utc),
            not_after=rfc3339(leaf.not_valid_after_utc),
            days_left=(leaf.not_valid_after_utc - now).days,
            chain=None,
            key=None,
            ok=not problems,
            detail=say("shows-certificate-for", service=target.service, names=names_of(leaf))
            + (say("with-problems", problems=sorted(problems)) if problems else NOTHING),
        )
    return CertificateRow(
        certificate,
        planned.names,
        "device",
        planned.services,
        "unknown",
        None,
        None,
        None,
        None,
        None,
        None,
        False,
        detail,
    )
