"""Certificates: ordering by ACME, inspection, safe storage."""

__all__ = (
    "bundles", "challenges", "client_words", "documents", "file_places", "inspect", "issuing", "order", "own_authority",
    "problems", "revocation", "site_roots", "store",
)  # fmt: skip
