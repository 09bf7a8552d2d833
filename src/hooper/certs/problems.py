"""What can be wrong with a certificate, and which service is to show which. Pure."""

from __future__ import annotations

from hooper.site.model import Site

EXPIRED, NOT_YET, OTHER_NAME = "certificate-expired", "certificate-not-yet-valid", "certificate-other-name"
UNTRUSTED, ABSENT = "certificate-untrusted", "certificate-absent"
TELLS = (  # by which a look tells of them
    "certificate-self-made", "certificate-expired", "certificate-begins", "certificate-for", "certificate-untrusted",
)  # fmt: skip
CODES = (ABSENT, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED)


def planned_for(site: Site, service: str) -> str | None:
    """The certificate that the site file has for a service; None: it has none."""
    return next((key for key, entry in site.certificates.items() if service in entry.services), None)
