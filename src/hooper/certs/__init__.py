"""Certificates: ordering by ACME, inspection, safe storage."""
