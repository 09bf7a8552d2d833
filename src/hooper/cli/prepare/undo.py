"""hooper undo"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.editing import changed_keys, render
from hooper.cli.parts.session import Session, sub_app

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.prepare.undoing import PastEditsDocument

app = sub_app("Take back the last edit of the site file.")


@command(app, "undo", site=True, state=True, mask=True, dry_run=EDIT_DRY_RUN)
def undo(session: Session, only_list: bool = False) -> int:
    """Take back the last edit that Hooper made to the site file, byte for byte; again, the one before it.

    What was changed in an editor since is never overwritten.
    """
    from hooper.usecases.prepare.undoing import past_edits
    from hooper.usecases.prepare.undoing import undo as take_back

    file = session.read_site()
    if only_list:
        return session.show(session.do(past_edits, file).document, _render)
    done = session.do(partial(take_back, dry_run=session.dry_run), file, look=True)
    code = session.show(done.document, render, errors=done.trouble)
    session.ahead()
    return code


def _render(document: PastEditsDocument, out: Screen) -> None:
    from hooper.clock import local

    if not document.edits:
        out.print("There is no edit to take back.")
    for one in document.edits:
        out.print(local(one.at))
        changed_keys(one.changes, out)
