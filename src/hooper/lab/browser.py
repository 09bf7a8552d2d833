"""The browser of the town's phone: it opens a page, and does what the arrival page's script has a browser do."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from html.parser import HTMLParser
from urllib.parse import urlsplit

import anyio

from hooper.check.arrival import PATIENCE_MS
from hooper.errors import CounterpartError
from hooper.net.http import HttpFailed, http
from hooper.net.types import Door

PAGE_S = 10.0  # seconds for the page itself
LAYOUT = ("style", "script", "head", "title")


@dataclass(frozen=True, slots=True)
class Browsed:
    """What the person sees. status: of the page. title: its title. text: its words, a line each. tried: what became of
    each service that the page tried.
    """

    status: int
    title: str
    text: tuple[str, ...]
    tried: Mapping[str, str]


@dataclass
class _Reader(HTMLParser):
    """The words of a page, and what the arrival page has a browser try."""

    title: str = ""
    text: list[str] = field(default_factory=list)
    urls: dict[str, dict[str, str]] = field(default_factory=dict)
    came: str = ""
    _open: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        super().__init__(convert_charrefs=True)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "link", "br", "input", "img"):
            self._open.append(tag)
        given = dict(attrs)
        if given.get("data-service"):
            self.urls[given["data-service"] or ""] = json.loads(given.get("data-urls") or "{}")
        self.came = given.get("data-came") or self.came

    def handle_endtag(self, tag: str) -> None:
        if tag in self._open:
            while self._open.pop() != tag:
                pass

    def handle_data(self, data: str) -> None:
        words = " ".join(data.split())
        if "title" in self._open:
            self.title += words
        elif words and not any(tag in LAYOUT for tag in self._open):
            self.text.append(words)


async def browse(door: Door, url: str, roots: str | None) -> Browsed:
    """Open a page. roots: in PEM, what the browser trusts beside the well-known. Raises: CounterpartError."""
    try:
        async with http(door, roots, PAGE_S) as client:
            answer = await client.request("GET", url, headers={"User-Agent": "the town's phone"})
    except HttpFailed as exc:
        raise CounterpartError(f"the page does not load: {exc.message}", code="page-not-loaded") from None
    reader = _Reader()
    reader.feed(answer.text)
    tried: dict[str, str] = {}
    if reader.came == "outside" and reader.urls:
        await _try_all(door, roots, url, reader.urls, tried)
    return Browsed(answer.status, reader.title, tuple(reader.text), tried)


async def _try_all(
    door: Door, roots: str | None, url: str, urls: Mapping[str, Mapping[str, str]], tried: dict[str, str]
) -> None:
    to = f"{urlsplit(url)._replace(query='').geturl()}/told"

    async def one(service: str, these: Mapping[str, str]) -> None:
        told: dict[str, object] = {}
        async with anyio.create_task_group() as tasks:
            for kind, address in these.items():
                tasks.start_soon(_load, door, roots, kind, address, told)
        async with http(door, roots, PAGE_S) as client:
            said = await client.request("POST", to, content=json.dumps({"service": service, "told": told}).encode())
        tried[service] = said.text

    async with anyio.create_task_group() as tasks:
        for service, these in urls.items():
            if these:
                tasks.start_soon(one, service, these)
    async with http(door, roots, PAGE_S) as client:
        await client.request("POST", to, content=b"{}")


async def _load(door: Door, roots: str | None, kind: str, url: str, told: dict[str, object]) -> None:
    begun = door.clock.monotonic()
    loaded = False
    try:
        async with http(door, roots, PATIENCE_MS / 1000) as client:
            await client.request("GET", url)
        loaded = True
    except HttpFailed:
        pass
    told[kind] = {"loaded": loaded, "ms": round((door.clock.monotonic() - begun) * 1000)}
