"""What the certificate commands say. The field names are those of the JSON contract."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.words.said import Said

State = Literal["absent", "current", "due", "expired", "revoked", "ordered", "watched", "unknown", "failed"]


@dataclass(frozen=True, slots=True)
class ProofRow:
    """How control of a name is, or was, proven. name: which. challenge: its kind. why: that one was taken."""

    name: str
    challenge: str
    why: Said


@dataclass(frozen=True, slots=True)
class CertificateRow:
    """One certificate of the site file.

    state: absent: there is none yet; current; due: expires soon; expired; revoked; ordered: just now; watched: the
    device keeps it itself; unknown: it could not be seen; failed. names: as planned. not_before, not_after: RFC 3339.
    days_left: in whole days. chain, key: the files, where Hooper keeps it. ok: it is valid and for all its names.
    certificate: its key in the site file. authority: who issues it, by its key. proofs: how names were, or would be,
    proven.
    """

    certificate: str
    names: tuple[str, ...]
    authority: str
    services: tuple[str, ...]
    state: State
    issuer: str | None
    not_before: str | None
    not_after: str | None
    days_left: int | None
    chain: str | None
    key: str | None
    ok: bool
    detail: Said
    proofs: tuple[ProofRow, ...] = ()


@dataclass(frozen=True, slots=True)
class EarlierRow:
    """A generation that was kept before.

    certificate: its key in the site file. generation: the start of its SHA-256 fingerprint. names: that it is for.
    not_after: RFC 3339.
    """

    certificate: str
    generation: str
    names: tuple[str, ...]
    issuer: str
    not_after: str


@dataclass(frozen=True, slots=True)
class OwnAuthorityDocument:
    """`hooper authority make`. authority: by its key. subject: of its root. file: where that is. signs: what it may.

    fingerprint: of the root; null: nothing was made. not_after: RFC 3339. dry_run: nothing was made.
    """

    authority: str
    subject: str
    file: str
    signs: tuple[str, ...]
    fingerprint: str | None
    not_after: str | None
    dry_run: bool


@dataclass(frozen=True, slots=True)
class TrustStep:
    """How one system takes a root. system: which. lines: what to do, one after the other."""

    system: str
    lines: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class TrustDocument:
    """`hooper cert trust`. authority: by its key. subject: of its root. file: of the root. fingerprint: of the root.

    not_after: RFC 3339. signs: what it may vouch for; empty: anything. warning: what is given away by trusting it.
    steps: for each system. page: where a page for phones is, or was, shown; null: it was not.
    """

    authority: str
    subject: str
    file: str
    fingerprint: str
    not_after: str
    signs: tuple[str, ...]
    warning: Said
    steps: tuple[TrustStep, ...]
    page: str | None


@dataclass(frozen=True, slots=True)
class ShownRow:
    """What one service shows. place: inside, or the place outside from which it was looked at. fingerprint: of what it
    shows; null: nothing. state: shown: the new one; another; none.
    """

    service: str
    place: str
    fingerprint: str | None
    state: Literal["shown", "another", "none"]


@dataclass(frozen=True, slots=True)
class GivenRow:
    """What came of one certificate.

    certificate: its key in the site file. outcome: shown: given, and a service shows it; already: it was given before;
    put-back: it was not shown, and the former one is given again; not-shown: the same, and there is no former one;
    not-seen: given, and no service could be looked at; given: to somebody, without a service; failed; nowhere: the site
    file names nobody. services: what each shows.
    """

    certificate: str
    outcome: Literal["shown", "already", "put-back", "not-shown", "not-seen", "given", "failed", "nowhere"]
    services: tuple[ShownRow, ...]
    detail: Said


@dataclass(frozen=True, slots=True)
class GivenDocument:
    """`hooper cert give`. certificates: one row each."""

    certificates: tuple[GivenRow, ...]


@dataclass(frozen=True, slots=True)
class BundleDocument:
    """`hooper cert bundle`. certificate: by its key. form: of the files. files: where they were written.

    steps: what to press on the page of each device that shows it, one after the other.
    """

    certificate: str
    form: str
    files: tuple[str, ...]
    steps: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class NewKeyDocument:
    """`hooper cert new-key`. authority: by its key. changed: the authority knows the account by the new key."""

    authority: str
    changed: bool


@dataclass(frozen=True, slots=True)
class CertificatesDocument:
    """`hooper cert list`, `hooper cert order` and `hooper cert restore`. certificates: one row each.

    earlier: the generations that were kept before, where they were asked for.
    """

    certificates: tuple[CertificateRow, ...]
    earlier: tuple[EarlierRow, ...] = ()
