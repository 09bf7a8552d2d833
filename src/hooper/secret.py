"""Secrets by reference (`env:NAME`, `file:PATH`), and a last net that keeps their values out of all output."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from hooper.errors import MachineError

_ENV = re.compile(r"env:([A-Za-z_][A-Za-z0-9_]*)")
_LIMIT = 64 * 1024  # bytes; a secret file larger than this is some other file
_MASK = "[secret]"
_known: set[str] = set()


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


@dataclass(frozen=True, slots=True)
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
            with path.open("rb") as file:
                data = file.read(_LIMIT + 1)
            text = data.decode("utf-8-sig")
        except OSError as exc:
            raise MachineError(
                f"the secret file {path} cannot be read: {exc.strerror or exc}",
                code="secret-missing",
                remedy="Create the file with the secret in it, readable by you alone.",
            ) from None
        except UnicodeDecodeError:
            raise MachineError(f"the secret file {path} is not UTF-8 text", code="secret-missing") from None
        value = text.removesuffix("\n").removesuffix("\r")
        if not value or len(data) > _LIMIT:
            size = "empty" if not value else f"larger than {_LIMIT} bytes"
            raise MachineError(f"the secret file {path} is {size}", code="secret-missing")
        return Secret(value, str(self))


def keep_out_of_output(value: str) -> None:
    """Remember `value`, so that `redact` takes it out. Values under 4 characters are left: they match everywhere."""
    if len(value) >= 4:
        _known.add(value)


def redact(text: str) -> str:
    """`text` with every known secret replaced, the longest first."""
    for value in sorted(_known, key=len, reverse=True):
        text = text.replace(value, _MASK)
    return text
