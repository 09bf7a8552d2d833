"""What the commands share that edit the site file."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated

import typer

from hooper.cli.common import Session
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.cli.screen import Screen
    from hooper.planning.documents import EditDocument
    from hooper.planning.edits import Edited
    from hooper.site.load import SiteFile

ClearOption = Annotated[
    list[str] | None, typer.Option("--clear", metavar="KEY", help="Take this key away; can be given again.")
]


def finish(session: Session, file: SiteFile, edit: Callable[[SiteFile], Edited]) -> int:
    """Write the edited file, and show what was done."""
    from hooper.usecases.edits import EditRequest
    from hooper.usecases.edits import edit as do_edit

    done = session.do(do_edit, EditRequest(edit, session.dry_run), file)
    return session.show(done.document, render, errors=done.trouble)


def render(document: EditDocument, out: Screen) -> None:
    """What was changed, key by key, and what is left to do."""
    from rich.text import Text

    from hooper.cli.render import heading, indented

    if not document.changes:
        out.print(f"Nothing to change: {document.subject} is so already.")
        return
    would = " (not written: --dry-run)" if document.dry_run else ""
    heading(out, f"{document.subject}: {document.action} in {document.file}{would}")
    for change in document.changes:
        line = Text(f"   {change.key}", style="bold" if change.after is not None else "")
        if change.after is None:
            line.append("  gone" if not change.before else f"  gone, was {change.before}", style="red")
        elif change.before is None:
            line.append(f" = {change.after}")
        else:
            line.append(f" = {change.after}").append(f"  was {change.before}", style="dim")
        out.print(line)
    if document.follows:
        out.print()
        heading(out, "Left to do, by hand")
        for follow in document.follows:
            indented(out, follow, mark="[ ] ", left=3)


def port_value(option: str, text: str | None) -> int | str | None:
    """A port as the site file has it: a number, or a range as text. Raises: UsageError."""
    if text is None:
        return None
    if text.isascii() and text.isdigit():
        return int(text)
    if not text.replace("-", "").isdigit() or text.count("-") != 1:
        raise UsageError(f"{option} {text!r} is not a port", remedy="Give a number, or a range such as 5000-5010.")
    return text
