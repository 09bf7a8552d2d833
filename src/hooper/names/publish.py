"""Publishing an address or a text: by a provider's HTTP requests, or by dynamic update."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Literal, Protocol
from urllib.parse import quote, quote_plus

from hooper.errors import CounterpartError, MachineError
from hooper.net.types import Door
from hooper.secret import Secret, excerpt, keep_out_of_output
from hooper.site import updating as placeholders

if TYPE_CHECKING:
    from hooper.net.http import HttpAnswer
    from hooper.site.model import Meaning, Updater, UpdaterRequest


@dataclass(frozen=True)
class UpdaterSaid:
    """What a provider said. means: as the site file tells it."""

    means: Literal["done", "unchanged"]
    text: str


class UpdaterBusy(CounterpartError):
    """The provider asks to wait. wait_s: how long."""

    code = "updater-busy"
    remedy = "Run the command again later."

    def __init__(self, message: str, wait_s: float) -> None:
        super().__init__(message)
        self.wait_s = wait_s


class UpdaterRefuses(CounterpartError):
    """The provider says no, and asking again would not help."""

    code = "updater-refused"
    remedy = "Correct what it names: user, secret or name."


class UpdaterUnclear(CounterpartError):
    """The provider's answer fits nothing that the site file tells."""

    code = "updater-unclear"
    remedy = "Compare its answer with the updater's `answers` in the site file."


@dataclass(frozen=True)
class Setting:
    """A record as it is to be: the one of its type (A, AAAA) that the name has."""

    name: str
    kind: str
    value: str


class Publisher(Protocol):
    """How one updater publishes. Raises, all three: UpdaterBusy, UpdaterRefuses, UpdaterUnclear, CounterpartError.

    together: it takes several settings at once.
    """

    @property
    def together(self) -> bool: ...

    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid: ...

    async def set_text(self, name: str, value: str) -> UpdaterSaid: ...

    async def clear_text(self, name: str, value: str) -> UpdaterSaid: ...


@dataclass(frozen=True)
class HttpPublisher:
    door: Door
    updater: Updater
    token: Secret | None
    roots: str | None
    deadline: float

    @property
    def together(self) -> bool:
        return False

    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid:
        assert self.updater.used_set is not None
        said = UpdaterSaid("unchanged", "")
        for one in settings:
            said = await self._do(self.updater.used_set, one.name, one.kind, one.value)
        return said

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        if self.updater.set_text is None:
            raise UpdaterUnclear("the updater has no `set_text` request", remedy="Add it to the site file.")
        return await self._do(self.updater.set_text, name, "TXT", value)

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        if self.updater.clear_text is None:
            return UpdaterSaid("unchanged", "the updater has no `clear_text` request")
        return await self._do(self.updater.clear_text, name, "TXT", value)

    async def _do(self, request: UpdaterRequest, name: str, kind: str, value: str) -> UpdaterSaid:
        from hooper.net.http import HttpFailed, http

        filled = fill(self.updater, self.token, request, Setting(name, kind, value))
        try:
            async with http(self.door, self.roots, self.deadline) as client:
                answer = await client.request(request.method, filled.url, headers=filled.headers, content=filled.body)
        except HttpFailed as exc:
            host = request.url.split("/")[2]
            raise CounterpartError(
                f"the name provider {host} cannot be reached: {exc.message}", code="updater-unreachable"
            ) from None
        return understand(self.updater.used_answers, answer, self.door.clock.now())


@dataclass(frozen=True)
class Filled:
    """A request as it is sent."""

    method: str
    url: str
    headers: dict[str, str]
    body: bytes | None


def fill(updater: Updater, token: Secret | None, request: UpdaterRequest, one: Setting) -> Filled:
    """A request with its words filled in. Raises: MachineError: the secret cannot stand in a header."""
    words = _words(updater, token, one.name, one.kind, one.value)
    url = placeholders.fill(request.url, {word: quote(text, safe="") for word, text in words.items()})
    headers = {key: placeholders.fill(text, words) for key, text in request.headers.items()}
    if any("\r" in text or "\n" in text for text in headers.values()):
        what = "the secret holds a line break, which no header can"
        raise MachineError(what, code="secret-unusable", remedy="Write it on a single line, or send it in the body.")
    content = None
    if request.body is not None:
        content, usual = _body(request, headers, words)
        if not any(key.lower() == "content-type" for key in headers):
            headers["Content-Type"] = usual
    return Filled(request.method, url, headers, content)


def _words(updater: Updater, token: Secret | None, name: str, kind: str, value: str) -> dict[str, str]:
    words = {"name": name, "type": kind, "value": value, "ttl": str(updater.ttl)}
    if updater.zone is not None:
        words |= {"zone": updater.zone, "host": name.removesuffix(updater.zone).rstrip(".") or "@"}
    if updater.user is not None:
        words["user"] = updater.user
    if token is not None:
        words["token"] = token.reveal()
        if updater.user is not None:
            login = base64.b64encode(f"{updater.user}:{token.reveal()}".encode()).decode()
            keep_out_of_output(login)
            words["basic"] = login
    return words


def _body(request: UpdaterRequest, headers: Mapping[str, str], words: Mapping[str, str]) -> tuple[bytes, str]:
    """The body with what is filled in written as its kind of text wants it, and its usual type."""
    assert request.body is not None
    given = next((text.lower() for key, text in headers.items() if key.lower() == "content-type"), "")
    looks_json = request.body.lstrip()[:1] in ("{", "[")
    if "json" in given or (not given and looks_json):
        filled = {word: json.dumps(text)[1:-1] for word, text in words.items()}
        return placeholders.fill(request.body, filled).encode(), "application/json"
    if "x-www-form-urlencoded" in given or (not given and "=" in request.body):
        filled = {word: quote_plus(text) for word, text in words.items()}
        return placeholders.fill(request.body, filled).encode(), "application/x-www-form-urlencoded"
    return placeholders.fill(request.body, dict(words)).encode(), "text/plain; charset=utf-8"


def understand(answers: tuple[Meaning, ...], answer: HttpAnswer, now: datetime) -> UpdaterSaid:
    """What an answer means: by the site file's own list, else by its status. now: what a date to wait until is held to.

    Raises: UpdaterBusy, UpdaterRefuses, UpdaterUnclear.
    """
    text = answer.text[:100_000]
    shown = f"it answers {answer.status}" + (f" {excerpt(text, 80)!r}" if text.strip() else "")
    means = next((rule.means for rule in answers if _fits(rule, answer.status, text)), None)
    if means is None:
        if answer.status == 429 or answer.status >= 500:
            means = "wait"
        elif answer.status in (401, 403):
            means = "never"
        elif 200 <= answer.status < 300 and not any(rule.means == "done" for rule in answers):
            means = "done"
    if means in ("done", "unchanged"):
        return UpdaterSaid(means, shown)
    if means == "wait":
        from hooper.net.http import retry_after

        raise UpdaterBusy(f"the name provider asks to wait: {shown}", retry_after(answer.header("Retry-After"), now))
    if means == "never":
        raise UpdaterRefuses(f"the name provider refuses: {shown}")
    raise UpdaterUnclear(f"the name provider's answer is not understood: {shown}")


def _fits(one: Meaning, status: int, text: str) -> bool:
    return (one.status is None or status in one.status) and (one.says is None or one.says.search(text) is not None)
