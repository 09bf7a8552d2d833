"""Drawing with Rich: tables, findings and steps, the same way in every command."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Sequence

from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from hooper.planning.values import Finding

SEVERITY_STYLE = {"error": "bold red", "warning": "orange3", "note": "blue"}


def table(*columns: str, right: Sequence[str] = ()) -> Table:
    """A table without frame. right: columns that hold numbers. Where it is too narrow, cells wrap; nothing is cut."""
    drawn = Table(box=box.SIMPLE_HEAD, pad_edge=False, show_edge=False, header_style="bold", padding=(0, 1, 0, 0))
    for name in columns:
        drawn.add_column(name, justify="right" if name in right else "left", overflow="fold")
    return drawn


def heading(out: Console, text: str) -> None:
    """A line that starts a part of the output."""
    out.print(Text(text, style="bold"))


def findings(out: Console, found: Iterable[Finding]) -> None:
    """Each finding: severity and subject, what it is, what to do. Those that say the same are told once."""
    alike: dict[tuple[str, str, str, str], list[str]] = {}
    for item in found:
        alike.setdefault((item.severity, item.code, item.message, item.remedy), []).append(item.subject)
    for (severity, code, message, remedy), subjects in alike.items():
        label = (f"{severity:<8}", SEVERITY_STYLE[severity])
        out.print(Text.assemble(label, (", ".join(subjects), "bold"), (f"  {code}", "dim")), soft_wrap=True)
        indented(out, message)
        indented(out, remedy, mark="→ ")


def indented(out: Console, text: str, *, mark: str = "", left: int = 8, style: str = "") -> None:
    """A paragraph that hangs `left` columns in, its further lines below its first word."""
    start = " " * left + mark
    width = max(out.width, len(start) + 20)
    lines = textwrap.fill(text, width, initial_indent=start, subsequent_indent=" " * len(start), break_on_hyphens=False)
    out.print(Text(lines, style=style), soft_wrap=True)


def counted(number: int, word: str) -> str:
    """1 rule, 2 rules."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"
