"""The head of an HTTP/1 or RTSP message (RFC 9112 sections 2 to 5, RFC 2326 sections 6 and 7), read with patience.

Devices send header lines without a colon, bare line feeds and odd letters; all that is wanted is what they say.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from hooper.errors import WireError

LIMIT = 64 * 1024  # bytes of a head; a device that sends more is not speaking HTTP

_STATUS = re.compile(rb"(HTTP|RTSP)/(\d)(?:\.(\d))?[ \t]+(\d{3})(?:[ \t]+([^\r\n]*))?\r?$")
_REQUEST = re.compile(rb"([A-Z_-]{1,20})[ \t]+(\S+)[ \t]+(HTTP|RTSP)/(\d)\.(\d)\r?$")


@dataclass(frozen=True, slots=True)
class Head:
    """The first line and the header fields. status: 0 in a request. method, target: empty in a response."""

    protocol: str
    version: tuple[int, int]
    headers: tuple[tuple[str, str], ...]
    status: int = 0
    reason: str = ""
    method: str = ""
    target: str = ""

    def get(self, name: str) -> str | None:
        """The first field of that name, in any case."""
        return next((value for key, value in self.headers if key == name.lower()), None)


def split_head(data: bytes) -> tuple[Head, bytes] | None:
    """The head at the start of `data` and what follows it; None while it is not whole.

    Raises: WireError: this is not a head, or it is longer than LIMIT.
    """
    end = re.search(rb"\r?\n\r?\n", data)
    if end is None:
        if len(data) > LIMIT:
            raise WireError("head", 0, f"longer than {LIMIT} bytes")
        first, newline, _ = data.partition(b"\n")
        if newline or len(first) >= 8:  # enough to see that it is none, before the peer goes silent
            _check_start(first)
        return None
    return parse_head(data[: end.start()]), data[end.end() :]


def _check_start(first: bytes) -> None:
    if not (re.match(rb"(HTTP|RTSP)/\d", first) or re.match(rb"[A-Z_-]{1,20}[ \t]", first)):
        raise WireError("first line", 0, f"not a request or status line: {first[:32]!r}")


def parse_head(data: bytes) -> Head:
    """Read one whole head without its final empty line. Raises: WireError: the first line is none."""
    first, *lines = data.split(b"\n")
    headers = tuple(_field(line) for line in lines if b":" in line)
    if match := _STATUS.match(first):
        return Head(
            match[1].decode(),
            (int(match[2]), int(match[3] or 0)),
            headers,
            status=int(match[4]),
            reason=(match[5] or b"").decode("latin-1").strip(),
        )
    if match := _REQUEST.match(first):
        return Head(
            match[3].decode(),
            (int(match[4]), int(match[5])),
            headers,
            method=match[1].decode(),
            target=match[2].decode("latin-1"),
        )
    raise WireError("first line", 0, f"not a request or status line: {first[:32]!r}")


def _field(line: bytes) -> tuple[str, str]:
    name, _, value = line.partition(b":")
    return name.decode("latin-1").strip().lower(), value.decode("latin-1").strip()


def serialize_request(method: str, target: str, protocol: str, headers: tuple[tuple[str, str], ...]) -> bytes:
    """A request without a body. Raises: ValueError: a part holds a line break, which would smuggle in a header."""
    return _message(f"{method} {target} {protocol}", headers)


def serialize_response(
    status: int, reason: str, protocol: str, headers: tuple[tuple[str, str], ...], body: bytes = b""
) -> bytes:
    """A response with its body; Content-Length is added. Raises: ValueError: as `request`."""
    return _message(f"{protocol} {status} {reason}", (*headers, ("Content-Length", str(len(body))))) + body


def _message(first: str, headers: tuple[tuple[str, str], ...]) -> bytes:
    lines = [first, *(f"{name}: {value}" for name, value in headers)]
    if any("\r" in line or "\n" in line for line in lines):
        raise ValueError("a header may not hold a line break")
    return ("\r\n".join(lines) + "\r\n\r\n").encode("latin-1", "replace")


_TITLE = re.compile(rb"<title[^<>]*>([^<]{0,200})</title", re.I)


def page_title(body: bytes) -> str | None:
    """The title of an HTML page, white space folded; None where there is none."""
    match = _TITLE.search(body)
    return " ".join(match[1].decode("utf-8", "replace").split()) or None if match else None
