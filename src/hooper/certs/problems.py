"""What can be wrong with a certificate. Pure."""

from __future__ import annotations

EXPIRED, NOT_YET, OTHER_NAME = "certificate-expired", "certificate-not-yet-valid", "certificate-other-name"
UNTRUSTED, ABSENT = "certificate-untrusted", "certificate-absent"
REVOKED, ROOT_ENDED = "certificate-revoked", "root-ended"
TELLS = (  # by which a look tells of them
    "certificate-self-made", "certificate-expired", "certificate-begins", "certificate-for", "certificate-untrusted",
    "certificate-was-revoked", "certificate-root-ended",
)  # fmt: skip
CODES = (ABSENT, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED, REVOKED, ROOT_ENDED)
