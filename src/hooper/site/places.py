"""Places to look from, as people write them: here, interface, interface:NAME, hotspot, socks5://[USER@]HOST:PORT.

Pure.
"""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urlsplit

from hooper.secret import SecretRef
from hooper.site.words import guess


@dataclass(frozen=True)
class Origin:
    """A place to look from.

    name: of the interface, empty: the one that leads elsewhere; or the proxy's host. password: of the proxy's user.
    """

    kind: str  # here, interface, hotspot, proxy
    name: str = ""
    port: int = 0
    user: str | None = None
    password: SecretRef | None = None

    def __str__(self) -> str:
        if self.kind == "proxy":
            return f"socks5://{f'{self.user}@' if self.user else ''}{self.name}:{self.port}"
        return f"interface:{self.name}" if self.name else self.kind


class PlaceWrong(ValueError):
    """What is written is no place. remedy: what to write."""

    def __init__(self, message: str, remedy: str) -> None:
        super().__init__(message)
        self.remedy = remedy


def parse_origin(text: str) -> Origin:
    """Raises: PlaceWrong; a password in it is never repeated."""
    if text in ("here", "interface", "hotspot"):
        return Origin(text)
    kind, colon, rest = text.partition(":")
    if kind == "interface" and colon and rest and len(rest) < 64:
        return Origin("interface", rest)
    if text.startswith("socks5://"):
        try:
            url = urlsplit(text)
            if url.password is not None:
                raise PlaceWrong(
                    "a password in it can be read by everyone on this machine",
                    "Leave it out of the URL and give {} env:NAME or file:PATH.",
                )
            if url.hostname and url.path in ("", "/") and not url.query and not url.fragment:
                return Origin("proxy", url.hostname, url.port or 1080, url.username)
        except PlaceWrong:
            raise
        except ValueError:
            pass
        raise PlaceWrong("not a SOCKS5 URL", "Write it like socks5://198.51.100.7:1080.")
    raise PlaceWrong(
        f"{text!r} is not understood",
        f"{guess(kind, ('here', 'interface', 'hotspot'))}Give here, interface (the one that leads elsewhere),"
        " interface:NAME, hotspot, or socks5://HOST:PORT.",
    )
