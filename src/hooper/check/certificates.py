"""Certificates held against the plan: which service is to show one, whom to trust, and what is wrong in words."""

from __future__ import annotations

import hashlib
import warnings
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.certs.inspect import fingerprint_of, judge, load_chain, names_of, well_known_roots
from hooper.certs.problems import ABSENT, EXPIRED, NOT_YET, OTHER_NAME, REVOKED, ROOT_ENDED, UNTRUSTED
from hooper.certs.site_roots import own_roots, roots_beside
from hooper.check.handshake_keys import StandInKey
from hooper.check.redirects import redirected
from hooper.check.results import CertificateSeen, Seen
from hooper.check.typed_names import MISSING
from hooper.clock import rfc3339
from hooper.site.references import planned_for
from hooper.words.said import Said, quoted, say

if TYPE_CHECKING:
    from cryptography import x509

    from hooper.check.results import Seen
    from hooper.check.targets import Target
    from hooper.site.model import Site

WARNINGS = {  # what a browser has against a certificate, in a few words
    EXPIRED: say("warns-ended"),
    NOT_YET: say("warns-early"),
    OTHER_NAME: say("warns-other-name"),
    ABSENT: say("warns-self-made"),
    UNTRUSTED: say("warns-unknown"),
}


@dataclass(frozen=True)
class Judge:
    """base: the site file's folder, where the authorities' own roots stand. revoked: fingerprints of what was."""

    site: Site
    base: Path
    revoked: frozenset[str] = frozenset()

    @cached_property
    def _usual_roots(self) -> list[x509.Certificate]:
        return well_known_roots()

    @cached_property
    def _roots(self) -> list[x509.Certificate]:
        """Well-known roots, and those of the site's own authorities."""
        return [*self._usual_roots, *roots_beside(self.site, self.base)]

    def problems(self, service: str, name: str | None, chain: Sequence[bytes], now: datetime) -> list[tuple[str, Said]]:
        """What is wrong with the certificate that a service shows: codes, each with its words. now: in UTC."""
        shown = load_chain(chain[:12])
        if not shown:
            return []
        key = planned_for(self.site, service)
        if key is not None and name is None:
            name = self.site.certificates[key].names[0]
        found = judge(shown, name, self._roots if key is not None else [], now, planned=key is not None)
        leaf = shown[0]
        words = {
            ABSENT: say("certificate-self-made", certificate=key),
            EXPIRED: say("certificate-expired", ended=leaf.not_valid_after_utc),
            NOT_YET: say("certificate-begins", begins=leaf.not_valid_before_utc),
            OTHER_NAME: say("certificate-for", names=names_of(leaf)[:3], name=name),
            UNTRUSTED: say("certificate-untrusted"),
        }
        problems = list(found.problems)
        ended = self._root_ended(key, now) if UNTRUSTED in problems else None
        if ended is not None:
            problems[problems.index(UNTRUSTED)] = ROOT_ENDED
            words[ROOT_ENDED] = say("certificate-root-ended", ended=ended)
        if fingerprint_of(leaf) in self.revoked:
            problems.append(REVOKED)
            words[REVOKED] = say("certificate-was-revoked")
        return [(code, words[code]) for code in problems]

    def _root_ended(self, certificate: str | None, now: datetime) -> datetime | None:
        """When the root of the site's own authority ended that is to vouch for a certificate; None: it has not."""
        by = self.site.certificates[certificate].authority if certificate is not None else ""
        root = own_roots(self.site, self.base).get(by)
        return root.not_valid_after_utc if root is not None and root.not_valid_after_utc < now else None

    def browsers_warn(self, service: str, name: str | None, chain: Sequence[bytes], now: datetime) -> Said | None:
        """Why a browser that knows the usual authorities alone warns of a certificate that nobody has planned; None: it
        does not, or the certificate is planned, and `problems` says more.

        name: as it is typed. now: in UTC.
        """
        shown = load_chain(chain[:12])
        if not shown or planned_for(self.site, service) is not None:
            return None
        found = judge(shown, name, self._usual_roots, now, planned=True).problems
        return next((words for code, words in WARNINGS.items() if code in found), None)

    def hold(self, target: Target, seen: Seen, now: datetime) -> None:
        """Put in what is wrong with the certificate and the redirection that were seen."""
        if seen.verdict != "answered" or isinstance(target.keys, StandInKey):
            return
        found: list[tuple[str, Said]] = []
        if target.wrong is None or target.wrong[0] == MISSING:
            found = self.problems(target.service, target.server_name, seen.chain, now)
        if seen.certificate is not None and target.speaks == "https":
            said = self.browsers_warn(target.service, target.server_name or str(target.address), seen.chain, now)
            seen.certificate = replace(seen.certificate, browsers_warn=said)
        if seen.page is not None and seen.page.location is not None and target.expected == "reachable":
            found += redirected(target, seen.page.location)
        for code, words in found:
            seen.problems.append(code)
            seen.detail += quoted("; ") + words


def note_chain(seen: Seen, chain: tuple[bytes, ...]) -> None:
    """Write down the certificate that a server has shown. chain: in DER, its own first."""
    if chain:
        seen.fingerprint = "sha256:" + hashlib.sha256(chain[0]).hexdigest()
        seen.certificate = read_certificate(chain[0])


def read_certificate(der: bytes) -> CertificateSeen | None:
    """What a certificate says of itself (RFC 5280); None: it cannot be read."""
    from cryptography import x509

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # what is odd about it is judged elsewhere
            certificate = x509.load_der_x509_certificate(der)
        try:
            shown = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            names = [
                *shown.get_values_for_type(x509.DNSName),
                *(str(address) for address in shown.get_values_for_type(x509.IPAddress)),
            ]
        except x509.ExtensionNotFound:
            names = []
        return CertificateSeen(
            certificate.subject.rfc4514_string(),
            tuple(names),
            certificate.issuer.rfc4514_string(),
            rfc3339(certificate.not_valid_before_utc),
            rfc3339(certificate.not_valid_after_utc),
        )
    except Exception:  # devices make certificates that no standard allows; the library fails on them in many ways
        return None
