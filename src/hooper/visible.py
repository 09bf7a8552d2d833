"""Text that others wrote, as it may be shown: no sign in it moves a cursor, turns the direction, or ends a row. Pure.

Applied where text leaves the program, whatever it came by: a greeting, a label, a title, a file. A backslash and the
number of a sign stand in its place.
"""

from __future__ import annotations

import re

# C0, DEL and C1 (ISO 6429); signs without width; line and paragraph separators; those that turn the direction of
# writing (Unicode Standard Annex 9); marks of interlinear annotation and tags; halves of surrogate pairs
_HIDDEN = (
    "\x00-\x09\x0b-\x1f\x7f-\x9f\xad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u2028-\u202e"
    "\u2060-\u206f\u3164\ufeff\uffa0\ufff0-\ufffb\ud800-\udfff\U000e0000-\U000e0fff"
)
_CONTROLS = re.compile(f"[\n{_HIDDEN}]")
_CONTROLS_IN_LINES = re.compile(f"[{_HIDDEN}]")
_MARKDOWN = re.compile(r"[\\*\[\]<>|&]")
_HTML = {"<": "&lt;", ">": "&gt;", "&": "&amp;"}


class Lines(str):
    """Text of several lines that we composed ourselves: its line ends are meant."""

    __slots__ = ()


def shown(text: str) -> str:
    """`text` on one line, for a terminal: every sign that a terminal would act on is written out."""
    pattern = _CONTROLS_IN_LINES if isinstance(text, Lines) else _CONTROLS
    return pattern.sub(lambda match: _written(match[0]), text)


def shown_lines(text: str) -> str:
    """The same for text whose line ends are ours."""
    return _CONTROLS_IN_LINES.sub(lambda match: _written(match[0]), text)


def in_json(document: str) -> str:
    """A JSON text in which such signs are escaped (RFC 8259 section 7): its values stay what they are."""
    return _CONTROLS_IN_LINES.sub(lambda match: as_json(match[0]), document)


def in_markdown(text: str) -> str:
    """`text` as Markdown (CommonMark) that says just that: no link, no HTML, no cell's end."""
    return _MARKDOWN.sub(lambda match: _HTML.get(match[0]) or f"\\{match[0]}", shown(text))


def is_plain(text: str) -> bool:
    """Whether nothing in `text` has to be written out."""
    return _CONTROLS.search(text) is None


def _written(sign: str) -> str:
    number = ord(sign)
    return f"\\x{number:02x}" if number < 0x100 else f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


def as_json(sign: str) -> str:
    """One sign as JSON escapes it."""
    number = ord(sign)
    if number < 0x10000:
        return f"\\u{number:04x}"
    number -= 0x10000
    return f"\\u{0xD800 + (number >> 10):04x}\\u{0xDC00 + (number & 0x3FF):04x}"
