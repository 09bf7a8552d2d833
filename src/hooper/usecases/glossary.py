"""What the fields of documents mean: words that mean the same everywhere, and what a class says of its own fields."""

from __future__ import annotations

import re
from collections.abc import Iterable

from hooper.words.data import data

SHARED: dict[str, str] = data("fields")


def field_texts(documentation: str, fields: Iterable[str]) -> tuple[str, dict[str, str]]:
    """A class's summary and the text of each field that its docstring explains.

    documentation: sentences, then `field: text.` for one field or `field, field: text.` for several.
    """
    names = sorted(fields, key=len, reverse=True)
    texts: dict[str, str] = {}
    whole = " ".join(documentation.split())
    if not names:
        return whole, texts
    either = "|".join(map(re.escape, names))
    marks = list(re.finditer(rf"(?:^|(?<=[.;:?!] ))((?:{either})(?:, (?:{either}))*): ", whole))
    ends = [*(mark.start() for mark in marks[1:]), len(whole)]
    for mark, end in zip(marks, ends, strict=False):
        text = whole[mark.end() : end].rstrip(" ;.")
        texts |= {name: f"{text[:1].upper()}{text[1:]}." for name in mark[1].split(", ")}
    return whole[: marks[0].start() if marks else None].rstrip(), texts
