"""QR codes on a terminal, where a camera can read them: dark on light, whatever the terminal's ground."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from hooper.cli.screen import Screen


def draw_code(text: str, out: Screen, *, only_here: bool = False) -> bool:
    """Draw it, or say why not; whether it was drawn.

    only_here: what it says is for the eyes before this terminal: it goes into no file, and nothing is said.
    """
    from rich.text import Text

    from hooper.report.qr import qr_cells, qr_rows
    from hooper.signs import can_write

    blocks = can_write("▀", out.encoding)
    rows = qr_rows(text) if blocks else qr_cells(text)
    coloured = out.color_system is not None and not out.no_color and not out.plain
    width = len(rows[0])
    if only_here and not (out.is_terminal and coloured and width <= out.width):
        return False
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
        return True
    return False
