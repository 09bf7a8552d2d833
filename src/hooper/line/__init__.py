"""What a line is: measurements, the public address, the situation, neighbours."""

__all__ = (
    "facts", "first_look", "gather", "judging", "lookup", "measure", "neighbours", "public", "public6", "situation",
    "sources", "surveyed",
)  # fmt: skip
