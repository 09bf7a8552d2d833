"""The browser of the town's phone: it opens a page, and does what the arrival page's script has a browser do."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from html.parser import HTMLParser
from typing import Any
from urllib.parse import urlsplit

import anyio

from hooper.errors import CounterpartError
from hooper.net.http import HttpFailed, http
from hooper.net.types import Door
from hooper.wire.images import picture_size

PAGE_S = 10.0  # seconds for the page itself
TURNS_S, HEARS_S = 3.0, 30  # seconds until the port is the device's, and more tries of a second than its turn has
PATIENCE = re.compile(r"patience = (\d+);")  # in milliseconds, in the page's script
TURN = re.compile(r" ms = (\d+);")  # that the port is the device's, likewise
Saw = Mapping[str, Mapping[str, str]]  # by service, what the person says, by what was asked
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
    own: str = ""  # the service whose port the page has borrowed
    came: str = ""
    patience_s: float = PAGE_S
    turn_s: float | None = None
    _open: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        super().__init__(convert_charrefs=True)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "link", "br", "input", "img"):
            self._open.append(tag)
        given = dict(attrs)
        if given.get("data-service"):
            self.urls[given["data-service"] or ""] = json.loads(given.get("data-urls") or "{}")
            self.own = given["data-service"] or "" if given.get("id") == "own" else self.own
        self.came = given.get("data-came") or self.came

    def handle_endtag(self, tag: str) -> None:
        if tag in self._open:
            while self._open.pop() != tag:
                pass

    def handle_data(self, data: str) -> None:
        words = " ".join(data.split())
        if "title" in self._open:
            self.title += words
        elif (found := PATIENCE.search(data)) is not None and "script" in self._open:
            self.patience_s = int(found[1]) / 1000
            turn = TURN.search(data)
            self.turn_s = int(turn[1]) / 1000 if turn is not None else None
        elif words and not any(tag in LAYOUT for tag in self._open):
            self.text.append(words)


async def browse(door: Door, url: str, roots: str | None, saw: Saw) -> Browsed:
    """Open a page. roots: in PEM, what the browser trusts beside the well-known. Raises:
    CounterpartError.
    """
    try:
        async with http(door, roots, PAGE_S) as client:
            answer = await client.request("GET", url, headers={"User-Agent": "the town's phone"})
    except HttpFailed as exc:
        raise CounterpartError(f"the page does not load: {exc.message}", code="page-not-loaded") from None
    reader = _Reader()
    reader.feed(answer.text)
    tried: dict[str, str] = {}
    if reader.came == "outside" and reader.urls:
        await _try_all(door, roots, url, reader, tried, saw)
    return Browsed(answer.status, reader.title, tuple(reader.text), tried)


async def press(door: Door, url: str, roots: str | None, code: str, word: str, cookie: str) -> tuple[Browsed, str]:
    """Go on with the page of a guided run; its cookie too. code: the terminal's, the first time; word: to answer;
    empty: look. cookie: that the phone's browser has of it. Raises: CounterpartError.
    """

    async def ask(method: str, path: str, body: object = None) -> tuple[Any, Mapping[str, str]]:
        content = json.dumps(body).encode() if body is not None else None
        fields = {"Cookie": cookie} if cookie else {}
        try:
            async with http(door, roots, PAGE_S) as client:
                answer = await client.request(method, url + path, headers=fields, content=content)
            return json.loads(answer.text), answer.headers
        except (HttpFailed, ValueError) as exc:
            raise CounterpartError(f"the page does not answer: {exc}", code="page-not-loaded") from None

    if code:
        said, fields = await ask("POST", "/join", {"code": code})
        if said.get("joined"):
            cookie = fields["set-cookie"].partition(";")[0]
    said, _ = await ask("GET", "/now")
    if not said.get("joined"):
        return Browsed(403, "Hooper's guide", ("Which code does the terminal show?",), {}), cookie
    refused = ""
    if word:
        answered, _ = await ask("POST", "/say", {"number": said["number"], "word": word})
        refused = answered.get("why", "")
    view = said["view"]
    lines = (
        *view["told"],
        view["text"],
        *(f"{name}: {means}" for name, means in view["choices"]),
        view["link"],
        refused,
    )
    live = {str(name): str(words) for name, words in said["live"].items()}
    return Browsed(200, "Hooper's guide", tuple(filter(None, lines)), live), cookie


async def _try_all(
    door: Door,
    roots: str | None,
    url: str,
    reader: _Reader,
    tried: dict[str, str],
    saw: Mapping[str, Mapping[str, str]],
) -> None:
    to = f"{urlsplit(url)._replace(query='').geturl()}/told"

    async def loaded(service: str) -> dict[str, object]:
        told: dict[str, object] = {}
        async with anyio.create_task_group() as tasks:
            for kind, address in reader.urls[service].items():
                tasks.start_soon(_load, door, roots, reader.patience_s, kind, address, told)
        return told

    async def tell(service: str, **told: object) -> bool:
        """Whether the computer at home heard it."""
        body = {"service": service, **told} if service else {}
        with suppress(HttpFailed, ValueError):
            async with http(door, roots, PAGE_S) as client:
                said = json.loads((await client.request("POST", to, content=json.dumps(body).encode())).text)
            if said["heard"] == urlsplit(url).path:
                tried.update({service: said["said"]} if service else {})
                return True
        return False

    async def one(service: str) -> None:
        await tell(service, told=await loaded(service))

    async with anyio.create_task_group() as tasks:
        for service, these in reader.urls.items():
            if these and service != reader.own:
                tasks.start_soon(one, service)
    await tell("")
    for service, words in saw.items():
        if service != reader.own:
            await tell(service, saw=words)
    if reader.own and reader.turn_s is not None:  # its turn begins, and ends before home listens again
        await door.clock.sleep(min(TURNS_S, reader.turn_s / 2))
        told = await loaded(reader.own)
        for _ in range(round(reader.turn_s) + HEARS_S):
            if await tell(reader.own, told=told, saw=saw.get(reader.own, {}), last=True):
                break
            await door.clock.sleep(1.0)


async def _load(door: Door, roots: str | None, patience: float, kind: str, url: str, told: dict[str, object]) -> None:
    begun = door.clock.monotonic()
    loaded, size = False, None
    try:
        async with http(door, roots, patience) as client:
            body = (await client.request("GET", url)).content
        size = picture_size(body) if kind == "picture" else None
        loaded = kind != "picture" or size is not None
    except HttpFailed:
        pass
    more = {"size": size} if size is not None else {}
    told[kind] = {"loaded": loaded, "ms": round((door.clock.monotonic() - begun) * 1000), **more}
