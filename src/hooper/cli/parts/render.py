"""Drawing: paragraphs, tables, findings, the same way in every command. No value is ever broken; prose folds."""

from __future__ import annotations

import errno
import os
import re
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from rich.console import Console
from rich.segment import Segment
from rich.text import Text
from rich.theme import Theme

from hooper import signs
from hooper.folding import hanging, lines_within, longest_piece, width_of
from hooper.store.preferences import preferences
from hooper.visible import shown_lines

if TYPE_CHECKING:
    from rich.console import ConsoleOptions, RenderResult

    from hooper.planning.values import Finding
    from hooper.words.said import Said

STYLES = {  # of the palette that every terminal shows alike, read on light grounds and on dark ones
    "well": "color(28)",
    "wrong": "bold color(161)",
    "doubtful": "color(130)",
    "told": "color(27)",
    "faint": "color(243)",
}
SEVERITY_STYLE = {"error": "wrong", "warning": "doubtful", "note": "told"}
GAP = 2  # columns between those of a table; 1 where it fits only so
NARROW = 24  # columns that prose in a table has at least, where it is that long


class Column(NamedTuple):
    """name: empty for signs. right: numbers, which end below each other. prose: may be folded."""

    name: str
    right: bool = False
    prose: bool = False


class Grid:
    """A table without a frame, each row a record of its own where the table does not fit.

    A cell's lines are values that are never broken; only prose is folded. The first named column tells what a row is
    about.
    """

    def __init__(self, columns: Sequence[Column], *, header: bool = True) -> None:
        self.columns, self.header = tuple(columns), header
        self.rows: list[tuple[Text, ...]] = []

    def add_row(self, *cells: str | Said | Text) -> None:
        assert len(cells) == len(self.columns)
        self.rows.append(tuple(cell if isinstance(cell, Text) else Text(str(cell)) for cell in cells))

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        screen: Screen = console  # type: ignore[assignment]
        rows = [tuple(screen.worded(cell) for cell in row) for row in self.rows]
        if screen.plain:
            lines = self._facts(rows)
        else:
            room = options.max_width
            fitting = ((gap, widths) for gap in (GAP, 1) if (widths := self._widths(rows, room, gap)) is not None)
            gap, found = next(fitting, (0, None))
            lines = self._table(rows, found, gap, screen) if found is not None else self._records(rows, room)
        for line in lines:
            line.rstrip()
            yield from line.render(console)
            yield Segment.line()

    def _widths(self, rows: Sequence[tuple[Text, ...]], room: int, gap: int) -> list[int] | None:
        """The columns' widths; None: it does not fit."""
        room -= gap * (len(self.columns) - 1)
        names = [column.name if self.header else "" for column in self.columns]
        whole, folded_names = list(map(width_of, names)), list(map(longest_piece, names))
        for heads, narrow in ((whole, NARROW), (folded_names, NARROW), (folded_names, NARROW // 2)):
            widths = [max([head, *(_widest(row[n]) for row in rows)]) for n, head in enumerate(heads)]
            least = list(widths)
            for n, column in enumerate(self.columns):
                if column.prose:
                    pieces = (longest_piece(row[n].plain) for row in rows)
                    least[n] = max([heads[n], min(widths[n], narrow), *pieces])
            if sum(least) > room:
                continue
            over = sum(widths) - room
            for n in range(len(widths) - 1, -1, -1):
                less = max(0, min(over, widths[n] - least[n]))
                widths[n], over = widths[n] - less, over - less
            return widths
        return None

    def _table(self, rows: Sequence[tuple[Text, ...]], widths: list[int], gap: int, screen: Screen) -> Iterator[Text]:
        if self.header and any(column.name for column in self.columns):
            names = tuple(Text(column.name, style="bold") for column in self.columns)
            yield from self._row(names, widths, gap, head=True)
            yield screen.worded(Text("─" * (sum(widths) + gap * (len(widths) - 1)), style="faint"))
        for row in rows:
            yield from self._row(row, widths, gap)

    def _row(self, cells: tuple[Text, ...], widths: list[int], gap: int, *, head: bool = False) -> Iterator[Text]:
        parts = [
            folded(cell, width) if head or column.prose else cell.split("\n")
            for cell, width, column in zip(cells, widths, self.columns, strict=True)
        ]
        for number in range(max(map(len, parts))):
            line = Text()
            for lines, width, column in zip(parts, widths, self.columns, strict=True):
                piece = lines[number] if number < len(lines) else Text()
                space = " " * (width - width_of(piece.plain))
                line.append(space if column.right else "").append_text(piece).append("" if column.right else space)
                line.append(" " * gap)
            yield line

    def _records(self, rows: Sequence[tuple[Text, ...]], room: int) -> Iterator[Text]:
        subject = self._subject
        label = max((len(column.name) for column in self.columns[subject + 1 :]), default=0)
        for number, row in enumerate(rows):
            if number:
                yield Text()
            title = Text(" ").join(cell for cell in row[: subject + 1] if cell.plain)
            title.stylize("bold")
            yield from title.split("\n")
            for column, cell in zip(self.columns[subject + 1 :], row[subject + 1 :], strict=True):
                if cell.plain:
                    yield from _field(column, cell, label, room)

    def _facts(self, rows: Sequence[tuple[Text, ...]]) -> Iterator[Text]:
        """One fact a line: what it is about, which fact, its value."""
        subject = self._subject
        for row in rows:
            about = ", ".join(row[subject].plain.split("\n"))
            told = any(column.name == "state" for column in self.columns)
            for number, (column, cell) in enumerate(zip(self.columns, row, strict=True)):
                name = column.name.strip() or ("state" if number < subject else "")
                words = ", ".join(cell.plain.split("\n"))
                if number != subject and words not in ("", "-") and not (told and not column.name):
                    yield Text(f"{about}: {f'{name}: ' if name else ''}{words}")
            if sum(bool(cell.plain) for cell in row) == 1:
                yield Text(about)

    @property
    def _subject(self) -> int:
        return next((n for n, column in enumerate(self.columns) if column.name.strip()), 0)


def _field(column: Column, cell: Text, label: int, room: int) -> Iterator[Text]:
    """One field of a record: its value beside its name, or below it where it would not fit. label: of the names."""
    left = label + 5
    lines = folded(cell, max(room - left, 1)) if column.prose else list(cell.split("\n"))
    names = [f"   {column.name}", *[""] * (len(lines) - 1)]
    if any(width_of(line.plain) > room - left for line in lines):
        left = 6
        yield Text(f"   {column.name}", style="faint")
        lines = folded(cell, max(room - left, 1)) if column.prose else lines
        names = [""] * len(lines)
    for name, line in zip(names, lines, strict=True):
        before = max(min(left, room - width_of(line.plain)), 0)
        yield Text.assemble((f"{name:<{before}}", "faint"), line)


def _widest(cell: Text) -> int:
    return max((width_of(line) for line in cell.plain.split("\n")), default=0)


def folded(text: Text, width: int) -> list[Text]:
    """The lines of a text, each of its own lines folded to `width` columns, with its styles."""
    out: list[Text] = []
    for line in text.split("\n", allow_blank=True):
        out += [line[start:end] for start, end in lines_within(line.plain, width)]
    return out


def table(*columns: str, right: Sequence[str] = (), prose: Sequence[str] = (), header: bool = True) -> Grid:
    """A table by its columns' names. right: columns of numbers. prose: columns that may be folded."""
    return Grid([Column(name, name in right, name in prose) for name in columns], header=header)


def line(out: Screen, *parts: str | Said | tuple[str | Said, str] | Text, hang: int = 0) -> None:
    """One paragraph of styled parts, folded to the output's width, its further lines `hang` columns in."""
    out.print(Text.assemble(*map(_part, parts)), hang=hang)


def _part(part: str | Said | tuple[str | Said, str] | Text) -> str | tuple[str, str] | Text:
    if isinstance(part, tuple):
        return str(part[0]), part[1]
    return part if isinstance(part, str | Text) else str(part)


def heading(out: Screen, text: str) -> None:
    """A line that starts a part of the output."""
    line(out, (text, "bold"))


def findings(out: Screen, found: Iterable[Finding]) -> None:
    """Each finding: severity and subject, what it is, what to do. Those that say the same are told once."""
    alike: dict[tuple[str, str, str, str], list[str]] = {}
    for item in found:
        alike.setdefault((item.severity, item.code, str(item.message), str(item.remedy)), []).append(item.subject)
    for (severity, code, message, remedy), subjects in alike.items():
        label = (f"{severity:<8}", SEVERITY_STYLE[severity])
        line(out, label, (", ".join(subjects), "bold"), (f"  {code}", "faint"), hang=8)
        out.about = ", ".join(subjects)
        indented(out, message)
        indented(out, remedy, mark="→ ")


def indented(out: Screen, text: str | Said, *, mark: str = "", left: int = 8, style: str = "") -> None:
    """A paragraph that hangs `left` columns in, its further lines below its first word."""
    start = " " * left + out.worded(mark).plain
    line(out, (f"{start}{text}", style), hang=width_of(start))


def counted(number: int, word: str) -> str:
    """1 rule, 2 rules."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"


ENDLESS = 100_000  # columns of an output that is no terminal


class Screen(Console):
    """As wide as the terminal; an output that is none, and plain text, have lines without end."""

    def __init__(self, *, stderr: bool = False, plain: bool = False) -> None:
        bare = (
            plain or bool(os.environ.get("NO_COLOR")) or not preferences().colour
        )  # without any escape, so that bold is none either
        super().__init__(
            stderr=stderr, highlight=False, markup=False, emoji=False, soft_wrap=False, no_color=bare,
            color_system=None if bare else "auto", theme=Theme(STYLES),
        )  # fmt: skip
        self.plain = plain
        self.about = ""  # plain: what the lines are about that stand below another
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
        if self.plain and not objects:
            return
        if len(objects) != 1 or not isinstance(objects[0], str | Text):
            super().print(*objects, style=style, **{"crop": False, **more})
            return
        whole = self.worded(objects[0])
        if self.plain:
            for fact in self._facts(whole.plain):
                super().print(Text(fact), soft_wrap=True)
            return
        for text in whole.split("\n", allow_blank=True):
            inner = len(text.plain) - len(text.plain.lstrip(" "))
            left = hanging(text.plain, self.width, inner if hang is None else hang)
            for number, (start, end) in enumerate(lines_within(text.plain, self.width - left, self.width)):
                piece = Text(" " * left if number else "").append_text(text[start:end])
                super().print(piece, style=style, soft_wrap=True)

    def _facts(self, text: str) -> Iterator[str]:
        """Plain text: one fact a line, each with what it is about."""
        for row in text.split("\n"):
            words = re.sub(r"(?<=\S)(?<!:) {2,}", ": ", row.strip())
            words = re.sub(r" {2,}", " ", words)
            words = f"do: {words[3:]}" if words.startswith("-> ") else words.removeprefix("- ")
            if words and row.startswith(" ") and self.about:
                yield f"{self.about}: {words}"
            elif words:
                self.about = words.partition(": ")[0].rstrip(".:")
                yield words

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
