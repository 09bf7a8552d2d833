"""The judgement of evidence: what was seen, and what it comes to. Pure."""

__all__ = ("identity", "observations", "worlds")
