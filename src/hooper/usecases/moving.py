"""A site on its way to another machine or another folder: its file, its secrets, its state and its keys together."""

from __future__ import annotations

import base64
import hashlib
import json
import re
import secrets
import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper import deeds
from hooper.errors import HooperError, MachineError, RefusedForSafety, UsageError
from hooper.files import machine_error, make_folder, read_whole, write_atomically
from hooper.secret import SecretRef
from hooper.site.load import SiteFile, parse_site
from hooper.store.place import store_name
from hooper.store.sealed import seal, unseal

if TYPE_CHECKING:
    from hooper.planning.edits import Edited
    from hooper.store.state import State

HERE, MARK = "site-file", "site-mark"  # what a state remembers of the file that it is of
MOST_STATES = 200


class SiteCopied(RefusedForSafety):
    """This site file is a copy of another one: whose state it is to have has to be said."""

    code = "site-copied"


@dataclass(frozen=True, slots=True)
class MovedDocument:
    """`hooper move`. file: that was written. site: the site file. carried: what is in it, or was put where. left: what
    has to be brought by hand.
    """

    file: str
    site: str
    carried: tuple[str, ...]
    left: tuple[str, ...]


# --- which file a state is of


def new_id(title: str | None) -> str:
    """An id that no other site has, which says what it is of."""
    words = re.sub(r"[^a-z0-9]+", "-", (title or "site").lower()).strip("-")[:24].strip("-") or "site"
    return f"{words}-{secrets.token_hex(3)}"


def mark_of(file: SiteFile) -> str:
    """By what a site is known again, wherever its file stands."""
    site = file.site
    said = [
        sorted(f"{key} {host.address}" for key, host in site.hosts.items()),
        sorted(site.services),
        sorted(f"{key} {box.lan}" for key, box in site.gateways.items()),
    ]
    return hashlib.sha256(json.dumps(said).encode()).hexdigest()


def remembered(path: Path) -> dict[str, str]:
    """What a state remembers of its file; empty: nothing, or it cannot be read."""
    try:
        with closing(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True, timeout=1)) as db:
            return dict(db.execute("SELECT key, value FROM told WHERE key IN (?, ?)", (HERE, MARK)).fetchall())
    except sqlite3.Error:
        return {}


def remember(file: SiteFile, path: Path, state: State, at: datetime) -> None:
    """Keep in a state of which file it is. Raises: StateError."""
    said = {HERE: str(path.resolve()), MARK: mark_of(file)}
    if remembered(state.path) != said:
        state.values.keep(at, said)


def refuse_copy(file: SiteFile, path: Path, state: Path) -> str | None:
    """The other file that was the last to use this state, by the same id, and is still there; None: there is none.

    Raises: SiteCopied: a file without an id is a copy of one that has a state, which this one would not find.
    """
    here = str(path.resolve())
    if file.site.site.id is not None:
        known = remembered(state).get(HERE) if state.exists() else None
        return known if known not in (None, here) and _has_id(Path(known), file.site.site.id) else None
    if not state.exists() and state.parent.is_dir() and file.site.hosts:
        for other in sorted(state.parent.glob("*.sqlite3"))[:MOST_STATES]:
            said = remembered(other)
            known = said.get(HERE)
            if known in (None, here) or said.get(MARK) != mark_of(file):
                continue
            if Path(known).name == path.name or not Path(known).exists():  # else another plan for the same place
                raise _copied(path, known)
    return None


def _has_id(other: Path, wanted: str) -> bool:
    """Whether another file is still there and says that it is this site."""
    try:
        return parse_site(read_whole(other), str(other)).site.site.id == wanted
    except (OSError, HooperError, ExceptionGroup):  # it is no site file any more
        return False


def _copied(path: Path, known: str) -> SiteCopied:
    said = "is a copy of" if Path(known).exists() else "is what was before at"
    return SiteCopied(
        f"{path} {said} {known}, which has a state with its rules and keys",
        remedy=f"If it takes its place, `{deeds.MOVE_FROM(known)}`; if it is another site, `{deeds.MOVE_ANEW}`.",
    )


def made_another(file: SiteFile) -> Edited:
    """The copy of a site as a site of its own. Raises: CannotEdit."""
    from hooper.planning.documents import ChangedKey
    from hooper.planning.edits import Edited
    from hooper.site.edit import set_key

    old, new = file.site.site.id, new_id(file.site.site.title)
    text = set_key(file.text, ("site",), "id", new)
    return Edited(text, "changed", "site", (ChangedKey("site.id", old, new),))


# --- another folder


def take_over(file: SiteFile, path: Path, folder: Path, old: Path, *, dry_run: bool = False) -> tuple[str, ...]:
    """The state of the file at `old` becomes that of this one; what was moved.

    Raises: UsageError: there is none; RefusedForSafety: this one has a state already; MachineError.
    """
    own, wanted = folder / store_name(file), str(old.absolute())
    for journal in folder.glob("*.sqlite3-journal"):  # a run was killed: it belongs to the file under its old name
        with suppress(sqlite3.Error), closing(sqlite3.connect(str(journal).removesuffix("-journal"), timeout=5)) as db:
            db.execute("SELECT * FROM told").fetchall()
    found = next(
        (one for one in sorted(folder.glob("*.sqlite3")) if remembered(one).get(HERE) in (wanted, str(old.resolve()))),
        None,
    )
    if found is None:
        raise UsageError(f"no state in {folder} is of {old}", remedy="Name the site file as it was called there.")
    if found != own:
        if own.exists():
            raise RefusedForSafety(
                f"{path} has a state already: {own}", code="state-there", remedy="Move that away first, if it is to go."
            )
        if dry_run:
            return str(found), str(found.with_suffix(""))
        try:
            found.rename(own)
            if found.with_suffix("").is_dir():
                found.with_suffix("").rename(own.with_suffix(""))
        except OSError as exc:
            raise machine_error(exc, f"{found} cannot be moved") from None
    with closing(sqlite3.connect(own)) as db, db:
        db.execute("UPDATE told SET value = ? WHERE key = ?", (str(path.resolve()), HERE))
    return str(own), str(own.with_suffix(""))


# --- another machine


def packed(file: SiteFile, path: Path, state: Path, passphrase: str) -> tuple[bytes, MovedDocument]:
    """All of a site, sealed. Raises: UsageError, MachineError."""
    base = path.resolve().parent
    files, left = {}, []
    for ref in _refs(file):
        inner = Path(ref.place)
        if ref.kind == "env":
            left.append(f"the environment variable {ref.place}")
        elif inner.is_absolute() or ".." in inner.parts or ref.place.startswith("~"):
            left.append(f"the file {ref.place}, which is outside of the site's folder")
        elif (data := _read_if_there(base / inner)) is not None:
            files[inner.as_posix()] = data
        else:
            left.append(f"the file {ref.place}, which is not there")
    kept: dict[str, bytes] = {}
    folder = state.with_suffix("")
    for one in sorted(folder.rglob("*")) if folder.is_dir() else ():
        if one.is_file() and not one.is_symlink() and one.parent.name != "locks":
            kept[one.relative_to(folder).as_posix()] = read_whole(one)
    whole: dict[str, Any] = {
        "name": path.name,
        "site": file.text,
        "files": {name: base64.b64encode(data).decode() for name, data in files.items()},
        "kept": {name: base64.b64encode(data).decode() for name, data in kept.items()},
        "state": base64.b64encode(_copy_of(state)).decode() if state.exists() else None,
    }
    carried = (path.name, *files, *([f"its state, with {len(kept)} keys and certificates"] if state.exists() else []))
    return seal(whole, passphrase), MovedDocument("", path.name, carried, tuple(dict.fromkeys(left)))


def _refs(file: SiteFile) -> Iterator[SecretRef]:
    """Every secret and file that a site file names."""
    waiting: list[Any] = [file.site]
    while waiting:
        one = waiting.pop()
        if isinstance(one, SecretRef):
            yield one
        elif isinstance(one, dict):
            waiting += one.values()
        elif isinstance(one, list | tuple):
            waiting += one
        elif hasattr(type(one), "model_fields"):
            waiting += [getattr(one, name) for name in type(one).model_fields]


def _read_if_there(path: Path) -> bytes | None:
    try:
        return read_whole(path, follow=False)
    except FileNotFoundError:
        return None
    except OSError as exc:
        raise machine_error(exc, f"{path} cannot be read") from None


def _copy_of(state: Path) -> bytes:
    """A database as it is at one moment. Raises: MachineError."""
    try:
        with closing(sqlite3.connect(state, timeout=5)) as db, closing(sqlite3.connect(":memory:")) as copy:
            db.backup(copy)
            return copy.serialize()
    except sqlite3.Error as exc:
        remedy = "See that whoever runs this may read it, that nothing else holds it, and that its disk is sound."
        raise MachineError(f"the state {state} cannot be copied: {exc}", remedy=remedy) from None


def unpacked(data: bytes, passphrase: str, folder: Path, states: Path, *, dry_run: bool = False) -> MovedDocument:
    """Put all of it where it belongs: the site's file and secrets into `folder`, the rest below `states`.

    Nothing that is there is replaced. Raises: UsageError, WrongPassphrase, RefusedForSafety, MachineError.
    """
    whole = unseal(data, passphrase)
    strange = UsageError("what is in it is no site", remedy="Write it again on the other computer.")
    try:
        name, text = _plain(str(whole["name"])).name, str(whole["site"])
        files = {_plain(key): base64.b64decode(value, validate=True) for key, value in whole["files"].items()}
        kept = {_plain(key): base64.b64decode(value, validate=True) for key, value in whole["kept"].items()}
        state = base64.b64decode(whole["state"], validate=True) if whole["state"] is not None else None
    except (KeyError, TypeError, ValueError, AttributeError):
        raise strange from None
    site = folder / name
    file = parse_site(text.encode("utf-8", "replace"), str(site.resolve()))
    if set(files) - {Path(ref.place) for ref in _refs(file)}:
        raise strange
    own = states / store_name(file)
    for path in (site, own, own.with_suffix("") if kept else own, *(folder / one for one in files)):
        try:
            path.lstat()
        except FileNotFoundError:
            continue
        except OSError as exc:
            raise machine_error(exc, f"{path} cannot be written") from None
        remedy = "This computer has a state of that site already: move that away first."
        if path.is_relative_to(folder):
            remedy = "Choose another folder."
        raise RefusedForSafety(f"{path} is there already", code="not-overwritten", remedy=remedy)
    parts = {folder / one: content for one, content in files.items()}
    parts |= {own.with_suffix("") / one: content for one, content in kept.items()}
    if state is not None:
        try:
            parts[own] = _of_site(state, site)
        except sqlite3.Error:
            raise strange from None
    parts[site] = text.encode()  # last: with it, all is there
    carried = (str(site), *(str(folder / one) for one in files), *([str(own)] if state is not None else []))
    if dry_run:
        return MovedDocument(str(site), name, carried, ())
    try:
        for path, content in parts.items():
            make_folder(path.parent, private=path != site)
            write_atomically(path, content, private=path != site)
    except MachineError:
        for path in parts:
            with suppress(OSError):
                path.unlink()
        raise
    return MovedDocument(str(site), name, carried, ())


def _of_site(state: bytes, site: Path) -> bytes:
    """A state, now that of the file that stands here. Raises: sqlite3.Error: it is none."""
    if not state.startswith(b"SQLite format 3\0"):
        raise sqlite3.DatabaseError("no database")
    with closing(sqlite3.connect(":memory:")) as db:
        db.deserialize(state)
        if db.execute("PRAGMA quick_check").fetchone() != ("ok",):
            raise sqlite3.DatabaseError("damaged")
        db.execute("UPDATE told SET value = ? WHERE key = ?", (str(site.resolve()), HERE))
        db.commit()
        return db.serialize()


def _plain(name: str) -> Path:
    """A path below a folder. Raises: ValueError: it leads elsewhere."""
    path = Path(name)
    if not name or path.is_absolute() or ".." in path.parts or "\\" in name or ":" in name or "\0" in name:
        raise ValueError(name)
    return path
