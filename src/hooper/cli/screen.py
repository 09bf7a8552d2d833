"""The console that all commands draw on: it breaks no value, loses no sign, and pads no line."""

from __future__ import annotations

import errno
from collections.abc import Iterator
from typing import Any

from rich.console import Console
from rich.segment import Segment
from rich.text import Text

from hooper import signs
from hooper.folding import hanging, lines_within
from hooper.visible import shown_lines

ENDLESS = 100_000  # columns of an output that is no terminal


class Screen(Console):
    """As wide as the terminal; an output that is none, and plain text, have lines without end."""

    def __init__(self, *, stderr: bool = False, plain: bool = False) -> None:
        super().__init__(
            stderr=stderr, highlight=False, markup=False, emoji=False, soft_wrap=False, no_color=plain or None
        )
        self.plain = plain
        self.endless = plain or not self.is_terminal
        if self.endless:
            self.width = ENDLESS

    def worded(self, text: str | Text) -> Text:
        """A text with words for the signs that this output cannot show, or all of them in plain text."""
        whole = text if isinstance(text, Text) else Text(text)
        encoding = "ascii" if self.plain else self.encoding
        if signs.worded(whole.plain, encoding) == whole.plain:
            return whole
        out = Text()
        for piece in whole.divide(range(1, len(whole.plain))):
            word = signs.worded(piece.plain, encoding)
            styles = [span.style for span in piece.spans]
            out.append_text(piece if word == piece.plain else Text(word, style=styles[-1] if styles else ""))
        out.style = whole.style
        return out

    def print(self, *objects: Any, hang: int | None = None, style: Any = None, **more: Any) -> None:
        """As Console, but a text is a paragraph: folded between words, its further lines `hang` columns in.

        hang: left out, they are in as far as the first.
        """
        if len(objects) != 1 or not isinstance(objects[0], str | Text):
            super().print(*objects, style=style, **{"crop": False, **more})
            return
        whole = self.worded(objects[0])
        for text in whole.split("\n", allow_blank=True):
            inner = len(text.plain) - len(text.plain.lstrip(" "))
            left = hanging(text.plain, self.width, inner if hang is None else hang)
            for number, (start, end) in enumerate(lines_within(text.plain, self.width - left, self.width)):
                piece = Text(" " * left if number else "").append_text(text[start:end])
                super().print(piece, style=style, soft_wrap=True)

    @property
    def encoding(self) -> str:
        """Of the stream that is written to; Rich takes one that it was not given for UTF-8."""
        return (getattr(self.file, "encoding", None) or "ascii").lower()

    def as_it_is(self, text: Text) -> None:
        """One line whose spaces count."""
        super().print(text, soft_wrap=True)

    def render(self, renderable: Any, options: Any = None) -> Iterator[Segment]:
        """The last net: whatever a text came by, a terminal acts on nothing in it."""
        for segment in super().render(renderable, options):
            clean = segment.text if segment.control else shown_lines(segment.text)
            yield segment if clean == segment.text else Segment(clean, segment.style)

    def on_broken_pipe(self) -> None:
        """Rich would leave by SystemExit, which tears an event loop apart; this is an error like any other."""
        raise BrokenPipeError(errno.EPIPE, "the reader of the output is gone")
