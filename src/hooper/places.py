"""Places that something is looked at from: one value, with the option that leads there again. Pure.

As people and the state write them: here, interface:NAME, hotspot, witness:KEY, socks5://[USER@]HOST:PORT; and what
only happens, such as arrival:ADDRESS, visit:NAME or peer:KEY, a tunnel that was on.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache
from typing import Literal, get_args
from urllib.parse import urlsplit

from hooper.chosen import guess
from hooper.secret import SecretRef
from hooper.words.said import NOTHING, Said, say

PlaceKind = Literal["here", "interface", "hotspot", "proxy", "arrival", "visit", "peer", "told", "witness", "elsewhere"]
SOCKS = "socks5://"


@dataclass(frozen=True)
class Place:
    """Where something is looked at from.

    name: of the interface, empty: the one that leads elsewhere; the proxy's host; the visitor's address or word. port,
    user, password: of a proxy. line: by which it leaves, where that is known; family: of what was sent, None: both or
    not known. These two say more of a place, and make it no other one.
    """

    kind: PlaceKind
    name: str = ""
    port: int = 0
    user: str | None = None
    password: SecretRef | None = field(default=None, compare=False, repr=False)
    line: str | None = field(default=None, compare=False)
    family: Literal["ipv4", "ipv6"] | None = field(default=None, compare=False)

    def __str__(self) -> str:
        """As it is written; `read` takes it."""
        if self.kind == "proxy":
            host = f"[{self.name}]" if ":" in self.name else self.name
            return f"{SOCKS}{f'{self.user}@' if self.user else ''}{host}:{self.port}"
        return f"{self.kind}:{self.name}" if self.name else self.kind

    @classmethod
    @lru_cache(1024)
    def read(cls, text: str) -> Place:
        """What `str` wrote. Raises: ValueError: it is none."""
        if text.startswith(SOCKS):
            url = urlsplit(text)
            if not url.hostname or url.path not in ("", "/") or url.query or url.fragment:
                raise ValueError(f"no SOCKS5 proxy: {text!r}")
            return cls("proxy", url.hostname, url.port or 1080, url.username)
        kind, _, name = text.partition(":")
        if kind not in get_args(PlaceKind) or kind == "proxy":
            raise ValueError(f"no place: {text!r}")
        return cls(kind, name)  # type: ignore[arg-type]

    @property
    def shown(self) -> str:
        """Its name, as documents and screens show it."""
        if self.kind == "proxy":
            return f"{self.name}:{self.port}"
        return self.name or self.kind

    @property
    def option(self) -> str | None:
        """What leads there again, as `--from` takes it; None: nothing that is typed alone does."""
        return (
            str(self)
            if self.kind in ("here", "interface", "witness") or (self.kind == "proxy" and not self.user)
            else None
        )

    @property
    def way_back(self) -> Said:
        """How to look from there again, where no option leads there; empty: one does."""
        if self.option is not None:
            return NOTHING
        return say(f"back-to.{self.kind}")  # without its name: that may be a stranger's word


HERE = Place("here")


class PlaceWrong(ValueError):
    """What is written is no place. remedy: what to write."""

    def __init__(self, message: str, remedy: str) -> None:
        super().__init__(message)
        self.remedy = remedy


def parse_place(text: str) -> Place:
    """A place that can be looked from. Raises: PlaceWrong; a password in it is never repeated."""
    kind, colon, name = text.partition(":")
    if kind in ("here", "interface", "hotspot", "witness") and not colon:
        return Place(kind)  # type: ignore[arg-type]
    if kind == "witness" and 0 < len(name) < 64:
        return Place("witness", name)
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
                "a password in it can be read by everyone on this computer",
                "Leave it out of the URL and give {} env:NAME or file:PATH.",
            )
        return place
    raise PlaceWrong(
        f"{text!r} is not understood",
        f"{guess(kind, ('here', 'interface', 'hotspot', 'witness'))}Give here, interface (the one that leads"
        " elsewhere), interface:NAME, hotspot, witness, witness:KEY, or socks5://HOST:PORT.",
    )
