"""What `hooper cert give` and `hooper cert bundle` show."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pathlib import Path

    from hooper.certs.documents import BundleDocument, GivenDocument
    from hooper.cli.parts.render import Screen
    from hooper.cli.parts.session import Session
    from hooper.site.load import SiteFile

STYLES = {"shown": "well", "already": "well", "given": "told", "nowhere": "told", "not-seen": "doubtful"}
STATES = {"shown": "shows it", "another": "shows ANOTHER one", "none": "shows none now"}


def render_given(document: GivenDocument, out: Screen) -> None:
    """Each certificate: what came of it, and what its services show."""
    from hooper.cli.parts.render import indented, line
    from hooper.words.said import state_words

    for row in document.certificates:
        style = STYLES.get(row.outcome, "wrong")
        mark = {"well": "✓", "told": "·", "doubtful": "?"}.get(style, "✗")
        line(
            out,
            f"{mark} {row.certificate}: ",
            (state_words(row.outcome), style),
            f"; {row.detail}" if row.detail else "",
        )
        for one in row.services:
            where = "inside" if one.place == "inside" else f"from {one.place}"
            indented(out, f"{one.service}, {where}: {STATES[one.state]}", left=3)


def bundled(
    session: Session, file: SiteFile, key: str, form: str, out: Path, passphrase: str | None, *, force: bool
) -> int:
    """Write the files, and show the steps; the exit code."""
    from hooper.cli.parts.passphrase import passphrase_of
    from hooper.usecases.act.bundling import bundle

    password = passphrase_of(session, passphrase, twice=True) if form == "pkcs12" else None
    done = session.do(
        lambda run: bundle(run, key, form, out, password, force=force),  # type: ignore[arg-type]
        file, state=True,
    )  # fmt: skip
    return session.show(done.document, _render_bundle, errors=done.trouble)


def _render_bundle(document: BundleDocument, out: Screen) -> None:
    from hooper.cli.parts.render import indented

    for path in document.files:
        out.print(f"Written to {path}")
    if document.steps:
        out.print()
    for number, step in enumerate(document.steps, 1):
        indented(out, step, mark=f"{number}. ", left=0)
