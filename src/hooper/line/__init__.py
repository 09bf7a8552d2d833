"""What a line is: measurements, the public address, the situation, neighbours."""

__all__ = (
    "announced", "facts", "first_look", "foreign", "gather", "judging", "kinds", "lookup", "measure", "neighbours",
    "public", "public6", "situation", "sources", "surveyed",
)  # fmt: skip
