"""Keys that a person named, and what a mistyped one was meant to be."""

from __future__ import annotations

from collections.abc import Iterable

from hooper.errors import UsageError


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """The one of `known` that `word` was perhaps meant to be, in a list; empty: none is near."""
    from difflib import get_close_matches

    return get_close_matches(word, list(known), 1)


def chosen(wanted: Iterable[str], known: Iterable[str], kind: str) -> tuple[str, ...]:
    """The keys in `wanted`, checked. Raises: UsageError: one is not known, with the nearest that is."""
    all_known, out = list(known), []
    for key in wanted:
        if key not in all_known:
            near = nearest(key, all_known)
            hint = f"Did you mean {near[0]!r}? " if near else ""
            raise UsageError(
                f"there is no {kind} {key!r}", remedy=f"{hint}There are: {', '.join(all_known) or 'none'}."
            )
        out.append(key)
    return tuple(dict.fromkeys(out))
