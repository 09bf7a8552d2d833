"""What the commands share that edit the site file."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from hooper.cli.common import Session
from hooper.errors import HooperError, SeveralErrors, SiteFileError, UsageError, flatten

if TYPE_CHECKING:
    from hooper.cli.screen import Screen
    from hooper.planning.documents import EditDocument
    from hooper.planning.edits import Edited
    from hooper.site.load import SiteFile


def finish(session: Session, file: SiteFile, edit: Callable[[SiteFile], Edited]) -> int:
    """Write the edited file, and show what was done."""
    from hooper.usecases.edits import edit as do_edit

    try:
        done = session.do(lambda run: do_edit(run, edit, dry_run=session.dry_run), file)
    except (SiteFileError, SeveralErrors) as exc:  # the file was sound: what was given is not
        raise of_options(exc) from None
    return session.show(done.document, render, errors=done.trouble)


def of_options(error: HooperError) -> UsageError:
    """What is wrong with the file that would have been, as what is wrong with the options."""
    said: list[str] = []
    remedies = dict.fromkeys(single.remedy.removesuffix(".") for single in flatten(error))
    for single in flatten(error):
        path, colon, words = single.message.partition(": ")
        key = path.rpartition(".")[2].partition("[")[0] if colon else ""
        plain = bool(re.fullmatch(r"[a-z][a-z0-9_]*", key)) and path.count(".") >= 2
        message = f"--{key.replace('_', '-')}: {words}" if plain else single.message
        said.append(message)
    remedy = f"{'; '.join(remedies)}. Nothing was written."
    return UsageError("; ".join(dict.fromkeys(said)), remedy=remedy)


def render(document: EditDocument, out: Screen) -> None:
    """What was changed, key by key, and what is left to do."""
    from rich.text import Text

    from hooper.cli.render import findings, heading, indented

    if not document.changes and not document.follows:
        out.print(f"Nothing to change: {document.subject} is so already.")
        return
    would = f"would be {document.action}" if document.dry_run else document.action
    where = f" in {document.file}{' (not written)' if document.dry_run else ''}" if document.changes else ""
    heading(out, f"{document.subject}: {would}{where}")
    for change in document.changes:
        line = Text(f"   {change.key}", style="bold" if change.after is not None else "")
        if change.after is None:
            line.append("  gone" if not change.before else f"  gone, was {change.before}", style="red")
        elif change.before is None:
            line.append(f" = {change.after}")
        else:
            line.append(f" = {change.after}").append(f"  was {change.before}", style="dim")
        out.print(line)
    if document.findings:
        out.print()
        findings(out, document.findings)
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
