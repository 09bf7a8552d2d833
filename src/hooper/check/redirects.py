"""Where a page sends a browser on: step by step within the service, and what is wrong with where it leads."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from dataclasses import replace
from urllib.parse import quote, urljoin, urlsplit

from hooper.check.results import Seen
from hooper.check.targets import Target
from hooper.words.said import NOTHING, Said, say

STEPS = 5  # browsers give up after some twenty; a device that needs more than this sends people in circles
CIRCLE = "redirect-circle"
SLOW = ("silent", "connected")  # what may be lack of time alone
SENDS_ON = (301, 302, 303, 307, 308)  # RFC 9110 section 15.4
AS_IT_IS = "%/?:@!$&'()*+,;=~[]"  # in a path and its query (RFC 3986 section 3.3)
USUAL = {"http": 80, "https": 443}


def base_of(target: Target) -> str:
    """The URL of a target as its probe asks for it."""
    host = target.server_name or str(target.inner[0])
    return f"{target.speaks}://{f'[{host}]' if ':' in host else host}:{target.port}{target.path}"


def next_page(target: Target, seen: Seen) -> str | None:
    """The path at the same address, port and protocol that a page sends on to (RFC 9110 section 10.2.2); None: it sends
    nowhere, or elsewhere.
    """
    page = seen.page
    if page is None or page.status not in SENDS_ON or page.location is None or target.speaks not in USUAL:
        return None
    try:
        to = urlsplit(urljoin(base_of(target), page.location))
        port = to.port or USUAL.get(to.scheme, 0)
    except ValueError:
        return None
    hosts = {(target.server_name or "").lower(), str(target.address), str(target.inner[0])}
    if to.scheme != target.speaks or port != target.port or (to.hostname or "").lower() not in hosts:
        return None
    return quote((to.path or "/") + (f"?{to.query}" if to.query else ""), safe=AS_IT_IS)


async def followed(target: Target, seen: Seen, ask: Callable[[Target, Seen], Awaitable[None]]) -> Seen:
    """What is seen at the end of the way, in the place of the first page. ask: probes a target once."""
    been, at = [target.path], target
    way = say("http-status", status=seen.page.status) if seen.page is not None else NOTHING
    while (path := next_page(at, seen)) is not None:
        if path in been or len(been) > STEPS:
            seen.problems.append(CIRCLE)
            seen.detail = way + say("redirect-circle")
            break
        been.append(path)
        at, further = replace(at, path=path), Seen()
        await ask(at, further)
        if further.page is None:
            missing = say("late") if further.verdict in SLOW else say("does-not-come", why=further.detail)
            seen.detail = way + say("redirect-ends", path=path[:60], missing=missing)
            if further.verdict not in SLOW:
                seen.problems.append("service-faulty")
            break
        way += say("redirect-step", path=path[:60], status=further.page.status)
        if further.verdict == "answered":
            further.detail = way + (say("with-title", title=further.page.title) if further.page.title else NOTHING)
        seen = further
    return seen


def redirected(target: Target, location: str) -> list[tuple[str, Said]]:
    """What a page that was asked for from outside gets wrong when it sends people on: to an inner address, without
    encryption, or without its port. From inside the same page may be right.
    """
    inner = str(target.inner[0])
    if str(target.address) == inner:
        return []
    try:
        to = urlsplit(location)
        host, port = (to.hostname or "").lower(), to.port or {"http": 80, "https": 443}.get(to.scheme, 0)
    except ValueError:
        return []
    to_where = location[:80]
    behind = str(target.behind.inner[0]) if target.behind is not None else inner
    if host in (inner, behind) and to.scheme in ("http", "https"):
        return [("inner-address", say("sends-inside", location=to_where))]
    if host not in (target.server_name, str(target.address)):
        return []
    if target.speaks == "https" and to.scheme == "http":
        return [("https-lost", say("sends-in-clear", location=to_where))]
    if to.scheme == target.speaks and port != target.port:
        return [("port-lost", say("sends-without-port", location=to_where, port=target.port))]
    return []
