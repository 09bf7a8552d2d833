"""What tells a page again: its title, and the sizes of its pictures, which a browser elsewhere can
measure too. It tells the make alone; what is otherwise speaks against it.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING
from urllib.parse import quote, urljoin, urlsplit

import anyio

from hooper.errors import HooperError
from hooper.net.plain_http import Url, ask
from hooper.planning.page_tree import tree_of
from hooper.store.kept import PageKnown
from hooper.wire.head import page_title
from hooper.wire.images import picture_size

if TYPE_CHECKING:
    from hooper.check.targets import Target
    from hooper.net.types import Door

MOST = 6  # pictures of a page


async def page_known(door: Door, target: Target, deadline: float) -> PageKnown | None:
    """The page of a service at its inner address; None: it has none. deadline: seconds for each request."""
    (address, port), secure = target.inner, target.speaks == "https"
    try:
        answer = await ask(door, Url(address, port, target.path), deadline, secure=secure)
    except HooperError:
        return None
    found: dict[str, tuple[int, int]] = {}

    async def one(path: str) -> None:
        try:
            got = await ask(door, Url(address, port, path), deadline, secure=secure)
        except HooperError:
            return
        if (size := picture_size(got.body)) is not None:
            found[path] = size

    paths = list(dict.fromkeys(_pictures(answer.body.decode("utf-8", "replace"), target.path)))[:MOST]
    async with anyio.create_task_group() as tasks:
        for path in paths:
            tasks.start_soon(one, path)
    return PageKnown(page_title(answer.body), tuple((path, *found[path]) for path in paths if path in found))


def _pictures(page: str, path: str) -> Iterator[str]:
    """The paths of its pictures, as far as they stand on the same server."""
    for node in tree_of(page).all("img", "link"):
        icon = node.tag == "link" and "icon" in node.attributes.get("rel", "").lower()
        link = node.attributes.get("href" if icon else "src", "")
        try:
            parts = urlsplit(urljoin(f"http://here{path}", link)) if link else None
        except ValueError:
            continue
        if parts is not None and (parts.scheme, parts.netloc) == ("http", "here"):
            yield quote(parts.path or "/", "/%") + (f"?{quote(parts.query, '=&%+')}" if parts.query else "")
