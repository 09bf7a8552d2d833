"""QR codes (ISO/IEC 18004): as signs for a terminal, and as pictures."""

from __future__ import annotations

import io
import zlib

import segno

from hooper.files import MADE_BY


def _matrix(text: str) -> list[list[int]]:
    """The modules of a QR code (ISO/IEC 18004) with its quiet zone; 1 is dark."""
    return [list(map(int, row)) for row in segno.make(text, micro=False).matrix_iter(border=4)]


def qr_rows(text: str) -> list[str]:
    """A QR code in half blocks, two modules a character, dark on light."""
    modules = _matrix(text)
    if len(modules) % 2:
        modules.append([0] * len(modules[0]))
    blocks = {(0, 0): " ", (1, 0): "▀", (0, 1): "▄", (1, 1): "█"}
    return [
        "".join(blocks[bool(top), bool(bottom)] for top, bottom in zip(upper, lower, strict=True))
        for upper, lower in zip(modules[::2], modules[1::2], strict=True)
    ]


def qr_cells(text: str) -> list[str]:
    """A QR code of whole cells, two columns a module, for encodings without half blocks; █ stands for dark ground."""
    return ["".join("██" if dark else "  " for dark in row) for row in _matrix(text)]


def picture(text: str, kind: str) -> bytes:
    """A QR code as a picture. kind: .svg or .png."""
    made = io.BytesIO()
    code = segno.make(text, micro=False)
    if kind == ".png":
        code.save(made, kind="png", scale=8, border=4)
        return _marked(made.getvalue())
    code.save(made, kind="svg", scale=8, border=4, title=MADE_BY.decode())
    return made.getvalue()


def _marked(png: bytes) -> bytes:
    """With a text (PNG, section 11.3.3.2) after the header, by which it is known again as ours."""
    text = b"tEXtSoftware\0" + MADE_BY
    header = 8 + 25  # the signature and IHDR
    chunk = (len(text) - 4).to_bytes(4, "big") + text + zlib.crc32(text).to_bytes(4, "big")
    return png[:header] + chunk + png[header:]
