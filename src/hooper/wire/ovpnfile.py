"""OpenVPN's file format, as openvpn(8) has it, read with the place of each option, for mending.

One option a line, its words parted by blanks, in quotes where they hold some; comments from # or ; on. A file may stand
inside, between <name> and </name>; <connection> holds options.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from hooper.errors import WireError

if TYPE_CHECKING:
    from hooper.wire.openvpn import Guard, Role

SIZE_LIMIT = 256 * 1024  # bytes
# what may be a file beside, or stand inside
FILES = (
    "ca", "cert", "key", "tls-auth", "tls-crypt", "tls-crypt-v2", "pkcs12", "extra-certs", "dh", "secret", "crl-verify",
    "auth-user-pass", "http-proxy-user-pass", "askpass", "auth-gen-token-secret",
)  # fmt: skip
SECRET_FILES = (
    "key", "tls-auth", "tls-crypt", "tls-crypt-v2", "pkcs12", "secret", "auth-user-pass", "http-proxy-user-pass",
    "askpass", "auth-gen-token-secret",
)  # fmt: skip
_LINE = re.compile(r"[^\n]*(?:\n|$)")


@dataclass(frozen=True, slots=True)
class Directive:
    """One option. words: what follows its name. line: from 1. start, end: of its whole line in characters of the text,
    the line's end included. connection: the number of the <connection> that it stands in; None: in none.
    """

    name: str
    words: tuple[str, ...]
    line: int
    start: int
    end: int
    connection: int | None = None

    def word(self, number: int) -> str:
        """One of its words, from 0; empty: it has not so many."""
        return self.words[number] if number < len(self.words) else ""


@dataclass(frozen=True, slots=True)
class Inline:
    """A file that stands inside. text: its lines. start, end: of it all, its two tags included."""

    name: str
    text: str
    line: int
    start: int
    end: int


@dataclass(slots=True)
class OpenVpnFile:
    """text: as it was read. strays: the lines that cannot be read, with why. open: the tag that is never closed."""

    text: str
    options: list[Directive] = field(default_factory=list)
    inlines: list[Inline] = field(default_factory=list)
    strays: list[tuple[int, str]] = field(default_factory=list)
    connections: int = 0

    def get(self, name: str) -> Directive | None:
        """The last option of a name, which is the one that counts."""
        return next((one for one in reversed(self.options) if one.name == name), None)

    def every(self, name: str) -> list[Directive]:
        return [one for one in self.options if one.name == name]

    def inline(self, name: str) -> Inline | None:
        """A file inside; the last of a name counts."""
        return next((one for one in reversed(self.inlines) if one.name == name), None)

    def has(self, name: str) -> bool:
        """Whether an option or a file of that name is there."""
        return self.get(name) is not None or self.inline(name) is not None

    @property
    def direction(self) -> int | None:
        """Which half of a static key this side signs with: 0, 1, or None: both use the same."""
        said, option = self.get("key-direction"), self.get("tls-auth")
        word = said.word(0) if said is not None else option.word(1) if option is not None else ""
        return int(word) if word in ("0", "1") else None

    @property
    def newline(self) -> str:
        return "\r\n" if "\r\n" in self.text else "\n"


def parse(text: str) -> OpenVpnFile:
    """Read a file, whatever stands in it. A byte order mark and CRLF are taken as they come."""
    found, connection = OpenVpnFile(text), None
    lines = _lines(text)
    for number, start, end, body in lines:
        tag = re.fullmatch(r"<([^/<>\s][^<>\s]*)>", body)
        if body == "</connection>" and connection is not None:
            connection = None
        elif tag is not None and tag[1] == "connection":
            connection, found.connections = found.connections, found.connections + 1
        elif tag is not None:
            _inline(found, tag[1], number, start, end, lines)
        elif body and body[0] not in "#;":
            words = split(body)
            if words is None:
                found.strays.append((number, "a quote is not closed, or a backslash stands before what needs none"))
            elif words:
                name = words[0].removeprefix("--")
                found.options.append(Directive(name, tuple(words[1:]), number, start, end, connection))
    return found


def guard_of(file: OpenVpnFile, role: Role = "client") -> Callable[[], Guard]:
    """What a side with this file guards its packets with; made anew for each conversation.

    Raises: WireError: its key cannot be read, or stands in a file beside it.
    """
    from hooper.wire.openvpn import DIGESTS, Bare, TlsAuth, TlsCrypt, parse_client_key, parse_static_key

    for name in ("tls-crypt-v2", "tls-crypt", "tls-auth"):
        inside, option = file.inline(name), file.get(name)
        if inside is None and option is not None:
            raise WireError(name, 0, f"it stands in the file {option.word(0)}, and not inside")
        if inside is None:
            continue
        if name == "tls-crypt-v2":
            key, wrapped = parse_client_key(inside.text)
            return lambda: TlsCrypt(key, "client", wrapped)
        static = parse_static_key(inside.text)
        if name == "tls-crypt":
            return lambda: TlsCrypt(static, role)
        direction, auth = file.direction, file.get("auth")
        digest = (auth.word(0) if auth is not None else "SHA1").upper().replace("-", "")  # openvpn(8), --auth
        if digest not in DIGESTS:
            raise WireError("auth", 0, f"{digest} is not known here")
        return lambda: TlsAuth(static, direction, digest)
    return Bare


def _lines(text: str) -> Iterator[tuple[int, int, int, str]]:
    """Number, place and text of each line, without blanks around it."""
    for number, match in enumerate(_LINE.finditer(text), 1):
        start, end = match.span()
        if start == end:
            return
        body = match[0].strip()
        yield number, start, end, body.removeprefix("\ufeff") if start == 0 else body


def _inline(
    found: OpenVpnFile, name: str, number: int, start: int, end: int, lines: Iterator[tuple[int, int, int, str]]
) -> None:
    for _, here, after, body in lines:
        if body == f"</{name}>":
            found.inlines.append(Inline(name, found.text[end:here], number, start, after))
            return
    found.strays.append((number, f"<{name}> is never closed"))


def split(line: str) -> list[str] | None:
    """The words of a line, as the software takes them apart; None: it refuses it.

    A word that begins with a quote ends with it. A backslash stands before a backslash, a quote or a blank, but in
    single quotes. A comment begins where a word would.
    """
    words: list[str] = []
    word, state, escaped = "", " ", False  # state: a blank, a quote, or w within a word
    for sign in f"{line}\0":
        blank = sign == "\0" or sign.isspace()
        if sign == "\\" and not escaped and state != "'":
            escaped = True
            continue
        if escaped and not (sign in '\\"' or blank):
            return None
        if state == " " and not blank:
            if sign in "#;":
                break
            state = sign if sign in "\"'" and not escaped else "w"
            word = sign if state == "w" else ""
        elif (state == "w" and blank and not escaped) or (state == sign and not escaped and state in "\"'"):
            words.append(word)
            word, state = "", " "
        elif state == " " and escaped:
            word, state = sign, "w"
        elif state != " ":
            word += sign
        escaped = False
    return words if state == " " else None
