"""Reading and writing files with errors that say what to do, and without ever leaving half a file."""

from __future__ import annotations

import contextlib
import errno
import glob
import os
import shutil
import stat
import sys
import time
from collections.abc import Iterable
from pathlib import Path
from typing import BinaryIO

from hooper import deeds
from hooper.errors import MachineError, RefusedForSafety

STDIO = Path("-")  # where a person names a file: standard input or standard output
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
    errno.EFBIG: "Name another: what is wanted here is small.",
    errno.EINVAL: "Name a regular file.",
}


_KINDS = ((stat.S_ISLNK, "a link"), (stat.S_ISDIR, "a folder"), (stat.S_ISFIFO, "a pipe"), (stat.S_ISSOCK, "a socket"))


def open_regular(path: Path, *, follow: bool = True) -> BinaryIO:
    """Open a file that somebody named, for reading: a regular one, so that nothing here waits for a pipe or a device.

    follow: whether it may be reached by a link. Raises: OSError: it cannot be opened, or is no file.
    """
    flags = os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)
    try:
        _refuse_others(path, (path.stat() if follow else path.lstat()).st_mode)  # before: opening may already do harm
        descriptor = os.open(path, flags if follow else flags | getattr(os, "O_NOFOLLOW", 0))
    except ValueError as exc:  # a name that no file can have
        raise OSError(errno.EINVAL, str(exc)) from None
    try:
        _refuse_others(path, os.fstat(descriptor).st_mode)
    except OSError:
        os.close(descriptor)
        raise
    return os.fdopen(descriptor, "rb")


def _refuse_others(path: Path, mode: int) -> None:
    if not stat.S_ISREG(mode):
        kind = kind_of(mode)
        raise OSError(errno.EISDIR if kind == "a folder" else errno.EINVAL, f"it is {kind}, no file", str(path))


def kind_of(mode: int) -> str:
    """What stands in the place of a regular file, in words."""
    return next((word for test, word in _KINDS if test(mode)), "a device")


def read_whole(path: Path, limit: int = FILE_LIMIT, *, follow: bool = True) -> bytes:
    """The one reader of files that a person or a stranger names: regular, bounded, never waited for.

    limit: bytes. follow: as above. `-` is standard input. Raises: OSError: it cannot be read, is no file, or is larger.
    """
    with contextlib.nullcontext(sys.stdin.buffer) if path == STDIO else open_regular(path, follow=follow) as file:
        data = file.read(limit + 1)
    if len(data) > limit:
        raise OSError(errno.EFBIG, f"it is larger than {limit // 1024} KiB", str(path))
    return data


def read_text(path: Path) -> str:
    """A small text file, such as one of root certificates. Raises: MachineError."""
    try:
        return read_whole(path.expanduser()).decode("utf-8-sig", "replace")
    except (OSError, RuntimeError) as exc:  # RuntimeError: ~somebody who is not known here
        raise machine_error(exc, f"{path} cannot be read") from None


UNFINISHED = ".unfinished"
LEFT_AFTER_S = 60.0  # no write of a file takes as long


def _sweep(path: Path) -> None:
    """Take away what runs that were killed have left of writing this file."""
    now = time.time()
    for left in path.parent.glob(f".{glob.escape(path.name)}.*{UNFINISHED}"):
        with contextlib.suppress(OSError):
            if now - left.lstat().st_mtime > LEFT_AFTER_S:
                left.unlink()


def write_atomically(
    path: Path, data: bytes, *, private: bool = False, mode: int | None = None, owner: str | None = None
) -> None:
    """Write a whole file or none; what killed runs left of this one goes. private: only its owner reads it; mode: else
    the usual. owner: USER or USER:GROUP that is to have it. Raises: MachineError.
    """
    import tempfile

    temporary: str | None = None
    try:
        _sweep(path)
        descriptor, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.", suffix=UNFINISHED)
        with os.fdopen(descriptor, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        if owner is not None:  # before its mode: no other user reads it for a moment
            user, _, group = owner.partition(":")
            shutil.chown(temporary, user, group or None)
        if not private:
            mask = os.umask(0)
            os.umask(mask)
            os.chmod(temporary, mode if mode is not None else 0o666 & ~mask)
        os.replace(temporary, path)
        temporary = None
    except LookupError as exc:
        raise MachineError(f"{path} cannot be given to {owner}: {exc}", remedy="Correct the name.") from None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be written") from None
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                os.unlink(temporary)


def make_folder(path: Path, *, private: bool = False, mode: int | None = None) -> None:
    """Make a folder and those around it that are missing, in which nobody else writes, whatever the umask; private:
    their mode is 0700; mode: this one's, made now or before. Raises: MachineError.
    """
    try:
        for folder in reversed([path, *path.parents]):
            if not folder.exists():
                folder.mkdir(exist_ok=True, mode=0o700 if private else 0o755)
        path.mkdir(exist_ok=True)
        if mode is not None:
            path.chmod(mode)
    except OSError as exc:
        raise machine_error(exc, f"the folder {path} cannot be made") from None


MADE_BY = b"Made by Hooper"  # stands in the first lines of what Hooper writes for people, so that it may renew it


def write_output(
    path: Path,
    data: bytes,
    *,
    keep: Iterable[Path] = (),
    force: bool = False,
    private: bool = False,
    mode: int | None = None,
) -> None:
    """Write a file that a person has named, `-` to standard output. Nothing but a file is ever replaced, and none that
    Hooper did not write.

    Args: keep: files that are never the target, such as the site file. force: replace a file of somebody else.
    private: only its owner reads it; mode: else the usual.
    Raises: RefusedForSafety, MachineError.
    """
    if path == STDIO:
        sys.stdout.flush()
        stream = getattr(sys.stdout, "buffer", None)
        if stream is None:  # a stand-in without bytes, as programs that embed this one have
            sys.stdout.write(data.decode("utf-8", "backslashreplace"))
        else:
            stream.write(data)
        sys.stdout.flush()
        return
    try:
        known = path.lstat()
    except FileNotFoundError:
        known = None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be written") from None
    if any(one.exists() and path.exists() and one.samefile(path) for one in keep):
        raise RefusedForSafety(f"{path} is the site file", code="not-overwritten", remedy="Name another file.")
    if known is not None and not stat.S_ISREG(known.st_mode):
        what = f"{path} is {kind_of(known.st_mode)}, no file"
        raise RefusedForSafety(what, code="not-overwritten", remedy="Name a file.")
    if known is not None and known.st_size and not force and MADE_BY not in _start_of(path):
        raise RefusedForSafety(
            f"{path} is there already, and Hooper did not write it",
            code="not-overwritten",
            remedy=f"Name another file, or give {deeds.FORCE} to replace it.",
        )
    write_atomically(path, data, private=private, mode=mode)


def _start_of(path: Path) -> bytes:
    try:
        with open_regular(path) as file:
            return file.read(1024)
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None


class Lock:
    """A lock on this computer, held by one process at a time; the system frees it however that ends.

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


class NoLock(Lock):
    """In the place of a lock that there is no folder for: each run is on its own."""

    def take(self) -> bool:
        return True


def machine_error(exc: Exception, what: str) -> MachineError:
    """The error for trouble with the file system, with what helps against it."""
    said, number = getattr(exc, "strerror", None), getattr(exc, "errno", None)
    return MachineError(f"{what}: {said or exc}", remedy=_REMEDIES.get(number or 0))
