"""Who reads the saved page of a router: a reader that another package adds for just such, else ours for any."""

from __future__ import annotations

from typing import Protocol, cast

from hooper.added import added, added_names
from hooper.planning.saved_page import PageRead, is_page, read_page


class PageReader(Protocol):
    """What reads the saved pages of some routers, or of all. reads: whether this is one of them, and no table of CSV or
    JSON. read: what it says. Raises: BadTable: nothing on it is understood. name: of the file, for messages.
    """

    def reads(self, text: str) -> bool: ...

    def read(self, text: str, name: str) -> PageRead: ...


class AnyPage:
    """The reader that knows no router, and reads what all pages have: lists, forms, scripts."""

    def reads(self, text: str) -> bool:
        return is_page(text)

    def read(self, text: str, name: str) -> PageRead:
        return read_page(text, name)


def reader_of(text: str) -> PageReader | None:
    """Who reads this page: one that another package adds for just such, else ours; None: it is none.

    Raises: AddedWrong.
    """
    for name in added_names("hooper.pages"):
        part = added("hooper.pages", name)
        made = part.giving(part(), ("reads", "read"), reads=bool, read=PageRead)
        if made.reads(text):
            return cast(PageReader, made)
    return AnyPage() if is_page(text) else None
