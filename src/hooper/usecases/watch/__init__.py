"""How everything stands over time, and who is told."""

__all__ = (
    "ahead", "condition_kinds", "conditions", "history", "keeplines", "noticing", "reporting", "status", "watching",
    "witnesses",
)  # fmt: skip
