"""hooper history"""

from __future__ import annotations

import csv
import io
import sys
from datetime import timedelta
from pathlib import Path
from typing import TYPE_CHECKING, get_args

from hooper.chosen import chosen
from hooper.cli.parts.command import command, within
from hooper.cli.parts.session import Session, sub_app
from hooper.cli.watch.status import MARKS
from hooper.clock import local, shown_duration
from hooper.errors import UsageError
from hooper.store.kept import Subject
from hooper.visible import shown

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.watch.history import HistoryDocument

app = sub_app("What happened: changes, outages with their cause, how often it was looked.")
KINDS: tuple[str, ...] = get_args(Subject)
TO_THE_SECOND = "%Y-%m-%d %H:%M:%S"
YEARS_S = 10 * 366 * 86_400.0


@command(app, "history", site=True, state=True, mask=True)
def history(
    session: Session,
    subject: list[str] | None = None,
    since: float = "7d",  # type: ignore[assignment]
    kind: list[str] | None = None,
    most: int = 200,
    as_csv: bool = False,
    figures: bool = False,
    out: Path | None = None,
) -> int:
    """What changed, when something was out of order and why, and how often each service was looked at."""
    from hooper.usecases.watch.history import history as look

    within("--since", since, 1, YEARS_S)
    if most < 1:
        raise UsageError(f"--most {most}: at least 1")
    if as_csv and session.json:
        raise UsageError("--csv and --json exclude each other", remedy="Give one of them.")
    if figures != (out is not None):
        raise UsageError("--figures and --out DIR go together", remedy="Give both, or none.")
    file = session.read_site()
    session.use_lab_time()
    kinds = chosen(kind or (), KINDS, "kind")
    begin, subjects = session.at - timedelta(seconds=since), tuple(subject or ())
    done = session.do(lambda run: look(run, begin, subjects, kinds, most), file, look=True)  # type: ignore[arg-type]
    if out is not None:
        _draw(session, out, since)
    if as_csv:
        _write_csv(session, done.document)
        return 0
    code = session.show(done.document, _render, errors=done.trouble)
    if not done.document.events:
        session.next("have-everything-looked", "keep")
    return code


def _draw(session: Session, folder: Path, since: float) -> None:
    from hooper.report.figures import draw_all
    from hooper.usecases.watch.history import gather

    file = session.read_site()
    begin = session.at - timedelta(seconds=since)
    past = session.do(lambda run: (gather(run, begin), []), file, look=True).document
    for path in draw_all(past.figures(), folder):
        session.note(f"Written to {path}.")


def _write_csv(session: Session, document: HistoryDocument) -> None:
    """RFC 4180, with a cell that a table program would take for a formula made text."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    names = ("at", "kind", "subject", "aspect", "before", "after", "level", "cause", "seconds", "detail")
    writer.writerow(names)
    for row in document.events:
        cells = [getattr(row, name) for name in names]
        writer.writerow(["" if cell is None else as_cell(session.worded(str(cell))) for cell in cells])
    sys.stdout.write(out.getvalue())


def as_cell(text: str) -> str:
    """A text as a cell of a table: on one line, and no formula."""
    text = shown(text)
    return f"'{text}" if text[:1] in ("=", "+", "-", "@") else text


def _render(document: HistoryDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, table
    from hooper.places import Place
    from hooper.usecases.watch.condition_kinds import aspect_words
    from hooper.words.said import state_words

    if not document.events:
        out.print(f"Nothing has changed since {local(document.since)}.")
        return
    heading(out, f"What changed since {local(document.since)}")
    if document.earlier:
        out.print(f"{document.earlier} earlier changes are not shown; --most shows more.")
    zone = local(document.since, "%Z")
    drawn = table("", f"when ({zone})", "what", "from", "to", "why", prose=("what", "why"))
    for row in document.events:
        mark, style = MARKS[row.level]
        side = aspect_words(row.kind, row.aspect)
        what = f"{row.kind} {row.subject}" + (f", {side}" if side else "")
        took = f"took {row.seconds:g} s" if row.seconds is not None else ""
        why = ", ".join(filter(None, (row.cause, took)))
        when = local(row.at, TO_THE_SECOND)
        before = state_words(row.before) if row.before else "-"
        drawn.add_row(Text(mark, style=style), when, what, before, Text(str(state_words(row.after)), style=style), why)
    out.print(drawn)
    if document.outages:
        out.print()
        heading(out, "Out of order")
        drawn = table("what", f"from ({zone})", f"until ({zone})", "for", "why", prose=("what",))
        for outage in document.outages:
            side = aspect_words(outage.kind, outage.aspect)
            what = f"{outage.kind} {outage.subject}" + (f", {side}" if side else "")
            end = local(outage.end, TO_THE_SECOND) if outage.end else "now"
            begin = local(outage.begin, TO_THE_SECOND)
            drawn.add_row(what, begin, end, shown_duration(round(outage.seconds)), outage.cause or "-")
        out.print(drawn)
    if document.looks:
        out.print()
        heading(out, "Checks")
        drawn = table("service", "from", "checks", "ok", "mean ms", right=("checks", "ok", "mean ms"))
        for looks in document.looks:
            share = f"{100 * looks.well / looks.looks:.1f} %" if looks.looks else "-"
            took_ms = f"{looks.took_ms:g}" if looks.took_ms is not None else "-"
            drawn.add_row(looks.service, Place.read(looks.place).shown, str(looks.looks), share, took_ms)
        out.print(drawn)
