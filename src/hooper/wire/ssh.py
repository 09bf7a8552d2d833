"""The identification string of SSH (RFC 4253 section 4.2): the first line that a server sends by itself."""

from __future__ import annotations

from hooper.errors import WireError

OURS = "SSH-2.0-hooper"  # what this program says of itself
LIMIT = 8 * 1024  # bytes of other lines that a server may send first; ours, the RFC sets none
LINE_LIMIT = 255  # RFC 4253 section 4.2, with CR LF


def parse_identification(data: bytes) -> str | None:
    """The line "SSH-2.0-..." in what a server sent first; None while it is not whole.

    Raises: WireError: this is no SSH server.
    """
    at = 0
    while True:
        end = data.find(b"\n", at)
        line = data[at : end if end >= 0 else len(data)]
        if line.startswith(b"SSH-"):
            if end < 0 and len(line) < LINE_LIMIT:
                return None
            if end < 0 or len(line) + 1 > LINE_LIMIT:
                raise WireError("identification", at, f"longer than {LINE_LIMIT} bytes")
            text = line.rstrip(b"\r").decode("ascii", "replace")
            if text.count("-") < 2:
                raise WireError("identification", at, f"no software version in {text!r}")
            return text
        if end < 0:
            if len(data) > LIMIT or (at == 0 and line and not b"SSH-".startswith(line[:4]) and _binary(line)):
                raise WireError("identification", at, f"no SSH line in {data[:32]!r}")
            return None
        at = end + 1
        if at > LIMIT:
            raise WireError("identification", at, f"no SSH line in the first {LIMIT} bytes")


def _binary(line: bytes) -> bool:
    return any(byte < 9 or 13 < byte < 32 for byte in line)
