"""QR codes on a terminal, where a camera can read them: dark on light, whatever the terminal's ground."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen


def can_draw(text: str, out: Screen) -> bool:
    """Whether it comes out here for the eyes before this terminal, and goes into no file."""
    from hooper.report.qr import qr_cells, qr_rows
    from hooper.signs import can_write

    rows = qr_rows(text) if can_write("▀", out.encoding) else qr_cells(text)
    coloured = out.color_system is not None and not out.no_color and not out.plain
    return out.is_terminal and coloured and len(rows[0]) <= out.width


def draw_code(text: str, out: Screen) -> None:
    """Draw it, or say why not."""
    from rich.text import Text

    from hooper.report.qr import qr_cells, qr_rows
    from hooper.signs import can_write

    blocks = can_write("▀", out.encoding)
    rows = qr_rows(text) if blocks else qr_cells(text)
    coloured = out.color_system is not None and not out.no_color and not out.plain
    width = len(rows[0])
    if not out.is_terminal and blocks and not out.plain:
        for row in rows:  # a file, which is read on light ground
            out.print(row)
    elif not coloured:
        out.print(
            "The QR code is left out: without colours nobody can tell dark from light here; --out FILE writes it."
        )
    elif width > out.width:
        out.print(f"The QR code is left out: it is {width} columns wide; widen the window, or --out FILE writes it.")
    else:
        for row in rows:
            drawn = Text(style="#000000 on #ffffff")
            for block in row:
                # fonts draw a full block with a gap around it; the background has none
                drawn.append(" " if block == "█" else block, style="on #000000" if block == "█" else "")
            out.as_it_is(drawn)
