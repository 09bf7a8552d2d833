"""What stood in a site file before each edit of ours, so that the last one can be taken back byte for byte."""

from __future__ import annotations

import hashlib
import json
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from hooper.errors import MachineError
from hooper.files import make_folder, read_whole, write_atomically
from hooper.store.place import state_folder

KEPT = 50  # edits of one site file; older ones are forgotten


@dataclass(frozen=True)
class Earlier:
    """One edit. at: when. before: the text before it. after: the SHA-256 of the text that it left. record: its file.

    renamed: the table, the old and the new name, where an entry got another one.
    """

    at: datetime
    before: str
    after: str
    record: Path
    renamed: tuple[str, str, str] | None = None

    @property
    def the_other_way(self) -> tuple[str, str, str] | None:
        """What taking it back renames."""
        return (self.renamed[0], self.renamed[2], self.renamed[1]) if self.renamed is not None else None

    def left(self, text: str) -> bool:
        """Whether this is the text that it left."""
        return self.after == _digest(text)


def edits_of(site: Path) -> list[Earlier]:
    """The edits of a site file that can be taken back, the newest first. What cannot be read is left out."""
    found = []
    for record in sorted(kept_in(site).glob("0*.json"), reverse=True):
        with suppress(OSError, ValueError, KeyError, TypeError):
            data = json.loads(read_whole(record))
            at = datetime.fromtimestamp(record.stat().st_mtime, UTC)
            table, old, new = map(str, data["renamed"] or ("", "", ""))
            renamed = (table, old, new) if table else None
            found.append(Earlier(at, str(data["before"]), str(data["after"]), record, renamed))
    return found


def remember(site: Path, before: str, after: str, renamed: tuple[str, str, str] | None = None) -> None:
    """Keep what an edit is about to change. Where it cannot be kept, the edit is made all the same."""
    with suppress(MachineError, OSError):
        folder = kept_in(site)
        make_folder(folder, private=True)
        records = sorted(folder.glob("0*.json"))
        number = int(records[-1].stem) + 1 if records and records[-1].stem.isdigit() else 1
        text = json.dumps({"before": before, "after": _digest(after), "renamed": renamed})
        write_atomically(folder / f"{number:06}.json", text.encode(), private=True)
        for old in records[: max(0, len(records) + 1 - KEPT)]:
            old.unlink(missing_ok=True)


def forget(edit: Earlier) -> None:
    """It has been taken back."""
    edit.record.unlink(missing_ok=True)


def kept_in(site: Path) -> Path:
    """The folder for one site file, by where it stands: of two copies with one id each has its own."""
    path = site.resolve()
    return state_folder(None) / "edits" / f"{path.stem}-{hashlib.sha256(str(path).encode()).hexdigest()[:12]}"


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()
