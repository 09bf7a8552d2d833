"""Profiles that some device exported: looked at, and mended in a copy."""

from __future__ import annotations

import difflib
import os
import re
import stat
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

from hooper.addresses import IPAddress
from hooper.errors import HooperError, MachineError, RefusedForSafety, UsageError
from hooper.files import machine_error, write_output
from hooper.secret import keep_out_of_output
from hooper.tunnels.look import BaseLook, Flaw
from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.tunnels.openvpn_profiles import look_at_openvpn
from hooper.tunnels.profiles import look_at, mended, twins_among
from hooper.tunnels.rows import MendedDocument, ProfileFinding, ProfileRow, ProfilesDocument
from hooper.usecases.run import Run
from hooper.wire.ovpnfile import FILES, SECRET_FILES, parse
from hooper.wire.wgfile import SIZE_LIMIT

Format = Literal["wireguard", "openvpn"]

_SECRET = re.compile(r"^(\s*(?:private|preshared)key\s*=\s*)(\S.*?)(\s*)$", re.IGNORECASE | re.MULTILINE)
_WIREGUARD = re.compile(r"^\s*\[\s*(interface|peer)\s*\]|^\s*interface\]|peer\]", re.IGNORECASE | re.MULTILINE)
_OPENVPN = re.compile(r"^\s*(--)?(client|remote\s|dev\s|<ca>|tls-client|tls-server|proto\s|ca\s)", re.MULTILINE)
WIDE = Flaw(
    "profile-unreadable",
    0,
    "it is written in UTF-16, which the software does not read",
    "Save it as UTF-8.",
    "it is written in UTF-8",
)
OTHER_FORMATS = (
    (re.compile(r"^\s*\{", re.MULTILINE), "JSON"),
    (re.compile(r"^\s*<\?xml|<plist", re.MULTILINE), "XML"),
)


@dataclass(frozen=True)
class ProfilesRequest:
    """public: addresses by line that were given."""

    files: tuple[Path, ...]
    public: Mapping[str, IPAddress] = field(default_factory=dict)


def check(run: Run, request: ProfilesRequest) -> tuple[ProfilesDocument, list[HooperError]]:
    """What is wrong in each file, and among them. Raises: UsageError; what cannot be read is trouble."""
    looks: dict[str, BaseLook] = {}
    formats: dict[str, Format] = {}
    rows: list[ProfileRow] = []
    trouble: list[HooperError] = []
    for path in request.files:
        try:
            text, wide, kind = _read(path)
            looks[str(path)] = _looker(run, kind, path, request.public)(text)
            looks[str(path)].faults += [WIDE] if wide else []
            formats[str(path)] = kind
        except HooperError as exc:
            trouble.append(exc)
    among: dict[str, list[Flaw]] = {}
    for name, fault in twins_among(looks):
        among.setdefault(name, []).append(fault)
    for name, look in looks.items():
        faults = [*look.faults, *among.get(name, []), *_shared(Path(name)), *_shared_beside(look, Path(name))]
        found = tuple(map(_finding, faults))
        rows.append(ProfileRow(name, formats[name], look.tunnel_key, look.peer_key, look.is_server, found))
    return ProfilesDocument(tuple(rows)), trouble


def _looker(run: Run, kind: Format, path: Path, public: Mapping[str, IPAddress]) -> Callable[[str], BaseLook]:
    """What looks at a file of this kind."""
    if kind == "wireguard":
        return lambda text: look_at(run.topology, text, public)

    def look(text: str) -> BaseLook:
        return look_at_openvpn(run.topology, text, public, _beside(path, text), run.at)

    return look


def _beside(path: Path, text: str) -> dict[str, str | None]:
    """The text of each file that an OpenVPN profile names; None: it is not there, or is no text."""
    found: dict[str, str | None] = {}
    for option in parse(text).options:
        name = option.word(0)
        if option.name in FILES and name and name not in ("[inline]", "none"):
            found[name] = _text_beside(path.parent / name, secret=option.name in SECRET_FILES)
    return found


def _text_beside(path: Path, *, secret: bool) -> str | None:
    try:
        with path.open("rb") as file:
            text = file.read(SIZE_LIMIT).decode("utf-8-sig", "replace")
    except (OSError, ValueError):
        return None
    if secret:
        keep_out_of_output(text.strip())
    return text


def _finding(fault: Flaw) -> ProfileFinding:
    return ProfileFinding(fault.code, fault.severity, fault.line, fault.message, fault.remedy, fault.mend or None)


def _read(path: Path) -> tuple[str, bool, Format]:
    """A file of a tunnel, whether it is UTF-16, and its format; its secrets are kept out of all output.

    Raises: MachineError, UsageError.
    """
    try:
        with path.open("rb") as file:
            data = file.read(SIZE_LIMIT + 1)
    except (OSError, ValueError) as exc:
        if isinstance(exc, OSError):
            raise machine_error(exc, f"{path} cannot be read") from None
        raise MachineError(f"{path!r} cannot be read: {exc}") from None
    if len(data) > SIZE_LIMIT:
        raise UsageError(f"{path} is larger than {SIZE_LIMIT // 1024} KiB: it is no profile", remedy="Name another.")
    wide = data[:2] in (b"\xff\xfe", b"\xfe\xff")
    try:
        text = data.decode("utf-16" if wide else "utf-8")
    except UnicodeDecodeError as exc:
        raise UsageError(
            f"{path} is no text: byte {exc.start} cannot be read", remedy="Export it as a .conf file, not as a picture."
        ) from None
    if _WIREGUARD.search(text):
        for match in _SECRET.finditer(text):
            keep_out_of_output(match[2])
        return text, wide, "wireguard"
    if _OPENVPN.search(text):
        for inside in parse(text).inlines:
            if inside.name in SECRET_FILES:
                keep_out_of_output(inside.text.strip())
        return text, wide, "openvpn"
    kind = next((name for pattern, name in OTHER_FORMATS if pattern.search(text)), None)
    what = f"it looks like {kind}" if kind else "it has neither [Interface] and [Peer], nor `client` and `remote`"
    raise UsageError(
        f"{path} is neither in WireGuard's format nor in OpenVPN's: {what}",
        remedy="Export it as a WireGuard .conf or an OpenVPN .ovpn file.",
    )


def _shared(path: Path) -> list[Flaw]:
    """Whether others on this machine can read it."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return []
    if os.name == "nt" or not stat.S_ISREG(mode) or not mode & 0o077:
        return []
    return [Flaw("profile-readable", 0, f"others can read it: its mode is {mode & 0o777:03o}", f"chmod 600 {path}")]


def _shared_beside(look: BaseLook, path: Path) -> list[Flaw]:
    """Whether others can read a secret file that lies beside it."""
    if not isinstance(look, OpenVpnLook):
        return []
    names = dict.fromkeys(one.word(0) for one in look.file.options if one.name in SECRET_FILES and one.words)
    return [
        replace(fault, message=f"others can read {name}: {fault.message.partition(': ')[2]}")
        for name in names
        for fault in _shared(path.parent / name)
    ]


@dataclass(frozen=True)
class MendRequest:
    """out: the new file. force: replace one of another hand. public: as above."""

    file: Path
    out: Path
    force: bool = False
    public: Mapping[str, IPAddress] = field(default_factory=dict)


def mend(run: Run, request: MendRequest) -> tuple[MendedDocument, list[HooperError]]:
    """A mended copy; the file itself stays as it is. Raises: UsageError, RefusedForSafety, MachineError."""
    text, wide, kind = _read(request.file)
    look = _looker(run, kind, request.file, request.public)
    if request.out.exists() and request.file.exists() and request.out.samefile(request.file):
        raise RefusedForSafety(
            f"{request.out} is the file itself, which is never overwritten",
            code="not-overwritten",
            remedy="Name another file.",
        )
    new, done = mended(look, text)
    left = look(new).faults
    if new != text or wide:
        done += [WIDE] if wide else []
        write_output(request.out, new.encode(), keep=(run.path, request.file), force=request.force, private=True)
    document = MendedDocument(
        str(request.file),
        str(request.out) if new != text or wide else None,
        tuple(map(_finding, done)),
        tuple(map(_finding, left)),
        tuple(_difference(text, new)),
    )
    return document, []


def _difference(before: str, after: str) -> list[str]:
    """The lines that are different, without their secrets."""
    one, other = (_without_secrets(text).splitlines() for text in (before, after))
    return [line for line in difflib.unified_diff(one, other, lineterm="", n=0) if line[:2] not in ("--", "++", "@@")]


def _without_secrets(text: str) -> str:
    """A file with what is secret in it left out."""
    text = _SECRET.sub(r"\1[secret]\3", text)
    for inside in sorted(parse(text).inlines, key=lambda one: one.start, reverse=True):
        if inside.name in SECRET_FILES:
            text = f"{text[: inside.start]}<{inside.name}>[secret]</{inside.name}>\n{text[inside.end :]}"
    return text
