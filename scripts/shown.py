"""The text that a picture of a terminal shows, kept inside the PNG, so that a test can tell when it is out of date.

`python -m scripts.shown PICTURE LOG` writes it, from what `script` has logged of the window.
"""

from __future__ import annotations

import re
import sys
import zlib
from pathlib import Path

KEY = b"Shown"
SIGNATURE = b"\x89PNG\r\n\x1a\n"
ESCAPES = re.compile(r"\x1b(?:\[[0-9;?]*[ -/]*[@-~]|\][^\x07\x1b]*(?:\x07|\x1b\\)|[()][0-9A-B]|[=>])|\r|\x08")


def chunks(data: bytes) -> list[tuple[bytes, bytes]]:
    """Each chunk of a PNG: its name and what it holds (RFC 2083 section 3.2). Raises: ValueError: it is none."""
    if not data.startswith(SIGNATURE):
        raise ValueError("this is no PNG")
    found, at = [], len(SIGNATURE)
    while at < len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        found.append((data[at + 4 : at + 8], data[at + 8 : at + 8 + length]))
        at += 12 + length
    return found


def shown(picture: Path) -> str | None:
    """What a picture shows; None: it does not say."""
    for name, held in chunks(picture.read_bytes()):
        if name == b"zTXt" and held.startswith(KEY + b"\0\0"):
            return zlib.decompress(held[len(KEY) + 2 :]).decode("utf-8")
    return None


def write(picture: Path, text: str) -> None:
    """Put the text into the picture, in place of one that is there."""
    kept = [(name, held) for name, held in chunks(picture.read_bytes()) if not held.startswith(KEY + b"\0")]
    held = KEY + b"\0\0" + zlib.compress(text.encode("utf-8"), 9)
    out = SIGNATURE
    for name, content in (kept[0], (b"zTXt", held), *kept[1:]):
        checked = zlib.crc32(name + content).to_bytes(4, "big")
        out += len(content).to_bytes(4, "big") + name + content + checked
    picture.write_bytes(out)


def of_log(log: str) -> str:
    """The text of a window's log, without what `script` says of itself."""
    rows = [row.rstrip() for row in ESCAPES.sub("", log).split("\n")]
    return "\n".join(row for row in rows if not row.startswith(("Script started on", "Script done on"))).strip("\n")


if __name__ == "__main__":
    write(Path(sys.argv[1]), of_log(Path(sys.argv[2]).read_text(encoding="utf-8", errors="replace")))
