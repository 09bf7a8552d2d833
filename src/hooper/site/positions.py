"""Where things stand in a TOML text (TOML 1.0), for error positions and for edits that change only what they mean.

`positions` reads texts that `tomllib` has already accepted, so it does no validation. `too_deep` reads any text,
since `tomllib` gives no position when it runs out of stack.
"""

from __future__ import annotations

import re
import tomllib
from bisect import bisect_right
from dataclasses import dataclass

from hooper.site.mistakes import DEPTH_LIMIT, Path

_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_SPACE = re.compile(r"[ \t]*")
_KEY = re.compile(r'"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'|[A-Za-z0-9_-]+')
KEYS = rf"(?:{_KEY.pattern})(?:[ \t]*\.[ \t]*(?:{_KEY.pattern}))*"  # one, or several with dots between
_STRING = re.compile(
    r'"""(?:[^\\]|\\.)*?"""(?:""|")?(?!")|\'\'\'.*?\'\'\'(?:\'\'|\')?(?!\')|"(?:[^"\\\n]|\\.)*"|\'[^\'\n]*\'', re.S
)
_BARE = re.compile(r"[^,\]\}#\r\n]*[^,\]\}#\r\n \t]")
_BRACKETS = re.compile(_STRING.pattern + r"|#[^\n]*|[\[\]{}]", re.S)


@dataclass(frozen=True, slots=True)
class Span:
    """Offsets in characters: where the key starts, where the value starts and ends. A table's value is its header."""

    key: int
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Pair:
    """One key = value. base: the path of the table that it stands in; start: of the key; value, end: of the value.

    inline: it stands inside the braces of another value.
    """

    path: Path
    base: Path
    start: int
    value: int
    end: int
    inline: bool


@dataclass(frozen=True, slots=True)
class Header:
    """One [table] or [[entry]]; the path of an entry ends in its index."""

    path: Path
    start: int
    end: int
    array: bool


@dataclass(frozen=True, slots=True)
class Layout:
    """All headers and pairs of a text, in its order."""

    headers: tuple[Header, ...]
    pairs: tuple[Pair, ...]


def layout(text: str) -> Layout:
    """How a text is built, for edits. The text has been accepted by tomllib."""
    scanner = _Scanner(text)
    scanner.run()
    return Layout(tuple(scanner.headers), tuple(sorted(scanner.pairs, key=lambda pair: pair.start)))


def comments(text: str, start: int = 0, end: int | None = None) -> list[str]:
    """The comments in a part of a text, as they stand."""
    part = text[start:end]
    return [match[0].rstrip("\r") for match in _BRACKETS.finditer(part) if match[0].startswith("#")]


def texts(text: str, start: int, end: int) -> list[tuple[int, int]]:
    """Where the texts in a part of a text stand, quotes included."""
    found = _BRACKETS.finditer(text, start, end)
    return [match.span() for match in found if match[0][0] in "\"'"]


def too_deep(text: str) -> int | None:
    """Offset of the first bracket or dotted key that nests deeper than DEPTH_LIMIT, or None."""
    depth = 0
    for match in _BRACKETS.finditer(text):
        if match[0] in ("[", "{"):
            depth += 1
            if depth > DEPTH_LIMIT:
                return match.start()
        elif match[0] in ("]", "}"):
            depth -= 1
    if all(line.count(".") < DEPTH_LIMIT for line in text.splitlines()):
        return None
    part = rf"(?:{_KEY.pattern})[ \t]*\.[ \t]*"
    blank = _STRING.sub(lambda match: "x" * len(match[0]), text)  # same length, no dots of its own
    long_key = re.search(f"(?:{part}){{{DEPTH_LIMIT}}}", blank)
    return long_key.start() if long_key else None


def positions(text: str) -> dict[Path, Span]:
    """Each path of the file with its span; list entries are paths that end in their index."""
    return _Scanner(text).run()


class LineIndex:
    """Line and column, both from 1, of offsets in one text."""

    def __init__(self, text: str) -> None:
        self._starts = [0, *(match.end() for match in re.finditer("\n", text))]

    def __call__(self, offset: int) -> tuple[int, int]:
        line = bisect_right(self._starts, offset)
        return line, offset - self._starts[line - 1] + 1


class _Scanner:
    def __init__(self, text: str) -> None:
        self.text = text
        self.found: dict[Path, Span] = {}
        self.headers: list[Header] = []
        self.pairs: list[Pair] = []
        self._nested = 0

    def run(self) -> dict[Path, Span]:
        text = self.text
        base: Path = ()
        counts: dict[Path, int] = {}
        at = self._after(_BLANK, 0)
        while at < len(text):
            if text[at] == "[":
                at, base = self._header(at, counts)
            else:
                at = self._pair(at, base)
            at = self._after(_BLANK, at)
        return self.found

    def _after(self, pattern: re.Pattern[str], at: int) -> int:
        match = pattern.match(self.text, at)
        return match.end() if match else at

    def _header(self, at: int, counts: dict[Path, int]) -> tuple[int, Path]:
        array = self.text.startswith("[[", at)
        parts, end = self._key(at + 1 + array)
        end += 1 + array
        base: Path = ()
        for index, (name, key_at) in enumerate(parts):
            base = (*base, name)
            last = index == len(parts) - 1
            if base in counts and not (array and last):
                base = (*base, counts[base] - 1)
            else:
                self.found.setdefault(base, Span(key_at, at, end))
        if array:
            counts[base] = counts.get(base, 0) + 1
            base = (*base, counts[base] - 1)
        self.found[base] = Span(parts[-1][1], at, end)
        self.headers.append(Header(base, at, end, array))
        return end, base

    def _key(self, at: int) -> tuple[list[tuple[str, int]], int]:
        parts: list[tuple[str, int]] = []
        while True:
            at = self._after(_SPACE, at)
            match = _KEY.match(self.text, at)
            assert match is not None, "tomllib has accepted this text"
            raw = match[0]
            parts.append((str(tomllib.loads("k=" + raw)["k"]) if raw[0] in "\"'" else raw, at))
            at = self._after(_SPACE, match.end())
            if self.text[at : at + 1] != ".":
                return parts, at
            at += 1

    def _pair(self, at: int, base: Path) -> int:
        begin = at
        parts, at = self._key(at)
        path = base
        for name, key_at in parts:
            path = (*path, name)
            self.found.setdefault(path, Span(key_at, key_at, key_at))
        start = self._after(_SPACE, at + 1)
        inline = self._nested > 0
        self._nested += 1
        end = self._value(start, path)
        self._nested -= 1
        self.found[path] = Span(parts[-1][1], start, end)
        self.pairs.append(Pair(path, base, begin, start, end, inline))
        return end

    def _value(self, at: int, path: Path) -> int:
        text = self.text
        if text[at] == "[":
            number, at = 0, self._after(_BLANK, at + 1)
            while text[at] != "]":
                end = self._value(at, (*path, number))
                self.found[(*path, number)] = Span(at, at, end)
                at = self._after(_BLANK, end)
                number += 1
                if text[at] == ",":
                    at = self._after(_BLANK, at + 1)
            return at + 1
        if text[at] == "{":
            at = self._after(_BLANK, at + 1)
            while text[at] != "}":
                at = self._after(_BLANK, self._pair(at, path))
                if text[at] == ",":
                    at = self._after(_BLANK, at + 1)
            return at + 1
        match = _STRING.match(text, at) or _BARE.match(text, at)
        assert match is not None, "tomllib has accepted this text"
        return match.end()
