"""What is proven, and why it is not so."""

__all__ = (
    "arrival", "brought", "card", "cert_look", "check", "drill", "gathering", "hotspot", "stand_in", "tunnel_proof",
    "until", "visit", "why",
)  # fmt: skip
