"""The site file on the disk: read whole, and put back whole."""

from __future__ import annotations

import codecs
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path

from hooper import deeds
from hooper.errors import MachineError, SiteFileError, Where
from hooper.files import Lock, machine_error, open_regular, write_atomically
from hooper.site.load import SIZE_LIMIT, SiteFile, parse_site

Renamed = tuple[str, str, str]  # of an entry: its table, its old and its new name
TRIES, PAUSE = 200, 0.02  # seconds; writing takes a few milliseconds


def _near(path: Path) -> str:
    """Where there is one, in words: in a folder above, or to be named."""
    above = (Path("../" * count, path.name) for count in (1, 2, 3))
    there = next((one for one in above if not path.is_absolute() and one.is_file()), None)
    if there is not None:
        return f"{deeds.THIS_SITE_FILE(str(there))} names the one in a folder above; "
    return f"{deeds.SITE_FILE} or HOOPER_SITE names one that is elsewhere; "


def read_site(path: Path) -> SiteFile:
    """Read and understand the site file. Raises: SiteFileError, SeveralErrors."""
    try:
        with open_regular(path) as file:
            data = file.read(SIZE_LIMIT + 1)
    except FileNotFoundError:
        raise SiteFileError(
            "there is no such site file",
            code="site-file-missing",
            remedy=f"`{deeds.START}` starts one; {_near(path)}`{deeds.EXAMPLE}` leaves an example in DIR.",
            where=Where(str(path)),
        ) from None
    except OSError as exc:
        raise SiteFileError(f"the site file cannot be read: {exc.strerror or exc}", where=Where(str(path))) from None
    return _parsed(data, str(path))


@lru_cache(2)
def _parsed(data: bytes, name: str) -> SiteFile:
    """What was read is not understood again while it is the same; it is never changed."""
    return parse_site(data, name)


class ChangedMeanwhile(MachineError):
    """Somebody else has written the site file since it was read."""

    code = "changed-meanwhile"
    remedy = "Run the command again: it then starts from what stands there now."


def save_site(
    path: Path, file: SiteFile, text: str, *, remembered: bool = True, renamed: Renamed | None = None
) -> SiteFile:
    """Put an edited site file in the place of the one that was read; the bytes that are the same stay so.

    Nothing is written where the new text is no site file, or where the old one has changed since it was read.
    remembered, renamed: as `replace_site`. Raises: SiteFileError, SeveralErrors, ChangedMeanwhile, MachineError.
    """
    saved = parse_site(text.encode(), file.name)
    replace_site(path, file.text, text, remembered=remembered, renamed=renamed)
    return saved


def replace_site(path: Path, old: str, text: str, *, remembered: bool = True, renamed: Renamed | None = None) -> None:
    """Put a site file's new text in the place of the old one, as that was read, without its mark of UTF-8.

    remembered: so that it can be taken back. renamed: what has another name in it. Raises: ChangedMeanwhile,
    MachineError.
    """
    from hooper.store.earlier import remember

    target = path.resolve()  # a link stays a link
    with _alone(target):
        try:
            before = target.read_bytes()
            mode = target.stat().st_mode & 0o777
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be read again") from None
        mark = codecs.BOM_UTF8 if before.startswith(codecs.BOM_UTF8) else b""
        if before != mark + old.encode():
            raise ChangedMeanwhile(f"{path} has been changed by somebody else since it was read")
        if remembered:
            remember(path, old, text, renamed)
        write_atomically(target, mark + text.encode(), mode=mode)


@contextmanager
def _alone(target: Path) -> Iterator[None]:
    """The only run that puts this file back: two at once would both find it as it was read, and one edit be lost.

    Raises: ChangedMeanwhile: another one is at it, for longer than writing takes.
    """
    lock = Lock(target.parent)
    for _ in range(TRIES):
        if lock.take():
            break
        time.sleep(PAUSE)
    else:
        raise ChangedMeanwhile(f"{target} is being changed by another run")
    try:
        yield
    finally:
        lock.free()
