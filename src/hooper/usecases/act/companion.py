"""A page on this computer by which one phone's browser sees what a guided run asks, and answers it.

Its rules:
- Whoever opens it first with the code that the terminal shows has it, by a cookie; nobody else can look or answer.
- Wrong codes are few; after them, after an hour, and once the terminal closes it, there is no such page.
- An answer counts for the question that was shown when it was given, and for no later one.
"""

from __future__ import annotations

import hmac
import json
import queue
import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from hooper.jsonform import plain, read_json
from hooper.net.serving import NOT_THERE, HttpAsked, HttpSaid

OPEN_S = 3600.0  # seconds that the page is there
TRIES = 5  # wrong codes
COOKIE = "phone"


@dataclass(frozen=True)
class PhoneView:
    """What the page shows.

    kind: question: it waits for an answer; doing: something is done at home; outside: the phone is to go outside, to
    `link`; ended. text: what is asked or done. why: why it is asked. told: what is said before. choices: each with what
    it means; empty: any text. several: some of them. default: what Enter answers. sheet: whether a router's sheet
    belongs to it. command: that does the same.
    """

    kind: Literal["question", "doing", "outside", "ended"]
    text: str
    why: str = ""
    told: tuple[str, ...] = ()
    choices: tuple[tuple[str, str], ...] = ()
    several: bool = False
    default: str = ""
    sheet: bool = False
    command: str = ""
    link: str = ""


@dataclass
class Companion:
    """path: of the page. code: that its browser has to know. clock: seconds, for its end. page: of HTML, by a nonce.

    answers: that were given, each read already.
    """

    path: str
    code: str
    clock: Callable[[], float]
    page: Callable[[str], bytes]
    view: PhoneView = field(default_factory=lambda: PhoneView("doing", ""))
    number: int = 0
    live: Mapping[str, str] = field(default_factory=dict)
    sheet: bytes = b""
    closed: bool = False
    seen: bool = False  # its browser has fetched what is shown now
    answers: queue.SimpleQueue[str] = field(default_factory=queue.SimpleQueue)
    _read: Callable[[str], str] = lambda text: text
    _cookie: str | None = None
    _wrong: int = 0

    def __post_init__(self) -> None:
        self._ends = self.clock() + OPEN_S

    @property
    def joined(self) -> bool:
        """Whether a phone has it."""
        return self._cookie is not None

    @property
    def there(self) -> bool:
        """Whether the page is still served."""
        return not self.closed and self._wrong < TRIES and self.clock() < self._ends

    def show(self, view: PhoneView, read: Callable[[str], str] = lambda text: text, sheet: bytes = b"") -> None:
        """Show something else from now on; what was answered to the former counts no more."""
        while not self.answers.empty():
            self.answers.get()
        self.view, self._read, self.sheet, self.live, self.seen = view, read, sheet, {}, False
        self.number += 1

    async def answer(self, asked: HttpAsked) -> HttpSaid:
        """One request."""
        path = asked.target.partition("?")[0]
        if not self.there or not path.startswith(self.path):
            return NOT_THERE
        match asked.method, path.removeprefix(self.path):
            case "GET", "":
                nonce = secrets.token_urlsafe(12)
                policy = (
                    f"default-src 'none'; style-src 'unsafe-inline'; script-src 'nonce-{nonce}'; connect-src 'self';"
                    " frame-src 'self'; img-src data:; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
                )
                fields = {"Content-Security-Policy": policy}
                return HttpSaid(200, self.page(nonce), "text/html; charset=utf-8", fields)
            case "POST", "/join":
                return self._join(asked)
            case _ if not self._is_ours(asked):
                return _said({"joined": False, "taken": self.joined}, 403)
            case "GET", "/now":
                self.seen = True
                return _said({"joined": True, "number": self.number, "view": plain(self.view), "live": {**self.live}})
            case "GET", "/sheet" if self.sheet:
                policy = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'; img-src data:"
                fields = {"Content-Security-Policy": policy}
                return HttpSaid(200, self.sheet, "text/html; charset=utf-8", fields)
            case "POST", "/say":
                return self._say(asked)
        return NOT_THERE

    def _join(self, asked: HttpAsked) -> HttpSaid:
        """The first browser with the code has the page."""
        match _body(asked):
            case {"code": str(code)} if len(code) < 20 and self._cookie is None:
                if hmac.compare_digest(code.strip().encode(), self.code.encode()):
                    self._cookie = secrets.token_urlsafe(24)
                    said, cookie = _said({"joined": True}), f"{COOKIE}={self._cookie}; Path={self.path}"
                    return HttpSaid(200, said.body, said.media_type, {
                        "Set-Cookie": f"{cookie}; HttpOnly; SameSite=Strict; Max-Age={OPEN_S:.0f}",
                    })  # fmt: skip
                self._wrong += 1
        return _said({"joined": False, "taken": self.joined, "left": max(0, TRIES - self._wrong)}, 403)

    def _is_ours(self, asked: HttpAsked) -> bool:
        given = dict(part.strip().partition("=")[::2] for part in asked.fields.get("cookie", "").split(";"))
        return self._cookie is not None and hmac.compare_digest(
            given.get(COOKIE, "").encode("utf-8", "replace"), self._cookie.encode()
        )

    def _say(self, asked: HttpAsked) -> HttpSaid:
        match _body(asked):
            case {"number": int(number), "word": str(word)} if len(word) < 1000:
                if number != self.number or self.view.kind != "question":
                    return _said({"ok": False, "why": "That question is over."})
                try:
                    meant = self._read(word)
                except ValueError as exc:
                    return _said({"ok": False, "why": str(exc)})
                self.answers.put(meant)
                return _said({"ok": True})
        return HttpSaid(400, b"not understood\n")


def _body(asked: HttpAsked) -> Any:
    try:
        return read_json(dict[str, Any], asked.body)
    except ValueError:
        return None


def _said(document: Any, status: int = 200) -> HttpSaid:
    return HttpSaid(status, json.dumps(document).encode(), "application/json")
