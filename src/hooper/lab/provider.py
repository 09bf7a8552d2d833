"""The town's name provider: records are set by HTTP requests that carry a token."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta
from urllib.parse import unquote

import anyio
from anyio.abc import ByteStream

from hooper.lab.devices import read_request
from hooper.lab.zone import ZONE, Zone
from hooper.net.types import Endpoint
from hooper.wire import head


class NameProvider:
    """PUT /records/NAME/A sets, PUT .../TXT adds, DELETE .../TXT takes away; the body is the value.

    busy, closed: faults: it asks to wait, or refuses for good. lag: how long what it takes needs until it shows.
    spacing: between two updates of a name; who comes sooner is asked to wait. asked: how often it was.
    """

    def __init__(self, zone: Zone, token: str, now: Callable[[], datetime]) -> None:
        self.zone, self.token, self._now = zone, token, now
        self.busy = self.closed = False
        self.changes = self.asked = 0
        self.lag, self.spacing = timedelta(0), timedelta(0)
        self._last: dict[str, datetime] = {}
        self._coming: list[tuple[datetime, str, str]] = []  # what was taken and does not show yet

    def settle(self) -> None:
        """Let show what was taken long enough ago."""
        now = self._now()
        for when, name, value in [one for one in self._coming if one[0] <= now]:
            self._coming.remove((when, name, value))
            self.zone.set(name, "A", [value])

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
        self.asked += 1
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
            last, now = self._last.get(name), self._now()
            if last is not None and now - last < self.spacing:
                return 429, "too soon"
            self._last[name] = now
            if self.lag:
                self._coming.append((now + self.lag, name, value))
                self.changes += 1
                return 200, "kept"
            changed = self.zone.set(name, kind, [value])
        elif asked.method == "PUT":
            changed = self.zone.add(name, kind, value)
        elif asked.method == "DELETE":
            changed = self.zone.remove(name, kind, value or None)
        else:
            return 405, "PUT or DELETE"
        self.changes += changed
        return 200, "kept" if changed else "same"
