"""What a check says. The field names are those of the JSON contract."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from hooper.evidence.identity import Identity
from hooper.places import Place, PlaceKind
from hooper.planning.values import Finding
from hooper.sourced import Shown
from hooper.words.said import NOTHING, Said

Verdict = Literal["answered", "connected", "mismatched", "refused", "silent", "unproven"]
Expected = Literal["reachable", "unreachable"]
SPEECH = frozenset({"https-needed", "clear-text", "tls-failed", "name-refused"})  # problems of how it speaks


@dataclass(frozen=True, slots=True)
class CertificateSeen:
    """What a server showed; not judged. Times as in RFC 3339.

    names: the names that it is for. not_before: valid from then on. not_after: expired from then on. browsers_warn:
    why a browser that knows the usual authorities alone warns of it; null: it does not, or was not asked for.
    """

    subject: str
    names: tuple[str, ...]
    issuer: str
    not_before: str
    not_after: str
    browsers_warn: Said | None = None


@dataclass(frozen=True, slots=True)
class IcmpSeen:
    """An ICMP message.

    type: its number. code: its number. name: in words. by: who sent it; null where that is not told.
    """

    type: int
    code: int
    name: str
    by: str | None


@dataclass(frozen=True, slots=True)
class PageSeen:
    """The first answer of a web page, or of a camera (then title is null).

    status: the HTTP status code. server: the Server header. title: the page's title. location: where it sends the
    browser. date: the time that it is by the device's own clock, RFC 3339; null: it does not tell.
    """

    status: int
    server: str | None
    title: str | None
    location: str | None
    date: str | None = None


@dataclass(frozen=True, slots=True)
class InsideSeen:
    """The same service probed at its inner address.

    at: when. stored: it could not be seen now. nobody: no device on the network has that address. greeting: what the
    service said first; null where it says nothing. page: its page; null where it has none, or was stored.
    """

    verdict: Verdict
    fingerprint: str | None
    greeting: str | None
    at: str
    stored: bool
    nobody: bool
    page: PageSeen | None = None


@dataclass(frozen=True, slots=True)
class Evidence:
    """All that was seen, null where there was nothing of the kind.

    public_address: the address that was probed. place_address: the public address of the place probed from. greeting:
    the first line of a server that speaks first, or its name for itself. certificate: what was shown; not judged.
    first_bytes: what came first, where it was no known greeting. icmp: the message that came instead of an answer.
    inside: the same service at its inner address. page: the answer of a web page. tls_version: as negotiated.
    """

    public_address: Shown | None = None
    place_address: Shown | None = None
    certificate: CertificateSeen | None = None
    tls_version: str | None = None
    page: PageSeen | None = None
    greeting: str | None = None
    first_bytes: str | None = None
    icmp: IcmpSeen | None = None
    inside: InsideSeen | None = None


@dataclass(frozen=True, slots=True)
class Result:
    """One probe.

    expected: what should come out. problems: the codes of what is wrong. family: of the address. target_address: where
    it was tried. name: the one that people type and that leads there; null where it was tried by number. took_ms:
    until the verdict, in milliseconds. fingerprint: of the certificate, "sha256:...". evidence: all that was seen.
    provable: false: no probe could prove that this protocol answers, so that silence says nothing. looks_like: of a
    stranger that answered, "service:KEY" or "gateway:KEY"; null: nobody known. identity: whose answer it was: proven
    to be the device's own; kind: it looks like it, and nothing tells it from another of its make; other; none: nothing
    tells.
    """

    service: str
    expected: Expected
    ok: bool
    verdict: Verdict
    problems: tuple[str, ...]
    family: Literal["ipv4", "ipv6"]
    target_address: str | None
    transport: str
    port: int
    took_ms: int
    fingerprint: str | None
    evidence: Evidence
    detail: Said
    name: str | None = None
    provable: bool = True
    looks_like: str | None = None
    identity: Identity = "none"

    @property
    def looks_right(self) -> bool:
        """It answers as it should, and nothing tells it from another device of its make."""
        return self.ok and self.expected == "reachable" and self.identity != "proven"

    @property
    def untold(self) -> bool:
        """It is not known whether this is as it should be, and nothing is known to be wrong."""
        return self.verdict == "unproven" and not self.problems


def passes(results: Sequence[Result], *, allow_unproven: bool = False, strict: bool = False) -> bool:
    """Whether a check is well.

    What no probe could prove is not counted against the rest, unless `strict`; it is no rest by itself. strict: whose
    answer it was must be proven too. allow_unproven: what could not be told passes too.
    """

    def well(result: Result) -> bool:
        if strict and result.looks_right:
            return False
        return result.ok or (result.untold and (allow_unproven or not (result.provable or strict)))

    return all(map(well, results)) and (allow_unproven or any(result.ok for result in results) or not results)


@dataclass(frozen=True, slots=True)
class From:
    """Where the check was made from.

    kind: the sort of place. name: its name. proves_outside: whether an answer there proves anything about the internet.
    line: of the site, by which what was sent left; null: by none of them, or not known. family: of all that was sent;
    null: both, or nothing was.
    """

    kind: PlaceKind
    name: str
    proves_outside: bool
    line: str | None = None
    family: Literal["ipv4", "ipv6"] | None = None

    @classmethod
    def of(cls, place: Place, *, proves_outside: bool) -> From:
        return cls(place.kind, place.shown, proves_outside, place.line, place.family)


@dataclass(frozen=True, slots=True)
class Skipped:
    """A service that was not probed, and why."""

    service: str
    reason: Said


@dataclass(frozen=True, slots=True)
class CheckDocument:
    """`hooper check`.

    findings: where what is written or told of a line contradicts what was looked at. remarks: what this place cannot
    see. from: where the check was made from. results: one row a probe. skipped: what was not probed.
    """

    from_: From
    results: tuple[Result, ...]
    findings: tuple[Finding, ...] = ()
    skipped: tuple[Skipped, ...] = ()
    remarks: tuple[Said, ...] = ()


@dataclass(slots=True)
class Seen:
    """What one probe has gathered so far; a deadline may end it at any point."""

    verdict: Verdict = "silent"
    problems: list[str] = field(default_factory=list)
    detail: Said = NOTHING
    took_ms: int = 0
    fingerprint: str | None = None
    host_key: str | None = None  # of SSH, as OpenSSH writes it
    chain: tuple[bytes, ...] = ()  # certificates in DER, the server's own first
    greeting: str | None = None
    certificate: CertificateSeen | None = None
    tls_version: str | None = None
    page: PageSeen | None = None
    first_bytes: str | None = None
    icmp: IcmpSeen | None = None
    nobody: bool = False


class Hairpin(NamedTuple):
    """verdict: of the probe. same: what answered there is what is seen at the inner address; None: not compared."""

    verdict: Verdict
    same: bool | None


class Unfit(NamedTuple):
    """Why a place proves nothing. code: of the cause: asker-inside, or asker-no-way."""

    code: str
    words: Said
