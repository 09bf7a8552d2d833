"""One probe as a result: held against the inside, and with whom a stranger looks like."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING, Protocol

from hooper.check.results import Evidence, InsideSeen, Result, Seen
from hooper.check.sameness import same_device, titles_differ
from hooper.check.targets import Target, is_ok
from hooper.clock import rfc3339
from hooper.words.said import NOTHING, quoted, say

if TYPE_CHECKING:
    from hooper.store.checks import StoredInside


class InsideMemory(Protocol):
    """What earlier checks saw of the services from inside."""

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None: ...

    def fingerprints(self) -> dict[str, str]:
        """The service behind each certificate or host key."""
        ...


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
        if seen.verdict not in ("silent", "refused", "unproven"):
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
