"""Profiles that some device exported: looked at, and mended in a copy."""

from __future__ import annotations

import difflib
import os
import re
import shlex
import stat
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from hooper.addresses import IPAddress
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.files import machine_error, read_whole, write_output
from hooper.secret import keep_out_of_output
from hooper.tunnels.documents import MendedDocument, ProfileFinding, ProfileRow, ProfilesDocument
from hooper.tunnels.exported import look_at, mended, twins_among
from hooper.tunnels.look import BaseLook, Flaw
from hooper.tunnels.openvpn_allowed import is_plain
from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.tunnels.openvpn_profiles import look_at_openvpn
from hooper.usecases.run import Run
from hooper.wire.ovpnfile import FILES, SECRET_FILES, parse
from hooper.wire.wgfile import SIZE_LIMIT

Format = Literal["wireguard", "openvpn"]
BESIDE = 32  # files beside one profile that are looked at

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
OTHER_FORMATS = ((re.compile(r"^\s*\{", re.MULTILINE), "JSON"), (re.compile(r"^\s*<\?xml|<plist", re.MULTILINE), "XML"))


def check(
    run: Run, files: tuple[Path, ...], public: Mapping[str, IPAddress] = {}
) -> tuple[ProfilesDocument, list[HooperError]]:
    """What is wrong in each file, and among them.

    public: addresses by line that were given. Raises: UsageError; what cannot be read is trouble.
    """
    looks: dict[str, BaseLook] = {}
    formats: dict[str, Format] = {}
    rows: list[ProfileRow] = []
    trouble: list[HooperError] = []
    for path in files:
        try:
            text, wide, kind = _read(path)
            looks[str(path)] = _looker(run, kind, path, public)(text)
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


def _looker(
    run: Run, kind: Format, path: Path, public: Mapping[str, IPAddress], take_in: Sequence[str] = ()
) -> Callable[[str], BaseLook]:
    """What looks at a file of this kind."""
    if kind == "wireguard":
        return lambda text: look_at(run.topology, text, public)
    beside: dict[str, str | None] = {}

    def look(text: str) -> BaseLook:
        for option in parse(text).options:
            name = option.word(0)
            if option.name in FILES and name not in beside and is_plain(name) and len(beside) < BESIDE:
                beside[name] = _text_beside(path.parent / name, secret=option.name in SECRET_FILES)
        return look_at_openvpn(run.topology, text, public, beside, run.at, frozenset(take_in))

    return look


def _text_beside(path: Path, *, secret: bool) -> str | None:
    """The text of a file beside a profile; None: none is there, or it is a link, a pipe or the like."""
    try:
        text = read_whole(path, SIZE_LIMIT, follow=False).decode("utf-8-sig", "replace")
    except OSError:
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
        data = read_whole(path, SIZE_LIMIT)
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None
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


def _shared(path: Path, called: str = "it") -> list[Flaw]:
    """Whether others on this computer can read it. called: in the sentence about that."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return []
    if os.name == "nt" or not stat.S_ISREG(mode) or not mode & 0o077:
        return []
    remedy = f"chmod 600 {shlex.quote(str(path))}"
    return [Flaw("profile-readable", 0, f"others can read {called}: its mode is {mode & 0o777:03o}", remedy)]


def _shared_beside(look: BaseLook, path: Path) -> list[Flaw]:
    """Whether others can read a secret file that lies beside it."""
    if not isinstance(look, OpenVpnLook):
        return []
    named = (one.word(0) for one in look.file.options if one.name in SECRET_FILES)
    names = dict.fromkeys(name for name in named if look.beside.get(name) is not None)
    return [fault for name in names for fault in _shared(path.parent / name, name)]


@dataclass(frozen=True)
class MendRequest:
    """out: the new file. force: replace one that Hooper did not write. public: as above. take_in: the names of files
    beside it that are to be put inside. keep: lines that stay as they are. dry_run: write nothing.
    """

    file: Path
    out: Path
    force: bool = False
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    take_in: tuple[str, ...] = ()
    keep: tuple[int, ...] = ()
    dry_run: bool = False


def mend(run: Run, request: MendRequest) -> tuple[MendedDocument, list[HooperError]]:
    """A mended copy; the file itself stays as it is. Raises: UsageError, RefusedForSafety, MachineError."""
    text, wide, kind = _read(request.file)
    look = _looker(run, kind, request.file, request.public, request.take_in)
    _refuse_strange(request, text, look)
    if request.out.exists() and request.file.exists() and request.out.samefile(request.file):
        raise RefusedForSafety(
            f"{request.out} is the file itself, which is never overwritten",
            code="not-overwritten",
            remedy="Name another file.",
        )
    new, done = mended(look, text, request.keep)
    left = look(new).faults
    named = {one.word(0) for one in parse(new).options if one.name in FILES} if kind == "openvpn" else set()
    if (still := next((name for name in request.take_in if name in named), None)) is not None:
        why = next((one.message for one in left if still in one.message), "it is no part of such a profile")
        raise UsageError(f"{still} cannot be taken in: {why}", remedy="See what it is, or export with all inside.")
    if new != text or wide:
        done += [WIDE] if wide else []
    if (new != text or wide) and not request.dry_run:
        write_output(request.out, new.encode(), keep=(run.path, request.file), force=request.force, private=True)
    document = MendedDocument(
        str(request.file),
        str(request.out) if new != text or wide else None,
        tuple(map(_finding, done)),
        tuple(map(_finding, left)),
        tuple(_difference(text, new)),
    )
    return document, []


def _refuse_strange(request: MendRequest, text: str, look: Callable[[str], BaseLook]) -> None:
    """Raises: UsageError: a file is to be taken in that the profile does not name, or a line kept that stays anyway."""
    named = {one.word(0) for one in parse(text).options if one.name in FILES}
    for name in request.take_in:
        if name not in named or not is_plain(name):
            reason = "is not named in it" if is_plain(name) else "is a path, and only what lies beside is taken in"
            raise UsageError(f"{name} {reason}", remedy="Name a file as the profile does, such as ca.crt.")
    wrong = {fault.line for fault in look(text).faults if fault.edits}
    for line in request.keep:
        if line not in wrong:
            raise UsageError(f"line {line} would stay anyway", remedy="Leave it out, or name another line.")


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
