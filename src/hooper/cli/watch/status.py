"""hooper status"""

from __future__ import annotations

import sys
import time
from dataclasses import replace
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.clock import SystemClock, read_moment, shown_duration
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Grid, Screen
    from hooper.usecases.watch.status import StatusDocument, StatusRow

app = sub_app("The one screen: how everything stands, and what needs a person.")
MARKS = {"well": ("✓", "well"), "wrong": ("✗", "wrong"), "unknown": ("?", "doubtful"), "fact": ("·", "faint")}
EVERY_S = 2.0  # seconds between two looks with --watch


@command(app, "status", site=True, state=True, mask=True)
def status(session: Session, watch: bool = False) -> int:
    """How everything stands: since when, when and from where that was last proven, what is next, what needs a person.

    It asks nobody: it shows what `keep`, `check` and the other commands have seen. Exit code 1 if something needs a
    person.
    """
    if not watch:
        return _once(session)
    if not sys.stdout.isatty():
        raise UsageError(
            "--watch draws on a terminal", remedy="Leave it out; `hooper keep run --json` tells what changes."
        )
    code = 0
    try:
        while True:
            sys.stdout.write("\x1b[H\x1b[2J")
            session.at = SystemClock().now()
            code = _once(session)
            sys.stdout.flush()
            time.sleep(EVERY_S)
    except KeyboardInterrupt:  # which is how it ends
        return code


def _once(session: Session) -> int:
    from hooper.usecases.watch.status import status as look

    file = session.read_site()
    done = session.do(look, file, look=True)
    document = done.document
    code = session.show(document, partial(_render, now=session.at, verbose=session.verbose), errors=done.trouble)
    if not session.ahead() and not document.keeper:
        session.next("have-it-kept", "keep")
    return worst([code, EXIT_NEEDS_A_PERSON if document.needs_person else 0])


def _render(document: StatusDocument, out: Screen, now: datetime, *, verbose: bool) -> None:
    from hooper.cli.parts.from_where import numbers
    from hooper.cli.parts.render import findings, heading, indented, line
    from hooper.words.said import state_words

    mark, said = _verdict(document)
    line(out, (f"{MARKS[mark][0]} ", MARKS[mark][1]), (said, "bold"))
    wrong = [row for row in document.rows if row.needs]
    for row in wrong:
        out.print()
        since = f" since {_age(row.since, now)}" if row.since else ""
        cause = (f"  {row.cause}", "faint") if row.cause else ""
        line(out, ("✗ ", "wrong"), (_name(row), "bold"), f": {state_words(row.state)}{since}", cause, hang=2)
        out.about = _name(row)
        if row.detail:
            indented(out, row.detail, left=2)
        indented(out, row.needs, mark="→ ", left=2)
    if document.findings:
        out.print()
        findings(out, document.findings)
    rest = [row for row in document.rows if not row.needs and row.kind not in ("address", "risk")]
    if rest:
        out.print()
        heading(out, "Everything else" if wrong else "Everything")
        out.print(_table(rest if verbose else _gathered(rest), now, keeper=document.keeper))
    numbers(document.comparisons, out, verbose=verbose)
    out.print()
    out.print("A keeper runs." if document.keeper else "No keeper runs: nothing of this is kept so by itself.")


def _verdict(document: StatusDocument) -> tuple[str, str]:
    from hooper.cli.parts.render import counted

    unseen = sum(row.freshness == "never" for row in document.rows)
    if document.needs_person:
        need = "needs" if document.needs_person == 1 else "need"
        return "wrong", f"{counted(document.needs_person, 'thing')} {need} you"
    if unseen == len(document.rows):
        return "unknown", "Nothing has been checked yet."
    if unseen:
        return "unknown", f"Nothing is known to need a person; {counted(unseen, 'thing')} not checked yet"
    return "well", "Nothing needs a person."


def _gathered(rows: list[StatusRow]) -> list[StatusRow]:
    """The rules that are well, one row for each router: the oldest look counts."""
    out: list[StatusRow] = []
    by_router: dict[str, list[StatusRow]] = {}
    for row in rows:
        if row.kind == "rule" and row.level == "well":
            by_router.setdefault(row.aspect, []).append(row)
            if len(by_router[row.aspect]) > 1:
                continue
        out.append(row)
    for number, row in enumerate(out):
        mine = by_router.get(row.aspect, []) if row.kind == "rule" and row.level == "well" else []
        if len(mine) > 1:
            seen = min((one.seen for one in mine if one.seen is not None), default=None)
            since = max((one.since for one in mine if one.since is not None), default=None)
            out[number] = replace(row, subject=f"{len(mine)} services", seen=seen, since=since)
    return out


def _table(rows: list[StatusRow], now: datetime, *, keeper: bool) -> Grid:
    from rich.text import Text

    from hooper.cli.parts.render import table
    from hooper.words.said import state_words

    last = ("next",) if keeper else ()
    drawn = table("", "what", "state", "since", "last proof", "ago", *last, prose=("last proof",), right=("ago",))
    for row in rows:
        mark, style = MARKS[row.level]
        seen = Text(
            _age(row.seen, now), style={"fresh": "", "fading": "faint", "old": "faint"}.get(row.freshness, "faint")
        )
        proof = Text(str(row.proof), style="" if row.freshness == "fresh" else "faint")
        upcoming = (_until(row.next, now),) if keeper else ()
        state = Text(str(state_words(row.state)), style=style)
        drawn.add_row(Text(mark, style=style), _name(row), state, _age(row.since, now), proof, seen, *upcoming)
    return drawn


def _name(row: StatusRow) -> str:
    """What a row is about, as people call it."""
    from hooper.usecases.watch.condition_kinds import aspect_words

    if row.kind == "service":
        return row.subject
    if row.kind == "rule":
        return f"rule for {row.subject} on {row.aspect}"
    if row.kind == "router" and row.aspect:
        return f"rules on {row.subject}, by hand"
    if row.kind == "certificate" and row.aspect:
        return f"certificate {row.subject}, {aspect_words(row.kind, row.aspect)}"
    if row.kind == "name":
        return row.subject + (f" ({row.aspect})" if row.aspect != "A" else "")
    if row.aspect == "way":
        return f"{'peer ' if row.kind == 'peer' else 'tunnel '}{row.subject}, {aspect_words(row.kind, row.aspect)}"
    if row.kind == "peer" and row.aspect:
        return f"peer {row.subject}" + (", last seen" if row.aspect == "seen" else "")
    return f"{row.kind} {row.subject}"


def _age(moment: str | None, now: datetime) -> str:
    if moment is None:
        return "-"
    seconds = (now - read_moment(moment)).total_seconds()
    return shown_duration(max(round(seconds), 0)) if seconds >= 1 else "now"


def _until(moment: str | None, now: datetime) -> str:
    if moment is None:
        return "-"
    seconds = (read_moment(moment) - now).total_seconds()
    return f"in {shown_duration(round(seconds))}" if seconds >= 1 else "now"
