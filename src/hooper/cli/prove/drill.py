"""hooper drill"""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.from_where import parse_origin
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.parts.tables import day
from hooper.cli.watch.next_step import TOGETHER
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst
from hooper.store.preferences import preferences

if TYPE_CHECKING:
    from collections.abc import Sequence

    from hooper.cli.parts.render import Screen
    from hooper.planning.lasting import DrillRow
    from hooper.usecases.prove.drill import DrillDocument

app = sub_app("Before a journey: is everything proven, and does it last until the return?")
MARKS = {"ok": ("✓", "well"), "wrong": ("✗", "wrong"), "open": ("?", "doubtful")}
SEEN_BEFORE = "today"  # as a place: nothing is looked at now


@command(app, "drill", site=True, state=True, mask=True, deadline=5.0)
def drill(
    session: Session,
    until: str | None = None,
    origin: str | None = None,
    at_home: str | None = None,
    second_way: str | None = None,
    accounts: str | None = None,
    html: bool = False,
    out: Path | None = None,
    force: bool = False,
) -> int:
    """Before a journey: is everything proven from outside now, and does it last until the return?

    Certificates, profiles, rules, risks, names, the keeper, power cuts. What would fail before is named with the
    command that mends it. It says that you may go only after a proof from outside on that day. With --from today it
    looks nowhere, and what was seen from outside today counts, as by `hooper arrival`.
    """
    from hooper.usecases.prove.drill import DrillRequest
    from hooper.usecases.prove.drill import drill as look

    if until is None:
        raise UsageError("--until is missing", remedy="Give the day of the return, such as --until 2026-12-20.")
    if (out is not None and not html) or (force and out is None):
        raise UsageError("--out and --force have no effect here", remedy="They go with --html.")
    back = day("--until", until)
    word = origin or preferences().place or "interface"
    place = parse_origin(word, None) if word != SEEN_BEFORE else None
    if place is not None and place.kind in ("here", "hotspot"):
        raise UsageError(
            f"--from {word}: a drill looks from outside, while this computer is at home",
            remedy="Join a phone by cable and give --from interface; or prove it otherwise, then give --from today.",
        )
    given = {"at-home": at_home, "second-way": second_way, "accounts": accounts}
    told = {key: text for key, text in given.items() if text is not None}
    request = DrillRequest(back, place, told, session.deadline)
    done = session.look(lambda run: look(run, request), session.read_site())
    document = done.document
    if html and not session.json:
        from hooper.report.journey import as_page

        title = done.run.site.site.title or "this site"
        shown = session.masked_document(document)
        page = as_page(shown, session.worded(title), str(session.at.date()), lab=session.world == "lab")
        session.give(page, out, force=force)
        code = session.failed(done.trouble)
    else:
        code = session.show(document, partial(_render, session=session), errors=done.trouble)
    return worst([code, 0 if document.go else EXIT_NEEDS_A_PERSON])


def _render(document: DrillDocument, out: Screen, *, session: Session) -> None:
    from hooper.cli.parts.render import counted, heading

    wrong = [row for row in document.rows if row.state == "wrong"]
    unknown = [row for row in document.rows if row.state == "open"]
    if document.go:
        heading(out, f"You may go. All that is needed until {document.until} was proven from outside today.")
    elif not [row for row in document.rows if row.kind == "proof"]:
        heading(out, f"Nothing is to be reached from outside, so nothing can be proven until {document.until}.")
    else:
        heading(out, f"Not yet: {counted(len(wrong), 'thing')} would fail before {document.until}.")
    for title, rows in (("To do before you go", wrong), ("Nobody has said", unknown)):
        if rows:
            out.print()
            heading(out, title)
            _rows(rows, out, session)
    good = [row for row in document.rows if row.state == "ok"]
    if good:
        out.print()
        heading(out, "Lasts")
        _rows(good, out, session)
    if document.cards:
        out.print()
        heading(out, "What to type away from home")
        for card in document.cards:
            out.print(f"   {card.service}: {card.type}")


def _rows(rows: Sequence[DrillRow], out: Screen, session: Session) -> None:
    """Those together of which the same is said; with --plain each by itself."""
    from itertools import groupby

    from hooper.cli.parts.render import line

    def what(row: DrillRow) -> tuple[str, str, str, str]:
        return row.kind, row.state, str(row.detail), row.subject if session.plain else ""

    for (kind, state, detail, _), same in groupby(rows, what):
        alike = list(same)
        first, (mark, style) = alike[0], MARKS[state]
        names = ", ".join(row.subject for row in alike)
        name = kind if names in ("site", kind) else f"{kind} {names}"
        line(out, (f"{mark} ", style), (name, "bold"), f": {detail}", hang=2)
        if not first.command:
            continue
        command = session.here_whole(first.command)
        if len(alike) > 1 and command.startswith(TOGETHER):
            command = session.here_whole(first.command.replace(f" {first.subject}", ""))
        elif len(alike) > 1:
            command += "   (and so for each)"
        out.print(f"     {command}")
