"""Reading and writing files with errors that say what to do, and without ever leaving half a file."""

from __future__ import annotations

import codecs
import contextlib
import os
from pathlib import Path

from hooper.errors import MachineError, SiteFileError, Where
from hooper.site.load import SIZE_LIMIT, SiteFile, parse_site

FILE_LIMIT = 1024 * 1024  # bytes of a text file that is read whole


def read_site(path: Path) -> SiteFile:
    """Read and understand the site file. Raises: SiteFileError, SeveralErrors."""
    try:
        if path.exists() and not path.is_file():
            raise SiteFileError("this is not a file", remedy="Name the site file itself.", where=Where(str(path)))
        with path.open("rb") as file:
            data = file.read(SIZE_LIMIT + 1)
    except FileNotFoundError:
        raise SiteFileError(
            "there is no such site file",
            code="site-file-missing",
            remedy="Name it with --site FILE or HOOPER_SITE; `hooper demo --out DIR` leaves an example in DIR.",
            where=Where(str(path)),
        ) from None
    except (OSError, ValueError) as exc:
        reason = exc.strerror if isinstance(exc, OSError) and exc.strerror else str(exc)
        raise SiteFileError(f"the site file cannot be read: {reason}", where=Where(str(path))) from None
    return parse_site(data, str(path))


class ChangedMeanwhile(MachineError):
    """Somebody else has written the site file since it was read."""

    code = "changed-meanwhile"
    remedy = "Run the command again: it then starts from what stands there now."


def save_site(path: Path, file: SiteFile, text: str) -> SiteFile:
    """Put an edited site file in the place of the one that was read; the bytes that are the same stay so.

    Nothing is written where the new text is no site file, or where the old one has changed since it was read.
    Raises: SiteFileError, SeveralErrors, ChangedMeanwhile, MachineError.
    """
    saved = parse_site(text.encode(), file.name)
    target = path.resolve()  # a link stays a link
    try:
        before = target.read_bytes()
        mode = target.stat().st_mode & 0o777
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read again") from None
    mark = codecs.BOM_UTF8 if before.startswith(codecs.BOM_UTF8) else b""
    if before != mark + file.text.encode():
        raise ChangedMeanwhile(f"{path} has been changed by another hand since it was read")
    write_atomically(target, mark + text.encode(), mode=mode)
    return saved


def read_text(path: Path) -> str:
    """A small text file, such as one of root certificates. Raises: MachineError."""
    try:
        with path.expanduser().open("rb") as file:
            return file.read(FILE_LIMIT).decode("utf-8-sig", "replace")
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None


def write_atomically(path: Path, data: bytes, *, private: bool = False, mode: int | None = None) -> None:
    """Write a whole file or none. private: only its owner reads it; mode: else the usual. Raises: MachineError."""
    import tempfile

    temporary: str | None = None
    try:
        descriptor, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        if not private:
            mask = os.umask(0)
            os.umask(mask)
            os.chmod(temporary, mode if mode is not None else 0o666 & ~mask)
        os.replace(temporary, path)
        temporary = None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be written") from None
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)


def make_folder(path: Path, *, private: bool = False) -> None:
    """Make a folder and those around it; private: its mode is 0700. Raises: MachineError."""
    try:
        path.mkdir(parents=True, exist_ok=True, mode=0o700 if private else 0o777)
    except OSError as exc:
        raise machine_error(exc, f"the folder {path} cannot be made") from None


def machine_error(exc: OSError, what: str) -> MachineError:
    """The error for trouble with the file system."""
    return MachineError(f"{what}: {exc.strerror or exc}")
