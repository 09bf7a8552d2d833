"""Two numbers side by side, as people compare them by eye. A foundation: whoever has two such numbers shows them so."""

from __future__ import annotations

from dataclasses import dataclass

from hooper.words.said import Said


@dataclass(frozen=True, slots=True)
class Side:
    """One number of a comparison.

    value: null where it is not known; source: where it comes from. what: what the number is.
    """

    what: Said
    value: str | None
    source: Said


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two numbers that should be the same, and what it means that they are or are not.

    equal: null: not known. left: the one number. right: the other.
    """

    left: Side
    right: Side
    equal: bool | None
    meaning: Said
