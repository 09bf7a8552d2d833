"""Certificates: ordering by ACME, inspection, safe storage."""

__all__ = (
    "bundles", "challenges", "client_words", "documents", "giving", "inspect", "order", "problems", "proof_ways",
    "revocation", "store",
)  # fmt: skip
