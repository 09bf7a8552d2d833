"""The sizes that pictures say of themselves."""

from __future__ import annotations

import zlib
from itertools import accumulate

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.pictures import _pictures
from hooper.wire.images import picture_size


def png(width: int, height: int) -> bytes:
    head = b"IHDR" + width.to_bytes(4) + height.to_bytes(4) + b"\x08\x02\x00\x00\x00"
    return b"\x89PNG\r\n\x1a\n" + b"\x00\x00\x00\x0d" + head + zlib.crc32(head).to_bytes(4)


def gif(width: int, height: int) -> bytes:
    return b"GIF89a" + width.to_bytes(2, "little") + height.to_bytes(2, "little") + b"\x80\x00\x00"


def bmp(width: int, height: int) -> bytes:
    info = (40).to_bytes(4, "little") + width.to_bytes(4, "little") + (-height).to_bytes(4, "little", signed=True)
    return b"BM" + bytes(12) + info


def jpeg(width: int, height: int) -> bytes:
    app = b"\xff\xe0\x00\x10JFIF\x00" + bytes(9)
    tables = b"\xff\xc4\x00\x04\x00\x00"  # of Huffman: none of the frames
    frame = b"\xff\xc2\x00\x11\x08" + height.to_bytes(2) + width.to_bytes(2) + b"\x03"
    return b"\xff\xd8" + app + tables + b"\xff" + frame + bytes(9)  # a fill byte stands before the marker


@pytest.mark.parametrize("make", [png, gif, bmp, jpeg])
@given(st.integers(1, 9999), st.integers(1, 9999))
def test_the_size_of_a_picture(make: object, width: int, height: int) -> None:
    data = make(width, height)  # type: ignore[operator]
    assert picture_size(data) == (width, height)
    for part in accumulate(data, lambda so_far, byte: so_far + bytes([byte]), initial=b""):
        assert picture_size(part) in (None, (width, height))


@given(st.sampled_from([b"", b"\x89PNG\r\n\x1a\n", b"GIF89a", b"BM", b"\xff\xd8\xff"]), st.binary(max_size=400))
def test_any_bytes_have_a_size_or_none(start: bytes, rest: bytes) -> None:
    found = picture_size(start + rest)
    assert found is None or (0 < found[0] < 100_000 and 0 < found[1] < 100_000)


PIECES = ("<", "!", "[", "]", ">", "<![", "<img ", "src=", "href=", "<link rel=icon ", "'", '"', "a", "/", "http://here/",
          "http://[", "\x00", "--", "CDATA[", "&#x110000;", "é", "?x= y", "<title>")  # fmt: skip


@given(st.lists(st.sampled_from(PIECES), max_size=25).map("".join))
def test_any_page_has_pictures_or_none(page: str) -> None:
    """What a device shows is a stranger's; what is asked for then can be asked for."""
    for path in _pictures(page, "/"):
        assert path.startswith("/")
        assert path.isascii()
        assert " " not in path


def test_the_pictures_of_a_page() -> None:
    page = '<link rel="shortcut icon" href=fav.png><img src="/a b.gif"><IMG src=http://else/x.png><img src=b.jpg?v=1>'
    assert list(_pictures(page, "/admin/index.html")) == ["/admin/fav.png", "/a%20b.gif", "/admin/b.jpg?v=1"]
