"""Keys that a person named, and what a mistyped one was meant to be."""

from __future__ import annotations

from collections.abc import Iterable

from hooper.errors import UsageError

ENOUGH, SHOWN = 4, 12  # letters that tell what was meant; names in a row


def not_known(value: object, choices: Iterable[str]) -> str:
    """The words for a value that is none of those that there are."""
    near = nearest(str(value), choices)
    hint = f"did you mean {near[0]!r}? " if near else ""
    return f"{value!r} is not known; {hint}allowed: {', '.join(choices)}"


def nearest(word: str, known: Iterable[str]) -> list[str]:
    """The one of `known` that `word` was perhaps meant to be, in a list; empty: none is near.

    One that it begins with, or that begins with it, if it is long enough to tell; else what a few slips lead to.
    """
    there, typed = list(known), word.lower()
    begun = [one for one in there if typed.startswith(one.lower()) and len(one) >= ENOUGH]
    if begun:
        return [max(begun, key=len)]
    distances = {one: _distance(typed, one.lower()) for one in there if abs(len(one) - len(word)) <= 4}
    near = min(distances, key=lambda one: distances[one], default=None)
    if near is not None and distances[near] <= max(1, len(word) // 3):
        return [near]
    longer = [one for one in there if one.lower().startswith(typed) and len(typed) >= ENOUGH]
    return [min(longer, key=len)] if longer else []


def there_are(known: Iterable[str]) -> str:
    """What there is to choose from, the end of a remedy; of many the first."""
    names = list(known)
    more = f" and {len(names) - SHOWN} more" if len(names) > SHOWN + 1 else ""
    return f"There are: {', '.join(names[:SHOWN] if more else names)}{more}." if names else "There is none yet."


def _distance(one: str, other: str) -> int:
    """How many letters are changed, added, missing, or have changed places with their neighbour."""
    before: list[int] = []
    rows = list(range(len(other) + 1))
    for i, a in enumerate(one, 1):
        row = [i]
        for j, b in enumerate(other, 1):
            cost = min(rows[j] + 1, row[j - 1] + 1, rows[j - 1] + (a != b))
            if i > 1 and j > 1 and a == other[j - 2] and one[i - 2] == b:
                cost = min(cost, before[j - 2] + 1)
            row.append(cost)
        before, rows = rows, row
    return rows[-1]


def guess(word: str, known: Iterable[str]) -> str:
    """What was perhaps meant, as the start of a remedy; empty: nothing is near."""
    near = nearest(word, known)
    return f"Did you mean {near[0]!r}? " if near else ""


def chosen(wanted: Iterable[str], known: Iterable[str], kind: str) -> tuple[str, ...]:
    """The keys in `wanted`, checked. Raises: UsageError: one is not known, with the nearest that is."""
    all_known, out = list(known), []
    for key in wanted:
        if key not in all_known:
            remedy = f"{guess(key, all_known)}{there_are(all_known)}"
            raise UsageError(f"there is no {kind} {key!r}", remedy=remedy)
        out.append(key)
    return tuple(dict.fromkeys(out))
