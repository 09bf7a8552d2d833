"""Where a line of text may end: between words, never inside a value or a command. Pure."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator

# A command between backticks and a transport with its port keep their spaces.
_PIECE = re.compile(r"(?:`[^`\n]*`|(?<!\w)(?:tcp|udp|both|TCP|UDP|port|ports) \d|\S)+")


def width_of(text: str) -> int:
    """The columns of a terminal that `text` takes (Unicode Standard Annex 11)."""
    if text.isascii():
        return len(text)
    return sum(2 if unicodedata.east_asian_width(sign) in "WF" else not unicodedata.combining(sign) for sign in text)


def longest_piece(text: str) -> int:
    """The columns of the longest part of `text` that is never broken."""
    return max((width_of(match[0]) for match in _PIECE.finditer(text)), default=0)


def lines_within(text: str, width: int, first: int | None = None) -> Iterator[tuple[int, int]]:
    """Start and end of each line of `text` that is folded to `width` columns; what is longer has a line of its own.

    first: the columns of the first line, where they are others.
    """
    left = width if first is None else first
    start = end = 0
    for match in _PIECE.finditer(text):
        if end > start and width_of(text[start : match.end()]) > left:
            yield start, end
            start, left = match.start(), width
        elif end == 0:
            start = 0
        end = match.end()
    yield start, end


def folded(text: str, width: int, *, start: str = "", hang: int = 0) -> list[str]:
    """The lines of one paragraph. start: stands before the first line; hang: how far in the others are."""
    whole = start + text
    hang = hanging(whole, width, hang)
    spans = lines_within(whole, width - hang, width)
    return [" " * (hang if number else 0) + whole[a:b] for number, (a, b) in enumerate(spans)]


def hanging(text: str, width: int, hang: int) -> int:
    """How far in the further lines of a text may be, so that its longest part still fits."""
    return min(hang, max(width // 3, 4), max(width - max(longest_piece(text), 16), 0))


def folded_lines(text: str, width: int | None) -> str:
    """A text of several lines, each folded below its own first word. width: in columns; None: without end."""
    if width is None:
        return text
    out = []
    for line in text.split("\n"):
        inner = line.lstrip(" ")
        left = len(line) - len(inner)
        out += folded(inner, width, start=" " * left, hang=left)
    return "\n".join(out)
