"""Places to look from, as people write them: here, interface, interface:NAME, hotspot, socks5://[USER@]HOST:PORT.

Pure.
"""

from __future__ import annotations

from urllib.parse import urlsplit

from hooper.places import SOCKS, Place
from hooper.site.words import guess


class PlaceWrong(ValueError):
    """What is written is no place. remedy: what to write."""

    def __init__(self, message: str, remedy: str) -> None:
        super().__init__(message)
        self.remedy = remedy


def parse_place(text: str) -> Place:
    """A place that can be looked from. Raises: PlaceWrong; a password in it is never repeated."""
    kind, colon, name = text.partition(":")
    if kind in ("here", "interface", "hotspot") and not colon:
        return Place(kind)  # type: ignore[arg-type]
    if kind == "interface" and 0 < len(name) < 64:
        return Place("interface", name)
    if text.startswith(SOCKS):
        try:
            has_password = urlsplit(text).password is not None
            place = Place.read(text)
        except ValueError:
            raise PlaceWrong("not a SOCKS5 URL", "Write it like socks5://198.51.100.7:1080.") from None
        if has_password:
            raise PlaceWrong(
                "a password in it can be read by everyone on this machine",
                "Leave it out of the URL and give {} env:NAME or file:PATH.",
            )
        return place
    raise PlaceWrong(
        f"{text!r} is not understood",
        f"{guess(kind, ('here', 'interface', 'hotspot'))}Give here, interface (the one that leads elsewhere),"
        " interface:NAME, hotspot, or socks5://HOST:PORT.",
    )
