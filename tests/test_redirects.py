"""Redirections of a page, followed as a browser does as long as they stay at the service's own address and port."""

from __future__ import annotations

from ipaddress import IPv4Address

import anyio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.redirects import CIRCLE, followed, next_page
from hooper.check.results import PageSeen, Seen
from hooper.check.targets import Target
from hooper.words.said import quoted

PUBLIC, NAME = IPv4Address("203.0.113.44"), "boathouse.heronquay.example"
TARGET = Target("hub-page", "https", "tcp", "fibre", PUBLIC, 8443, (IPv4Address("10.44.7.50"), 8443), "reachable",
                server_name=NAME)  # fmt: skip


def page(location: str | None, status: int = 302, title: str | None = None) -> Seen:
    return Seen(verdict="answered", detail=quoted(f"HTTP {status}"), page=PageSeen(status, None, title, location))


@pytest.mark.parametrize(
    ("location", "path"),
    [
        ("/login", "/login"),
        ("login?next=/", "/login?next=/"),
        ("/a b\u00e4", "/a%20b%C3%A4"),
        ("/a\r\nHost: x", "/aHost:%20x"),
        ("//boathouse.heronquay.example:8443/a", "/a"),
        (f"https://{NAME}:8443/start", "/start"),
        ("https://203.0.113.44:8443", "/"),
        (f"https://{NAME}/start", None),
        (f"http://{NAME}:8443/start", None),
        ("https://other.example:8443/", None),
        ("https://[::1", None),
        ("https://boathouse.heronquay.example:99999/", None),
        ("ftp://x/", None),
    ],
)
def test_only_what_stays_there_is_followed(location: str, path: str | None) -> None:
    assert next_page(TARGET, page(location)) == path
    assert next_page(TARGET, page(location, status=200)) is None


@given(st.text(max_size=60))
def test_no_location_breaks_the_look(location: str) -> None:
    path = next_page(TARGET, page(location))
    assert path is None or path.startswith("/")


def walk(pages: dict[str, Seen]) -> Seen:
    async def ask(target: Target, into: Seen) -> None:
        found = pages[target.path]
        into.verdict, into.detail, into.page = found.verdict, found.detail, found.page

    async def work() -> Seen:
        return await followed(TARGET, pages["/"], ask)

    return anyio.run(work)


def test_the_page_at_the_end_counts() -> None:
    seen = walk({"/": page("/a"), "/a": page("/b", 301), "/b": page(None, 200, "Heating")})
    assert (str(seen.detail), seen.problems) == ("HTTP 302, then /a: HTTP 301, then /b: HTTP 200 'Heating'", [])
    assert seen.page == PageSeen(200, None, "Heating", None)


def test_a_way_that_leaves_is_judged_where_it_leaves() -> None:
    seen = walk({"/": page("/a"), "/a": page(f"https://{NAME}/a")})
    assert seen.page is not None
    assert seen.page.location == f"https://{NAME}/a", "the step that loses the port"


def test_circles_end() -> None:
    assert walk({"/": page("/a"), "/a": page("/")}).problems == [CIRCLE]
    assert walk({"/": page("/")}).problems == [CIRCLE]
    endless = {"/": page("/1"), **{f"/{n}": page(f"/{n + 1}") for n in range(1, 40)}}
    assert walk(endless).problems == [CIRCLE]


def test_a_page_that_does_not_come_is_told() -> None:
    gone = Seen(verdict="refused", detail=quoted("203.0.113.44:8443 refuses the connection"))
    seen = walk({"/": page("/a"), "/a": gone})
    assert (seen.problems, "does not come: 203.0.113.44:8443 refuses" in str(seen.detail)) == (["service-faulty"], True)
    late = walk({"/": page("/a"), "/a": Seen()})
    assert (late.problems, str(late.detail).endswith("did not come in time")) == ([], True)
