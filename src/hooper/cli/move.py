"""hooper move"""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.passphrase import passphrase_of
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import UsageError

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.moving import MovedDocument

app = sub_app("Take a site with its state and keys to another computer or folder.")


@command(app, "move", site=True, state=True, dry_run=EDIT_DRY_RUN)
def move(
    session: Session,
    out: Path | None = None,
    given: Path | None = None,
    to: Path | None = None,
    old: Path | None = None,
    anew: bool = False,
    passphrase: str | None = None,
    force: bool = False,
) -> int:
    """Take the site file, what it names, its state and its keys to another computer, sealed by a passphrase.

    Use them on one computer only: of two, neither knows what the other has entered.
    """
    from hooper.usecases import moving

    ways = [name for name, said in (("--out", out), ("--in", given), ("--state-of", old), ("--anew", anew)) if said]
    if len(ways) != 1:
        raise UsageError(
            f"{' and '.join(ways)} exclude each other" if ways else "nothing was asked for",
            remedy="Give --out FILE on the old computer, --in FILE on the new one; --state-of or --anew for a copy.",
        )
    for name, said, wanted in (
        ("--folder", to, "--in"),
        ("--force", force, "--out"),
        ("--passphrase", passphrase, "--out"),
    ):
        if said and ways[0] != wanted and not (name == "--passphrase" and ways[0] == "--in"):
            raise UsageError(f"{name} has no effect here", remedy=f"It goes with {wanted}.")
    from hooper.store.place import state_folder, state_path

    states = state_folder(session.state_folder)
    if given is not None:
        return _into(session, given, to or Path(), states, passphrase)
    file = session.read_site()
    if old is not None:
        done = moving.take_over(file, session.site_path, states, old, dry_run=session.dry_run)
        document = moving.MovedDocument(str(session.site_path), session.site_path.name, done, ())
        return session.show(document, lambda shown, screen: screen.print(f"{shown.file} has the state of {old} now."))
    if anew:
        return _anew(session)
    assert out is not None
    from hooper.files import write_output

    sealed = passphrase_of(session, passphrase, twice=True).reveal()
    data, document = moving.packed(file, session.site_path, state_path(session.state_folder, file), sealed)
    if not session.dry_run:
        write_output(out, data, keep=(session.site_path,), force=force, private=True)
    from dataclasses import replace

    code = session.show(replace(document, file=str(out)), _render)
    _then(
        session,
        "on the other computer; from then on, use only that one",
        "move",
        "--in",
        out.name if out != Path("-") else "FILE",
    )
    return code


def _into(session: Session, given: Path, to: Path, states: Path, passphrase: str | None) -> int:
    from hooper.files import machine_error, read_whole
    from hooper.store.sealed import LARGEST
    from hooper.usecases import moving

    try:
        data = read_whole(given, LARGEST)
    except OSError as exc:
        raise machine_error(exc, f"{given} cannot be read") from None
    sealed = passphrase_of(session, passphrase, twice=False).reveal()
    document = moving.unpacked(data, sealed, to, states, dry_run=session.dry_run)
    code = session.show(document, _render)
    state = ("--state", str(session.state_folder)) if session.state_folder is not None else ()
    _then(session, "see how it stands here", "status", "--site", document.file, *state)
    return code


def _then(session: Session, why: str, *words: str) -> None:
    """The next step, where it is of another site file or state than this command's."""
    session.not_written()
    if not session.dry_run:
        session.note(f"\nNext: {why}:\n   hooper {shlex.join(words)}")


def _anew(session: Session) -> int:
    from hooper.cli.parts.editing import finish
    from hooper.usecases.moving import made_another

    return finish(session, session.read_site(), made_another)


def _render(document: MovedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    heading(out, f"{document.file}: the site {document.site}")
    for text in document.carried:
        indented(out, text, mark="✓ ", left=3)
    for text in document.left:
        indented(out, f"bring by hand: {text}", mark="! ", left=3)
