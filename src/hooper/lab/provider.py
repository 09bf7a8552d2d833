"""The town's name provider: records are set by HTTP requests that carry a token."""

from __future__ import annotations

from contextlib import suppress
from urllib.parse import unquote

import anyio
from anyio.abc import ByteStream

from hooper.lab.devices import read_request
from hooper.lab.zone import ZONE, Zone
from hooper.net.types import Endpoint
from hooper.wire import head


class NameProvider:
    """PUT /records/NAME/A sets, PUT .../TXT adds, DELETE .../TXT takes away; the body is the value.

    busy, closed: faults: it asks to wait, or refuses for good.
    """

    def __init__(self, zone: Zone, token: str) -> None:
        self.zone, self.token = zone, token
        self.busy = self.closed = False
        self.changes = 0

    async def serve(self, stream: ByteStream, peer: Endpoint) -> None:
        del peer
        while (got := await read_request(stream)) is not None:
            asked, body = got
            status, text = self._answer(asked, body)
            fields = [("Content-Type", "text/plain")]
            if status == 429:
                fields.append(("Retry-After", "120"))
            with suppress(anyio.BrokenResourceError):
                await stream.send(head.serialize_response(status, "-", "HTTP/1.1", tuple(fields), f"{text}\n".encode()))

    def _answer(self, asked: head.Head, body: bytes) -> tuple[int, str]:
        if asked.get("authorization") != f"Bearer {self.token}":
            return 401, "who are you?"
        if self.closed:
            return 403, "this account is closed"
        if self.busy:
            return 429, "too many requests"
        parts = [unquote(part) for part in asked.target.strip("/").split("/")]
        if len(parts) != 3 or parts[0] != "records" or parts[2] not in ("A", "TXT"):
            return 404, "no such record"
        _, name, kind = parts
        if not name.endswith(f".{ZONE}"):
            return 403, "not your name"
        value = body.decode("utf-8", "replace").strip()
        if asked.method == "PUT" and kind == "A":
            changed = self.zone.set(name, kind, [value])
        elif asked.method == "PUT":
            changed = self.zone.add(name, kind, value)
        elif asked.method == "DELETE":
            changed = self.zone.remove(name, kind, value or None)
        else:
            return 405, "PUT or DELETE"
        self.changes += changed
        return 200, "kept" if changed else "same"
