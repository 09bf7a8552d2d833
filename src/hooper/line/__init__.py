"""What a line is: measurements, the public address, the situation, neighbours."""

__all__ = (
    "announced", "facts", "first_look", "foreign", "gather", "judging", "kinds", "lookup", "measure", "nat",
    "neighbours", "public", "public6", "right_time", "situation", "sources", "surveyed",
)  # fmt: skip
