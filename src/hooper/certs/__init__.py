"""Certificates: ordering by ACME, inspection, safe storage."""

__all__ = ("challenges", "documents", "giving", "inspect", "order", "problems", "proof_ways", "store")
