"""Certificates: ordering by ACME, inspection, safe storage."""

__all__ = ("documents", "giving", "inspect", "order", "problems", "store")
