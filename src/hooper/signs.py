"""The signs that stand beside words, and the words that stand in their place where an encoding lacks them. Pure."""

from __future__ import annotations

import codecs

WORDS = {
    "✓": "ok", "✗": "FAILED", "≠": "!=", "→": "->", "–": "-", "—": "--", "…": "...", "─": "-", "│": "|",
    "├": "|", "└": "`", "☐": "[ ]", "☑": "[x]", "⛔": "[!]", "✎": "[ ]", "⟦": "[", "⟧": "]", "“": '"', "”": '"',
    "’": "'", "·": "-", "\u00a0": " ",
}  # fmt: skip
HANDLER = "hooper-words"


def can_write(sign: str, encoding: str | None) -> bool:
    """Whether `encoding` has the sign; an unknown encoding has none beyond ASCII."""
    try:
        sign.encode(encoding or "ascii")
    except (UnicodeEncodeError, LookupError):
        return False
    return True


def worded(text: str, encoding: str | None) -> str:
    """`text` with words for the signs that `encoding` lacks."""
    if text.isascii():
        return text
    return "".join(WORDS[sign] if sign in WORDS and not can_write(sign, encoding) else sign for sign in text)


def _in_words(error: UnicodeError) -> tuple[str, int]:
    """What an output writes in place of what its encoding lacks: words, or a backslash and the sign's number."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    lost = error.object[error.start : error.end]
    return "".join(WORDS.get(sign) or _numbered(sign) for sign in lost), error.end


def _numbered(sign: str) -> str:
    number = ord(sign)
    return f"\\u{number:04x}" if number < 0x10000 else f"\\U{number:08x}"


codecs.register_error(HANDLER, _in_words)
