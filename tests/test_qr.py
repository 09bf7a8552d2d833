"""The QR code as it comes out on terminals and in files, read by a decoder."""

from __future__ import annotations

import re
import struct
import zlib
from pathlib import Path

import pytest
import zxingcpp

from hooper.report.qr import picture, qr_rows
from support.program import Lab, hooper

URL = "https://boathouse.heronquay.example:8443/"
SCALE = 4  # pixels for half the height of a character


def decoded(pixels: list[list[int]]) -> str | None:
    """What a decoder reads in a picture of grey values; None: nothing."""
    height, width = len(pixels) * SCALE, len(pixels[0]) * SCALE
    data = b"".join(bytes(value for value in row for _ in range(SCALE)) * SCALE for row in pixels)
    found = zxingcpp.read_barcodes(memoryview(data).cast("B", (height, width)))
    return found[0].text if found else None


def seen_on(screen: str, *, ground: int) -> list[list[int]]:
    """The pixels of a terminal's output, two rows a line, one column a character.

    ground: the grey of the terminal's own ground; its letters have the opposite.
    """
    rows: list[list[int]] = []
    for line in screen.split("\n"):
        fore, back = 255 - ground, ground
        upper: list[int] = []
        lower: list[int] = []
        for style, sign in re.findall(r"\x1b\[([0-9;]*)m|(.)", line):
            if not sign:
                fore, back = _colours(style, fore, back, ground)
                continue
            upper.append(fore if sign in "▀█" else back)
            lower.append(fore if sign in "▄█" else back)
        rows += [upper, lower]
    width = max(map(len, rows))
    return [row + [ground] * (width - len(row)) for row in rows]


def _colours(style: str, fore: int, back: int, ground: int) -> tuple[int, int]:
    numbers = [int(number) for number in style.split(";") if number] or [0]
    if numbers == [0]:
        return 255 - ground, ground
    while numbers:
        first = numbers.pop(0)
        if first in (38, 48):
            kind = numbers.pop(0)
            value = numbers[0] if kind == 2 else (255 if numbers[0] in (15, 231, 255) else 0)
            del numbers[: 3 if kind == 2 else 1]
            fore, back = (value, back) if first == 38 else (fore, value)
        elif 30 <= first <= 37 or 90 <= first <= 97:
            fore = 255 if first in (37, 97) else 0
        elif 40 <= first <= 47 or 100 <= first <= 107:
            back = 255 if first in (47, 107) else 0
    return fore, back


@pytest.mark.parametrize("ground", [0, 255], ids=["dark", "light"])
@pytest.mark.parametrize("colours", ["truecolor", "256", "16"])
@pytest.mark.parametrize("encoding", ["utf-8", "cp437", "ascii"])
def test_a_terminal_with_colours(lab: Lab, ground: int, colours: str, encoding: str) -> None:
    env = {
        "COLORTERM": "truecolor" if colours == "truecolor" else "",
        "TERM": "xterm" + {"256": "-256color"}.get(colours, ""),
    }
    ran = hooper("card", "hub-page", env={**lab.env, **env}, columns=100, encoding=encoding, styled=True)
    assert decoded(seen_on(ran.out, ground=ground)) == URL


def test_where_it_would_be_spoiled_it_is_left_out_with_a_sentence(lab: Lab) -> None:
    for env, columns in (({"NO_COLOR": "1"}, 100), ({"TERM": "dumb"}, 100), ({}, 30)):
        ran = hooper("card", "hub-page", env={**lab.env, **env}, columns=columns)
        assert "█" not in ran.out
        assert "The QR code is left out" in ran.out.replace("\n", " ")
        assert "--out FILE" in ran.out


def test_a_pipe_has_it_for_light_ground(lab: Lab) -> None:
    ran = hooper("card", "hub-page", env=lab.env)
    assert decoded(seen_on(ran.out, ground=255)) == URL


def test_pictures_of_it(lab: Lab, tmp_path: Path) -> None:
    for name in ("code.svg", "code.png"):
        for _ in range(2):  # what we wrote we may write again
            assert hooper("card", "hub-page", "--out", str(tmp_path / name), env=lab.env).code == 0
    data = (tmp_path / "code.png").read_bytes()
    assert decoded(_grey(data)) == URL
    assert b"<svg" in (tmp_path / "code.svg").read_bytes()
    assert (tmp_path / "code.svg").stat().st_mode & 0o077 == 0
    assert hooper("card", "hub-page", "--out", str(tmp_path / "code.gif"), env=lab.env).code == 2
    (tmp_path / "mine.svg").write_text("<svg/>")
    assert hooper("card", "hub-page", "--out", str(tmp_path / "mine.svg"), env=lab.env).code == 5
    assert picture("x", ".png").startswith(b"\x89PNG")
    assert len(qr_rows("x")[0]) == 21 + 8


def _grey(data: bytes) -> list[list[int]]:
    """The pixels of a PNG of one bit, as this library writes them."""
    at, body, size = 8, b"", (0, 0)
    while at < len(data):
        length, kind = struct.unpack(">I4s", data[at : at + 8])
        chunk = data[at + 8 : at + 8 + length]
        assert zlib.crc32(kind + chunk) == struct.unpack(">I", data[at + 8 + length : at + 12 + length])[0]
        size = struct.unpack(">II", chunk[:8]) if kind == b"IHDR" else size
        body += chunk if kind == b"IDAT" else b""
        at += 12 + length
    width, height = size
    raw, stride = zlib.decompress(body), (width + 7) // 8 + 1
    rows, above = [], bytes(stride - 1)
    for number in range(height):
        kind, row = raw[number * stride], raw[number * stride + 1 : (number + 1) * stride]
        assert kind in (0, 2), "filters None and Up"
        above = bytes((one + before * (kind == 2)) & 255 for one, before in zip(row, above, strict=True))
        rows.append([255 * (above[x // 8] >> (7 - x % 8) & 1) for x in range(width)])
    return rows
