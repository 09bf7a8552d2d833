"""hooper self ..."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, run_async, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.abilities import InstallationDocument

app = sub_app("This installation of Hooper.", group=True)
MARKS = {"ok": ("✓", "well"), "missing": ("✗", "wrong"), "limited": ("?", "doubtful")}


@command(app, "self check", state=True)
def check(session: Session) -> int:
    """What this installation can do, what is missing and how to get it. It asks nobody and writes nothing.

    Exit code 1 where something is missing that every command needs.
    """
    from hooper.store.place import state_folder
    from hooper.usecases.abilities import check_installation

    document = run_async(check_installation, state_folder(session.state_folder), sys.stdout.encoding)
    code = session.show(document, _render)
    lacking = any(row.needed and row.state != "ok" for row in document.abilities)
    return code or (EXIT_NEEDS_A_PERSON if lacking else 0)


def _render(document: InstallationDocument, out: Screen) -> None:
    from hooper import __version__
    from hooper.cli.parts.render import heading, indented, line

    heading(out, f"Hooper {__version__} on Python {document.python}")
    for row in document.abilities:
        mark, style = MARKS[row.state]
        line(out, (f"{mark} ", style), f"{row.ability}: {row.detail}" if out.plain else str(row.detail), hang=2)
        if str(row.remedy):
            indented(out, row.remedy, mark="→ ", left=2)
