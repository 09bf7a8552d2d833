"""Profiles that some device exported: looked at, and mended in a copy."""

from __future__ import annotations

import difflib
import os
import re
import stat
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from hooper.addresses import IPAddress
from hooper.errors import HooperError, MachineError, RefusedForSafety, UsageError
from hooper.files import machine_error, write_output
from hooper.secret import keep_out_of_output
from hooper.tunnels.look import Flaw, Look
from hooper.tunnels.profiles import look_at, mended, twins_among
from hooper.tunnels.rows import MendedDocument, ProfileFinding, ProfileRow, ProfilesDocument
from hooper.usecases.run import Run
from hooper.wire.wgfile import SIZE_LIMIT

_SECRET = re.compile(r"^(\s*(?:private|preshared)key\s*=\s*)(\S.*?)(\s*)$", re.IGNORECASE | re.MULTILINE)
WIDE = Flaw(
    "profile-unreadable",
    0,
    "it is written in UTF-16, which the software does not read",
    "Save it as UTF-8.",
    "it is written in UTF-8",
)
OTHER_FORMATS = (
    (re.compile(r"^\s*(client|remote|<ca>|dev\s+tun)", re.MULTILINE), "OpenVPN's"),
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
    looks: dict[str, Look] = {}
    rows: list[ProfileRow] = []
    trouble: list[HooperError] = []
    for path in request.files:
        try:
            text, wide = _read(path)
            looks[str(path)] = look_at(run.topology, text, request.public)
            looks[str(path)].faults += [WIDE] if wide else []
        except HooperError as exc:
            trouble.append(exc)
    among: dict[str, list[Flaw]] = {}
    for name, fault in twins_among(looks):
        among.setdefault(name, []).append(fault)
    for name, look in looks.items():
        faults = [*look.faults, *among.get(name, []), *_shared(Path(name))]
        rows.append(
            ProfileRow(name, "wireguard", look.tunnel_key, look.peer_key, look.is_server, tuple(map(_finding, faults)))
        )
    return ProfilesDocument(tuple(rows)), trouble


def _finding(fault: Flaw) -> ProfileFinding:
    return ProfileFinding(fault.code, fault.severity, fault.line, fault.message, fault.remedy, fault.mend or None)


def _read(path: Path) -> tuple[str, bool]:
    """A file of a tunnel, and whether it is UTF-16; its secrets are kept out of all output.

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
    if "[" not in text or ("interface" not in text.lower() and "peer]" not in text.lower()):
        kind = next((name for pattern, name in OTHER_FORMATS if pattern.search(text)), None)
        what = f"it looks like {kind}" if kind else "it has neither [Interface] nor [Peer]"
        raise UsageError(f"{path} is not in WireGuard's format: {what}", remedy="Export it as a WireGuard .conf file.")
    for match in _SECRET.finditer(text):
        keep_out_of_output(match[2])
    return text, wide


def _shared(path: Path) -> list[Flaw]:
    """Whether others on this machine can read it."""
    try:
        mode = path.stat().st_mode
    except OSError:
        return []
    if os.name == "nt" or not stat.S_ISREG(mode) or not mode & 0o077:
        return []
    return [Flaw("profile-readable", 0, f"others can read it: its mode is {mode & 0o777:03o}", f"chmod 600 {path}")]


@dataclass(frozen=True)
class MendRequest:
    """out: the new file. force: replace one of another hand. public: as above."""

    file: Path
    out: Path
    force: bool = False
    public: Mapping[str, IPAddress] = field(default_factory=dict)


def mend(run: Run, request: MendRequest) -> tuple[MendedDocument, list[HooperError]]:
    """A mended copy; the file itself stays as it is. Raises: UsageError, RefusedForSafety, MachineError."""
    text, wide = _read(request.file)
    if request.out.exists() and request.file.exists() and request.out.samefile(request.file):
        raise RefusedForSafety(
            f"{request.out} is the file itself, which is never overwritten",
            code="not-overwritten",
            remedy="Name another file.",
        )
    new, done = mended(run.topology, text, request.public)
    left = look_at(run.topology, new, request.public).faults
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
    one, other = (_SECRET.sub(r"\1[secret]\3", text).splitlines() for text in (before, after))
    return [line for line in difflib.unified_diff(one, other, lineterm="", n=0) if line[:2] not in ("--", "++", "@@")]
