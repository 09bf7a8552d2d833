"""Probes as results: held against the plan and the inside, and with whom a stranger looks like."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING, Protocol

from hooper.check.keys import StandInKey
from hooper.check.likeness import likened
from hooper.check.named import MISSING
from hooper.check.results import Evidence, InsideSeen, Result, Seen
from hooper.check.sameness import redirected, same_device, titles_differ
from hooper.check.targets import Target, is_ok
from hooper.clock import rfc3339
from hooper.words.said import NOTHING, quoted, say

if TYPE_CHECKING:
    from hooper.check.addressing import Addressed
    from hooper.check.certificates import Judge
    from hooper.check.view import View
    from hooper.check.wish import Wish
    from hooper.store.checks import StoredInside
    from hooper.words.said import Said

CLOSED = ("silent", "refused", "unproven")  # what is told of a port that is not open, or may not be


class InsideMemory(Protocol):
    """What earlier checks saw of the services from inside."""

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None: ...

    def fingerprints(self) -> dict[str, str]:
        """The service behind each certificate or host key."""
        ...


def results_of(
    view: View,
    wish: Wish,
    found: Addressed,
    targets: Sequence[Target],
    probed: Iterable[Seen],
    inside: dict[tuple[str, str, int], InsideSeen],
    memory: InsideMemory | None,
    now: datetime,
) -> list[Result]:
    """What was seen, held against the plan and the inside.

    probed: of those targets that have an address. inside: what was seen of them from inside in the same moment; from
    there, what is seen now is put in.
    """
    came, results = iter(probed), []
    known = memory.fingerprints() if memory is not None else {}
    for target in targets:
        why = view.unfit.words if view.unfit is not None else target.beyond or say("public-unknown")
        looked = view.unfit is None and target.address is not None
        seen = next(came) if looked else Seen(verdict="unproven", detail=why)
        _hold_against_plan(wish.judge, target, seen, now)
        evidence = found.about(target, now) if view.outside else Evidence()
        if view.outside and looked:
            before = inside_of(target, inside, memory)
            result = compared(target, seen, evidence, before, visible=target.gateway in view.sight)
            results.append(likened(wish.topology, target, seen, result, inside, known))
            continue
        if view.within is not None and target.expected == "unreachable" and seen.verdict not in CLOSED:
            seen.detail += say("not-for-peer", peer=view.within.peer)
        results.append(as_result(target, seen, evidence))
        if not view.outside and view.within is None:
            inside[target.service, target.transport, target.port] = as_inside(seen, now)
    return results


def _hold_against_plan(judge: Judge, target: Target, seen: Seen, now: datetime) -> None:
    """Put in what is wrong with the certificate and the redirection that were seen."""
    if seen.verdict != "answered" or isinstance(target.keys, StandInKey):
        return
    found: list[tuple[str, Said]] = []
    if target.wrong is None or target.wrong[0] == MISSING:
        found = judge.problems(target.service, target.server_name, seen.chain, now)
    if seen.certificate is not None and target.speaks == "https":
        said = judge.browsers_warn(target.service, target.server_name or str(target.address), seen.chain, now)
        seen.certificate = replace(seen.certificate, browsers_warn=said)
    if seen.page is not None and seen.page.location is not None and target.expected == "reachable":
        found += redirected(target, seen.page.location)
    for code, words in found:
        seen.problems.append(code)
        seen.detail += quoted("; ") + words


def as_inside(seen: Seen, at: datetime) -> InsideSeen:
    return InsideSeen(seen.verdict, seen.fingerprint, seen.greeting, rfc3339(at), False, seen.nobody, seen.page)


def inside_of(
    target: Target, now: Mapping[tuple[str, str, int], InsideSeen], memory: InsideMemory | None
) -> InsideSeen | None:
    """The inside as seen now, or as it was stored where it cannot be seen now."""
    key = (target.service, target.transport, target.inner[1])
    seen = now.get(key)
    if seen is not None and (seen.fingerprint or seen.greeting or seen.verdict == "answered"):
        return seen
    stored = memory.inside(*key) if memory is not None else None
    return InsideSeen(stored.verdict, stored.fingerprint, stored.greeting, stored.at, True, False) if stored else seen


def compared(target: Target, seen: Seen, evidence: Evidence, inside: InsideSeen | None, *, visible: bool) -> Result:
    """The result with the inside held against it: another certificate or greeting is another device."""
    evidence = replace(evidence, inside=inside if target.expected == "reachable" else None)
    if target.expected == "unreachable":
        if seen.verdict not in CLOSED:
            seen.detail += say("must-not-be-reachable")
        return as_result(target, seen, evidence)
    same = same_device(target, seen, inside) if inside is not None else None
    if inside is not None and same is not None:
        sign = "greeting" if not seen.fingerprint else "host-key" if target.speaks == "ssh" else "certificate"
        if not seen.fingerprint and titles_differ(seen.page, inside.page):
            sign = "page"
        when = say("on-day", day=inside.at[:10]) if inside.stored else NOTHING
        if same:
            seen.detail += say("same-as-inside", sign=say(sign), when=when)
        else:
            seen.verdict, seen.detail = "mismatched", say("not-as-inside", sign=say(sign), when=when)
    elif seen.verdict == "answered" and target.keys is None:
        why = NOTHING if visible else say("not-on-its-network")
        seen.detail += say("not-compared", why=why)
    return as_result(target, seen, evidence)


def as_result(target: Target, seen: Seen, evidence: Evidence) -> Result:
    warned = seen.certificate.browsers_warn if seen.certificate is not None else None
    if warned is not None and seen.verdict == "answered" and not seen.problems and target.address != target.inner[0]:
        seen.detail += say("browsers-warn", warned=warned)
    if target.wrong is not None:
        seen.problems.append(target.wrong[0])
        seen.detail += quoted("; ") + target.wrong[1]
    return Result(
        service=target.service,
        expected=target.expected,
        ok=is_ok(target, seen.verdict, seen.problems),
        verdict=seen.verdict,
        problems=tuple(seen.problems),
        family="ipv6" if target.address is not None and target.address.version == 6 else "ipv4",
        target_address=str(target.address) if target.address is not None else None,
        transport=target.transport,
        port=target.port,
        took_ms=seen.took_ms,
        fingerprint=seen.fingerprint,
        evidence=replace(
            evidence,
            certificate=seen.certificate,
            tls_version=seen.tls_version,
            page=seen.page,
            greeting=seen.greeting,
            first_bytes=seen.first_bytes,
            icmp=seen.icmp,
        ),
        detail=seen.detail,
        name=target.name,
        provable=target.provable,
    )


def judged(target: Target, seen: Seen) -> Result:
    """One probe as a result, with nothing to compare it with."""
    return as_result(target, seen, Evidence())
