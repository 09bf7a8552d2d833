"""Does it answer: probes, targets, where they are made from, inside against outside."""

__all__ = (
    "addressing", "between", "browser_visit", "certificates", "checking", "comparing", "delays", "greetings", "hairpin",
    "handshake_keys", "origin", "pictures", "probes", "results", "stand_in", "targets", "tunnel_proof", "typed_names",
    "view", "wish",
)  # fmt: skip
