"""Reading and writing files with errors that say what to do, and without ever leaving half a file."""

from __future__ import annotations

import contextlib
import errno
import os
import stat
from collections.abc import Iterable
from pathlib import Path

from hooper import deeds
from hooper.errors import MachineError, RefusedForSafety

FILE_LIMIT = 1024 * 1024  # bytes of a text file that is read whole
_NOT_YOURS = "Let yourself read and write it, or name another."
_REMEDIES = {
    errno.ENOENT: "See whether the path is mistyped, and whether its folder is there.",
    errno.ENOTDIR: "A part of the path is a file and no folder: name another.",
    errno.EISDIR: "It is a folder: name a file.",
    errno.EACCES: _NOT_YOURS,
    errno.EPERM: _NOT_YOURS,
    errno.EROFS: "What it lies on takes no writing: name another folder.",
    errno.ENOSPC: "Make room on the disk, then try again.",
    errno.EDQUOT: "Make room on the disk, then try again.",
    errno.ENAMETOOLONG: "Give it a shorter name.",
}


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
    """Make a folder and those around it that are missing; private: their mode is 0700. Raises: MachineError."""
    try:
        for folder in reversed([path, *path.parents]):
            if not folder.exists():
                folder.mkdir(exist_ok=True, mode=0o700 if private else 0o777)
        path.mkdir(exist_ok=True)
    except OSError as exc:
        raise machine_error(exc, f"the folder {path} cannot be made") from None


MADE_BY = b"Made by Hooper"  # stands in the first lines of what Hooper writes for people, so that it may renew it


def write_output(
    path: Path, data: bytes, *, keep: Iterable[Path] = (), force: bool = False, private: bool = False
) -> None:
    """Write a file that a person has named. Nothing but a file is ever replaced, and none that Hooper did not write.

    Args: keep: files that are never the target, such as the site file. force: replace a file of somebody else.
    private: only its owner reads it.
    Raises: RefusedForSafety, MachineError.
    """
    try:
        known = path.lstat()
    except FileNotFoundError:
        known = None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be written") from None
    if any(one.exists() and path.exists() and one.samefile(path) for one in keep):
        raise RefusedForSafety(f"{path} is the site file", code="not-overwritten", remedy="Name another file.")
    if known is not None and not stat.S_ISREG(known.st_mode):
        kinds = ((stat.S_ISLNK, "a link"), (stat.S_ISDIR, "a folder"), (stat.S_ISFIFO, "a pipe"))
        kind = next((word for test, word in kinds if test(known.st_mode)), "a device")
        raise RefusedForSafety(f"{path} is {kind}, no file", code="not-overwritten", remedy="Name a file.")
    if known is not None and known.st_size and not force and MADE_BY not in _start_of(path):
        raise RefusedForSafety(
            f"{path} is there already, and Hooper did not write it",
            code="not-overwritten",
            remedy=f"Name another file, or give {deeds.FORCE} to replace it.",
        )
    write_atomically(path, data, private=private)


def _start_of(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(1024)
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None


class Lock:
    """A lock on this machine, held by one process at a time; the system frees it however that ends.

    It is on an open file or folder: a system without such locks (Windows) has none, and each run is on its own there.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        self._descriptor: int | None = None

    def take(self) -> bool:
        """Whether it is ours now. Raises: MachineError: the file cannot be opened."""
        try:
            import fcntl
        except ImportError:
            return True
        try:
            made = os.O_RDONLY | os.O_DIRECTORY if self.path.is_dir() else os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW
            descriptor = os.open(self.path, made | os.O_CLOEXEC, 0o600)
        except OSError as exc:
            raise machine_error(exc, f"{self.path} cannot be opened") from None
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(descriptor)
            return False
        self._descriptor = descriptor
        return True

    def free(self) -> None:
        """Let others have it."""
        if self._descriptor is not None:
            os.close(self._descriptor)
            self._descriptor = None


def machine_error(exc: OSError, what: str) -> MachineError:
    """The error for trouble with the file system, with what helps against it."""
    return MachineError(f"{what}: {exc.strerror or exc}", remedy=_REMEDIES.get(exc.errno or 0))
