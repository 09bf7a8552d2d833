"""Secrets by reference (`env:NAME`, `file:PATH`), and a last net that keeps their values out of all output."""

from __future__ import annotations

import base64
import json
import os
import re
import shlex
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from html import escape
from pathlib import Path
from urllib.parse import quote, quote_plus

from hooper import deeds
from hooper.errors import MachineError
from hooper.files import open_regular

_ENV = re.compile(r"env:([A-Za-z_][A-Za-z0-9_]*)")
_LIMIT = 64 * 1024  # bytes; a secret file larger than this is some other file
_MASK = "[secret]"
CUT = 8  # characters at the start of a secret by which one that was cut is known
LINE = 24  # characters of a line of a secret that tell something by themselves


class Secrets:
    """The secrets that one run has come to know, and whether it takes them from files that others can read too.

    Runs in one process know nothing of each other's; what a run learns within another is known to that one too, so that
    the net around all of it has no hole.
    """

    def __init__(self, within: Secrets | None = None) -> None:
        self.within = within
        self.shared_files: bool = within.shared_files if within is not None else False
        self.known: set[str] = set()

    def learn(self, forms: Iterable[str]) -> None:
        fresh = set(forms)
        self.known |= fresh
        if self.within is not None:
            self.within.learn(fresh)

    @contextmanager
    def used(self) -> Iterator[None]:
        """What is read and shown in here goes by these."""
        token = _IN_USE.set(self)
        try:
            yield
        finally:
            _IN_USE.reset(token)


_IN_USE: ContextVar[Secrets | None] = ContextVar("_IN_USE", default=None)


def secrets_in_use() -> Secrets:
    """Those of the run that this is in; where there is none, those of the caller's own context."""
    found = _IN_USE.get()
    if found is None:
        found = Secrets()
        _IN_USE.set(found)
    return found


class Secret:
    """A value that shows itself to nobody by accident. `reveal()` is the only way to it."""

    __slots__ = ("_value", "source")

    def __init__(self, value: str, source: str) -> None:
        self._value, self.source = value, source
        keep_out_of_output(value)

    def reveal(self) -> str:
        return self._value

    def __repr__(self) -> str:
        return f"<secret from {self.source}>"

    __str__ = __repr__

    def __reduce__(self) -> tuple[type, tuple[str, str]]:
        raise TypeError("a secret is not to be stored or copied")


@dataclass(frozen=True)
class SecretRef:
    """Where a secret stands: an environment variable, or a file (relative to the site file)."""

    kind: str  # "env" or "file"
    place: str

    @classmethod
    def parse(cls, text: str) -> SecretRef:
        """Raises: ValueError: `text` is neither env:NAME nor file:PATH. The text itself is never repeated."""
        if match := _ENV.fullmatch(text):
            return cls("env", match[1])
        if text.startswith("file:") and len(text) > 5 and "\0" not in text:
            return cls("file", text[5:])
        raise ValueError("a secret is given as env:NAME or file:PATH, never in the open")

    def __str__(self) -> str:
        return f"{self.kind}:{self.place}"

    def read(self, base: Path) -> Secret:
        """The value. base: folder that a relative path starts from. Raises: MachineError: it cannot be had."""
        if self.kind == "env":
            value = os.environ.get(self.place)
            if not value:
                raise MachineError(
                    f"the environment variable {self.place} is not set",
                    code="secret-missing",
                    remedy=f"Set {self.place} in the environment of this command.",
                )
            return Secret(value, str(self))
        path = base / Path(self.place).expanduser()
        try:
            with open_regular(path) as file:
                _refuse_shared(path, os.fstat(file.fileno()).st_mode)
                data = file.read(_LIMIT + 1)
            text = data.decode("utf-8-sig")
        except OSError as exc:
            absent = isinstance(exc, FileNotFoundError)
            raise _no_secret(
                f"{path} cannot be read: {exc.strerror or exc}",
                remedy="Create the file with the secret in it, readable by you alone." if absent else _TO_BE_READ,
            ) from None
        except UnicodeDecodeError:
            raise _no_secret(f"{path} is not UTF-8 text") from None
        value = text.removesuffix("\n").removesuffix("\r")
        if not value or len(data) > _LIMIT:
            raise _no_secret(f"{path} is " + (f"larger than {_LIMIT} bytes" if value else "empty"))
        return Secret(value, str(self))


_TO_BE_READ = "It has to be an ordinary file that whoever runs this may read: see whose it is and what its mode is."
_TO_BE_WRITTEN = "Write the secret into it, as text and nothing else."


def _no_secret(what: str, *, remedy: str = _TO_BE_WRITTEN) -> MachineError:
    return MachineError(f"the secret file {what}", code="secret-missing", remedy=remedy)


def allow_shared_files() -> None:
    """Take secrets from files that others can read too, as on a file system that knows no modes."""
    secrets_in_use().shared_files = True


def _refuse_shared(path: Path, mode: int) -> None:
    """Raises: MachineError: others on this computer can read the file too."""
    if os.name != "nt" and mode & 0o077 and stat.S_ISREG(mode) and not secrets_in_use().shared_files:
        raise MachineError(
            f"the secret file {path} can be read by others (its mode is {mode & 0o777:03o})",
            code="secret-shared",
            remedy=f"chmod 600 {shlex.quote(str(path))}; where a disk knows no modes, give {deeds.SHARED_FILES}.",
        )


def keep_out_of_output(value: str) -> None:
    """Remember `value` and the forms in which it travels, so that `redact` takes them out.

    Values under 4 characters are left: they match everywhere.
    """
    lines = [line for line in value.splitlines() if len(line) >= LINE and not line.startswith("-----")]
    for part in (value, *(lines if "\n" in value else ())):  # a key of many lines may come back line by line
        if len(part) >= 4:
            secrets_in_use().learn(form for form in _renderings(part) if len(form) >= 4)


def _renderings(value: str) -> Iterator[str]:
    """A secret as it may come back: in the open, quoted by Python or JSON, in a URL, in HTML, in Base64 (RFC 4648)."""
    yield value
    yield repr(value)[1:-1]
    yield repr(value.encode())[2:-1]
    for ascii_only in (True, False):
        yield json.dumps(value, ensure_ascii=ascii_only)[1:-1]
    for safe in ("", "/", "/:@!$&'()*+,;=~"):
        yield quote(value, safe=safe)
    yield quote_plus(value)
    yield escape(value)
    data = value.encode()
    coded = [data.hex()]
    for before in range(3):  # it may stand behind something else, as in basic authorization (RFC 7617)
        first, last = -(-before * 4 // 3), (before + len(data)) * 4 // 3  # the characters that it alone decides
        for encode in (base64.b64encode, base64.urlsafe_b64encode):
            coded.append(encode(b"\0" * before + data).decode()[first:last])
    yield from (form for form in coded if len(form) >= CUT)


def redact(text: str) -> str:
    """`text` with every known secret replaced, the longest first; what begins like one and was cut counts too."""
    for value in sorted(secrets_in_use().known, key=len, reverse=True):
        text = text.replace(value, _MASK)
        least = max(CUT, len(value) // 2)
        at = text.find(value[:least]) if len(value) > least else -1
        while at >= 0:
            end = at + least
            while end < len(text) and end - at < len(value) and text[end] == value[end - at]:
                end += 1
            text = text[:at] + _MASK + text[end:]
            at = text.find(value[:least], at + len(_MASK))
    return text


def excerpt(text: str, length: int) -> str:
    """The beginning of what a counterpart said, on one line: secrets are taken out before anything is cut."""
    return " ".join(redact(text).split())[:length]
