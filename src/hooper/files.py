"""Reading and writing files with errors that say what to do, and without ever leaving half a file."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from hooper.errors import MachineError

FILE_LIMIT = 1024 * 1024  # bytes of a text file that is read whole


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


class Lock:
    """A lock on this machine, held by one process at a time; the system frees it however that ends.

    It is on an open file: a system without such locks (Windows) has none, and each run is on its own there.
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
            descriptor = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
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
    """The error for trouble with the file system."""
    return MachineError(f"{what}: {exc.strerror or exc}")
