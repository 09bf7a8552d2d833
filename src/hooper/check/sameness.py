"""Whether what was seen from outside is what is seen inside, and whether a page sends people elsewhere. Pure."""

from __future__ import annotations

from urllib.parse import urlsplit

from hooper.check.results import InsideSeen, PageSeen, Seen
from hooper.check.targets import Target
from hooper.words.said import Said, say


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
    if host == inner and to.scheme in ("http", "https"):
        return [("inner-address", say("sends-inside", location=to_where))]
    if host not in (target.server_name, str(target.address)):
        return []
    if target.speaks == "https" and to.scheme == "http":
        return [("https-lost", say("sends-in-clear", location=to_where))]
    if to.scheme == target.speaks and port != target.port:
        return [("port-lost", say("sends-without-port", location=to_where, port=target.port))]
    return []


def same_device(target: Target, seen: Seen, inside: InsideSeen) -> bool | None:
    """Whether outside and inside show the same: by certificate or host key, else by the greeting; many servers of SSH
    greet in the same words, and a page without encryption whose title is another one is another page. None: nothing to
    compare.
    """
    there = ("answered", "connected")
    if seen.verdict not in there or inside.verdict not in there:
        return None
    if seen.fingerprint or inside.fingerprint:
        return seen.fingerprint == inside.fingerprint if seen.fingerprint and inside.fingerprint else None
    if titles_differ(seen.page, inside.page):
        return False
    if target.speaks == "ssh" and seen.greeting == inside.greeting:
        return None
    return seen.greeting == inside.greeting if seen.greeting or inside.greeting else None


def statuses_differ(one: PageSeen | None, other: PageSeen | None) -> bool:
    """Whether two pages of the same moment say something else of themselves. A device that is busy with the other look
    (429, 5xx) says nothing, and where each is sent on need not be the same.
    """
    if one is None or other is None or one.status == other.status:
        return False
    return all(page.status < 500 and page.status != 429 and page.status // 100 != 3 for page in (one, other))


def titles_differ(one: PageSeen | None, other: PageSeen | None) -> bool:
    """Whether two pages that came in the same moment are not the same one."""
    if one is None or other is None or one.title is None or other.title is None:
        return False
    return one.status == other.status and one.title != other.title
