"""Guessing what a mistyped word was meant to be."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """The one of `known` that `word` was perhaps meant to be, in a list; empty: none is near."""
    from difflib import get_close_matches

    return get_close_matches(word, list(known), 1)
