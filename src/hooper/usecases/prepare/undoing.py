"""Taking back the last edit of a site file."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from hooper import deeds
from hooper.errors import HooperError, UsageError
from hooper.planning.documents import ChangedKey, EditDocument
from hooper.planning.edits import Edited, differences
from hooper.site.edit import dotted_key
from hooper.site.load import parse_site
from hooper.store.earlier import Earlier, edits_of, forget
from hooper.usecases.prepare.edits import edit
from hooper.usecases.run import Run


@dataclass(frozen=True)
class PastEdit:
    """One edit that can be taken back. at: when it was made. changes: what it changed."""

    at: datetime
    changes: tuple[ChangedKey, ...]


@dataclass(frozen=True)
class PastEditsDocument:
    """What can be taken back. edits: one after the other, the newest first."""

    edits: tuple[PastEdit, ...]


class NothingToUndo(UsageError):
    """There is no edit, or it is not the last thing that happened to the file."""

    code = "nothing-to-undo"


def undo(run: Run, *, dry_run: bool = False) -> tuple[EditDocument, list[HooperError]]:
    """The site file as it was before its last edit. Raises: NothingToUndo, ChangedMeanwhile, MachineError."""
    last = _last(run)
    changes = tuple(differences(run.file.text, last.before))
    if last.the_other_way is not None:
        table, old, new = last.the_other_way
        own = {dotted_key((table, old)), dotted_key((table, new))}
        rest = (one for one in changes if not any(f"{one.key}.".startswith(f"{name}.") for name in own))
        changes = (ChangedKey(dotted_key((table, old)), old, new), *rest)
    back = parse_site(last.before.encode(), run.file.name).site
    follows = [
        f"the key of {key} was destroyed with it: `{renew(key)}`"
        for there, before, renew in (
            (run.site.tunnels, back.tunnels, deeds.RENEW_TUNNEL),
            (run.site.peers, back.peers, deeds.RENEW_PEER),
        )
        for key in before
        if key not in there
    ]
    tables = {".".join(change.key.split(".")[:2]) for change in changes}
    subject = tables.pop() if len(tables) == 1 else run.path.name
    made = edit(
        run,
        lambda _: Edited(last.before, "taken back", subject, changes, tuple(follows), renamed=last.the_other_way),
        dry_run=dry_run,
        remembered=False,
    )
    if not dry_run:
        forget(last)
    return made


def past_edits(run: Run) -> tuple[PastEditsDocument, list[HooperError]]:
    """What can be taken back, and what each was."""
    text, found = run.file.text, []
    for one in _edits(run):
        if not one.left(text):
            break
        found.append(PastEdit(one.at, tuple(differences(one.before, text))))
        text = one.before
    return PastEditsDocument(tuple(found)), []


def _edits(run: Run) -> list[Earlier]:
    """Without those that were never made, since something ended them before."""
    found = edits_of(run.path)
    while found and found[0].before == run.file.text and not found[0].left(run.file.text):
        found.pop(0)
    return found


def _last(run: Run) -> Earlier:
    found = _edits(run)
    if not found:
        raise NothingToUndo(f"no edit of {run.path} by Hooper is kept", remedy="Nothing was changed.")
    if not found[0].left(run.file.text):
        raise NothingToUndo(
            f"{run.path} was changed by hand since its last edit by Hooper, which would be lost",
            remedy=f"Take back by hand what is not wanted: `{deeds.EDIT}`. The text before that edit is kept in"
            f" {found[0].record}.",
        )
    return found[0]
