"""The width and height that a picture says of itself: PNG (ISO/IEC 15948 section 11.2.2), GIF (GIF89a section 18), BMP,
and JPEG (ITU-T T.81 section B.2.2). Nothing is decoded.
"""

from __future__ import annotations

_FRAMES = frozenset(range(0xC0, 0xD0)) - {0xC4, 0xC8, 0xCC}  # the markers of JPEG that start a frame
_ALONE = frozenset((0x01, *range(0xD0, 0xD9)))  # markers without a length


def picture_size(data: bytes) -> tuple[int, int] | None:
    """Width and height in pixels; None: it is no such picture, or its beginning is not there."""
    if data.startswith(b"\x89PNG\r\n\x1a\n") and data[12:16] == b"IHDR" and len(data) >= 24:
        return _both(int.from_bytes(data[16:20]), int.from_bytes(data[20:24]))
    if data[:6] in (b"GIF87a", b"GIF89a") and len(data) >= 10:
        return _both(int.from_bytes(data[6:8], "little"), int.from_bytes(data[8:10], "little"))
    if data.startswith(b"BM") and len(data) >= 26:
        width, height = (int.from_bytes(data[at : at + 4], "little", signed=True) for at in (18, 22))
        return _both(width, abs(height))
    return _jpeg(data) if data.startswith(b"\xff\xd8") else None


def _jpeg(data: bytes) -> tuple[int, int] | None:
    at = 2
    while at + 9 <= len(data) and data[at] == 0xFF:
        marker, length = data[at + 1], int.from_bytes(data[at + 2 : at + 4])
        if marker in _FRAMES:
            return _both(int.from_bytes(data[at + 7 : at + 9]), int.from_bytes(data[at + 5 : at + 7]))
        if marker == 0xFF:
            at += 1
        elif marker in _ALONE:
            at += 2
        elif length < 2:
            return None
        else:
            at += 2 + length
    return None


def _both(width: int, height: int) -> tuple[int, int] | None:
    return (width, height) if 0 < width < 100_000 and 0 < height < 100_000 else None
