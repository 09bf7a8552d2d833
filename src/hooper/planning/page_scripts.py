"""The data that scripts of a page assign, as JSON or as scripts write it. Pure."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

MOST = 2_000  # objects or lists of one script
SCANNED, LONGEST = 3_000_000, 500_000  # letters that are gone through in all, and of one object


def data_in(words: str) -> Iterator[Any]:
    """Every list or object that a script assigns, as JSON or as scripts write it."""
    decoder, at, left = json.JSONDecoder(), 0, SCANNED
    for found in re.finditer(r"[=(:]\s*(?=[\[{])", words):
        if found.end() < at or left <= 0:
            continue
        try:
            data, at = decoder.raw_decode(words, found.end())
        except (ValueError, RecursionError):
            whole = _balanced(words, found.end(), min(left, LONGEST))
            left -= max(len(whole), 1) if whole else min(left, LONGEST, len(words) - found.end())
            try:
                data = json.loads(_as_json(whole))
            except (ValueError, RecursionError):
                continue
            at = found.end() + len(whole)
        yield data


def _balanced(words: str, start: int, most: int) -> str:
    """From a bracket to the one that ends it, if that is among the next `most` letters; else empty."""
    deep, quote, at = 0, "", start
    while at < min(len(words), start + most):
        sign = words[at]
        if quote:
            if sign == "\\":
                at += 1
            elif sign == quote:
                quote = ""
        elif sign in "\"'":
            quote = sign
        elif sign in "[{":
            deep += 1
        elif sign in "]}":
            deep -= 1
            if not deep:
                return words[start : at + 1]
        at += 1
    return ""


def _as_json(text: str) -> str:
    """An object as scripts write it: keys without quotes, single quotes, a comma before the end."""
    text = re.sub(r"'((?:[^'\\\n]|\\.)*)'", lambda found: json.dumps(found[1]), text)
    text = re.sub(r"([{,]\s*)([A-Za-z_$][\w$]*)\s*:", r'\1"\2":', text)
    return re.sub(r",(\s*[\]}])", r"\1", text)


def objects_in(data: Any) -> Iterator[Mapping[str, Any]]:
    waiting, count = [data], 0
    while waiting and count < MOST:
        one = waiting.pop(0)
        count += 1
        if isinstance(one, dict):
            yield one
            waiting += [value for value in one.values() if isinstance(value, list | dict)]
        elif isinstance(one, list):
            waiting += [value for value in one if isinstance(value, list | dict)]


def value_rows(data: Any) -> Iterator[list[Any]]:
    """Lists of plain values inside of a list."""
    waiting, count = [data], 0
    while waiting and count < MOST:
        one = waiting.pop(0)
        count += 1
        if isinstance(one, list):
            if one and all(isinstance(value, str | int | bool) for value in one):
                yield one
            waiting += [value for value in one if isinstance(value, list | dict)]
        elif isinstance(one, dict):
            waiting += [value for value in one.values() if isinstance(value, list | dict)]
