"""hooper profile ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.from_where import parse_public
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.files import STDIO

if TYPE_CHECKING:
    from collections.abc import Sequence

    from hooper.cli.parts.render import Screen
    from hooper.tunnels.documents import MendedDocument, ProfileFinding, ProfilesDocument

app = sub_app("A profile that some device exported: what is wrong in it, mended.", group=True)

STYLE = {"error": "wrong", "warning": "doubtful", "note": "told"}


@command(app, "profile check", site=True, mask=True)
def check(session: Session, file: list[Path] | None = None, public: list[str] | None = None) -> int:
    """What is wrong in files that devices exported: where they lead, what goes in, what leaks, whose keys they have.

    Each is held against the site file: which tunnel it is of is told by the server's key, which peer by its own.
    """
    from hooper.usecases.prepare.profiles import check as look

    site = session.read_site()
    if not file:
        raise UsageError("FILE is missing", remedy="Name the file that the device or its page exported.")
    done = session.do(lambda run: look(run, tuple(file), parse_public(public or [], site.site)), site)
    code = session.show(done.document, _render_check, errors=done.trouble)
    rows = done.document.profiles
    can = next((row for row in rows if any(one.mend for one in row.findings)), None)
    if can is not None:
        path = Path(can.file)
        path = Path("exported.conf") if path == STDIO else path
        mended = f"{path.stem}-mended{path.suffix}"
        session.next("have-it-mended", ("profile", "mend", str(path), "--out", mended))
    grave = any(one.severity == "error" for row in rows for one in row.findings)
    return worst([code, EXIT_NEEDS_A_PERSON if grave else 0])


@command(app, "profile mend", site=True, mask=True, dry_run=EDIT_DRY_RUN)
def mend(
    session: Session,
    file: Path | None = None,
    out: Path | None = None,
    public: list[str] | None = None,
    force: bool = False,
    take_in: list[str] | None = None,
    keep: list[int] | None = None,
) -> int:
    """A mended copy of a file: only the wrong bytes change, and what was changed is shown. The file itself stays."""
    from hooper.usecases.prepare.profiles import MendRequest
    from hooper.usecases.prepare.profiles import mend as do_mend

    site = session.read_site()
    if file is None:
        raise UsageError("FILE is missing", remedy="Name the file that the device or its page exported.")
    if out is None:
        raise UsageError("--out is missing", remedy=f"Name the copy: --out {file.stem}-mended{file.suffix}.")
    request = MendRequest(
        file,
        out,
        force,
        parse_public(public or [], site.site),
        tuple(take_in or ()),
        tuple(keep or ()),
        session.dry_run,
    )
    done = session.do(lambda run: do_mend(run, request), site)
    code = session.show(done.document, _render_mended, errors=done.trouble)
    session.not_written()
    return worst([code, EXIT_NEEDS_A_PERSON if any(one.severity == "error" for one in done.document.left) else 0])


def _render_check(document: ProfilesDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading

    for number, row in enumerate(document.profiles):
        if number:
            out.print()
        what = "the server's own file" if row.server else f"the file of {row.peer}" if row.peer else "a device's file"
        of = f" of the tunnel {row.tunnel}" if row.tunnel else ", of no tunnel of this site"
        heading(out, f"{row.file}: {what}{of}")
        if not row.findings:
            out.print("   Nothing is wrong in it.")
        _findings(row.findings, out)


def _findings(findings: Sequence[ProfileFinding], out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import indented

    for one in findings:
        where = f"line {one.line}" if one.line else "the file"
        out.print(Text.assemble(f"   {where:<9}", (f"{one.severity:<8}", STYLE[one.severity]), one.code))
        indented(out, one.message, left=12)
        indented(
            out,
            f"{one.mend} (`hooper profile mend` does that in a copy)" if one.mend else one.remedy,
            mark="→ ",
            left=12,
        )


def _render_mended(document: MendedDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading

    if document.written is None:
        heading(out, f"{document.file}: nothing to mend")
    else:
        heading(out, f"{document.file}: mended in {document.written}")
        for line in document.difference:
            out.print(f"   {line[:1]} {line[1:]}")
    if document.left:
        out.print()
        heading(out, "Left to do, by hand")
        _findings(document.left, out)
