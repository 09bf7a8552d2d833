"""Proof: probes, where they are made from, and what their answers mean."""
