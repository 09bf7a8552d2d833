"""hooper edit"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from hooper.cli.parts.command import command
from hooper.cli.parts.editing import render
from hooper.cli.parts.outcome import print_errors
from hooper.cli.parts.session import Session, prompt, sub_app
from hooper.errors import HooperError, MachineError, flatten

app = sub_app("The site file in your editor, checked when you leave it.")
TAKE_A_LINE = ("editor", "vi", "vim", "nvim", "nano", "emacs", "joe", "mg", "micro")  # as +LINE, before the file
OTHER_EDITOR = "Set EDITOR to the command of one that is here, such as nano."
USUAL = ("editor", "nano", "vim", "vi", "notepad")


@command(app, "edit", site=True)
def edit(session: Session) -> int:
    """Open the site file in the editor that VISUAL or EDITOR names. What you leave takes its place once it is sound.

    With a mistake in it the site file stays as it was, and you are asked whether to go back to that line.
    """
    from hooper.usecases.prepare.drafting import Draft

    editor, draft, line = _editor(), Draft.begun(session.site_path), 0
    if draft.left_over:
        session.note(f"What was left unfinished is opened again: {draft.path}")
    if draft.outdated:
        session.note(f"! {session.site_path} has been changed since that was begun; what you leave replaces it.")
    while True:
        try:
            _run(editor, draft.path, line)
        except HooperError:
            draft.drop(unless_changed=True)
            raise
        try:
            document = draft.finish()
        except HooperError as exc:
            if session.json:
                raise
            print_errors(exc)
            line = next((one.where.line or 0 for one in flatten(exc) if one.where is not None), 0)
            if _again():
                continue
            session.note(f"{session.site_path} is as it was. Your text is kept in {draft.path}:")
            session.next("go-on-with-it", "edit")
            return exc.exit_code
        code = session.show(document, render)
        if document.changes:
            session.ahead()
        return code


def _again() -> bool:
    """Whether a person goes back to the editor."""
    on_terminal = sys.stdin.isatty() and sys.stderr.isatty()
    return on_terminal and (prompt("Back to the editor, yes or no", "yes") or "no").lower() in ("y", "yes")


def _editor() -> list[str]:
    """The editor's command. Raises: MachineError: there is none."""
    named = os.environ.get("VISUAL") or os.environ.get("EDITOR")
    found = shlex.split(named) if named else [one for one in USUAL if shutil.which(one)][:1]
    if not found or shutil.which(found[0]) is None:
        what = f"the editor {found[0]} is not here" if found else "no editor is known here"
        raise MachineError(what, code="editor-missing", remedy=OTHER_EDITOR)
    return found


def _run(editor: Sequence[str], path: Path, line: int) -> None:
    """line: where to begin; 0: at the start. Raises: MachineError: there is none, or it ended with an error."""
    at = [f"+{line}"] if line and Path(editor[0]).stem in TAKE_A_LINE else []
    try:
        code = subprocess.run([*editor, *at, str(path)], check=False).returncode  # noqa: S603 - the person's own editor
    except OSError as exc:
        raise MachineError(
            f"{editor[0]} cannot be started: {exc.strerror or exc}", code="editor-missing", remedy=OTHER_EDITOR
        ) from None
    if code:
        raise MachineError(
            f"{editor[0]} ended with code {code}, so nothing was taken from it",
            code="editor-failed",
            remedy="The site file is as it was; what you have written is there when you come back.",
        )
