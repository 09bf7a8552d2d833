"""WireGuard's file format, as wg(8) and wg-quick(8) have it, read with the place of each value, for mending.

Sections in brackets, `Key = Value` lines, comments from # on. Keys and section names know no case.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field

# wg(8), "configuration file format", then what wg-quick(8) takes beside it
INTERFACE = ("PrivateKey", "ListenPort", "FwMark")
QUICK = ("Address", "DNS", "MTU", "Table", "PreUp", "PostUp", "PreDown", "PostDown", "SaveConfig")
PEER = ("PublicKey", "PresharedKey", "AllowedIPs", "Endpoint", "PersistentKeepalive")
KEYS = {"interface": (*INTERFACE, *QUICK), "peer": PEER}
HOOKS = ("preup", "postup", "predown", "postdown")  # wg-quick(8) gives their values to a shell, wherever they stand
SEVERAL = ("address", "dns", "allowedips", "preup", "postup", "predown", "postdown")
SIZE_LIMIT = 256 * 1024  # bytes; a server's file with a thousand peers has less
_LINE = re.compile(r"[^\n]*(?:\n|$)")


@dataclass(frozen=True, slots=True)
class Entry:
    """One value. key: in lower case. name: as written. line: from 1. start, end: of the value, in characters of the
    text. line_start, line_end: of its whole line, the line's end included.
    """

    key: str
    name: str
    value: str
    line: int
    start: int
    end: int
    line_start: int
    line_end: int

    @property
    def items(self) -> tuple[str, ...]:
        """The parts of a list."""
        return tuple(part.strip() for part in self.value.split(",") if part.strip())


@dataclass(slots=True)
class Section:
    """kind: interface, peer, or what else stands in the brackets. start: of its first line; end: where a further line
    of it would stand.
    """

    kind: str
    line: int
    start: int
    end: int
    entries: list[Entry] = field(default_factory=list)

    def get(self, key: str) -> Entry | None:
        """The last entry of a key, which is the one that counts."""
        return next((entry for entry in reversed(self.entries) if entry.key == key.lower()), None)

    def every(self, key: str) -> list[Entry]:
        return [entry for entry in self.entries if entry.key == key.lower()]

    def items(self, key: str) -> tuple[str, ...]:
        """The parts of a list that may stand in several lines."""
        return tuple(part for entry in self.every(key) for part in entry.items)


@dataclass(frozen=True, slots=True)
class Stray:
    """A line that is neither a section, nor a value, nor a comment; or a value before the first section."""

    line: int
    text: str
    start: int
    end: int


@dataclass(slots=True)
class WireGuardFile:
    """text: as it was read, its line ends included."""

    text: str
    sections: list[Section] = field(default_factory=list)
    strays: list[Stray] = field(default_factory=list)

    @property
    def interface(self) -> Section | None:
        return next((one for one in self.sections if one.kind == "interface"), None)

    @property
    def peers(self) -> list[Section]:
        return [one for one in self.sections if one.kind == "peer"]


def parse(text: str) -> WireGuardFile:
    """Read a file, whatever stands in it. A byte order mark and CRLF are taken as they come."""
    found = WireGuardFile(text)
    number = 0
    for match in _LINE.finditer(text):
        start, end = match.span()
        if start == end:
            break
        number += 1
        body = match[0].rstrip("\r\n")
        code = body.partition("#")[0]
        shift = 1 if start == 0 and code.startswith("\ufeff") else 0
        stripped = code[shift:].strip()
        if not stripped:
            continue
        section = re.fullmatch(r"\[\s*([^\]]*?)\s*\]", stripped)
        if section is not None:
            found.sections.append(Section(section[1].lower(), number, start, end))
            continue
        name, sign, value = code[shift:].partition("=")
        if not sign or not name.strip() or name.lstrip().startswith("[") or not found.sections:
            found.strays.append(Stray(number, stripped, start, end))
            continue
        at = start + shift + len(name) + 1 + (len(value) - len(value.lstrip()))
        written = value.strip()
        entry = Entry(name.strip().lower(), name.strip(), written, number, at, at + len(written), start, end)
        found.sections[-1].entries.append(entry)
        found.sections[-1].end = end
    return found
