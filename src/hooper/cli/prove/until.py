"""hooper check --until answered"""

from __future__ import annotations

import sys
from contextlib import ExitStack
from typing import TYPE_CHECKING

from hooper.cli.parts.session import Session, console
from hooper.clock import shown_duration
from hooper.errors import EXIT_NEEDS_A_PERSON, worst
from hooper.usecases.prove.until import UntilLine, UntilRequest, until, waits_for

if TYPE_CHECKING:
    from collections.abc import Callable

    from hooper.check.results import From, Result
    from hooper.site.load import SiteFile
    from hooper.usecases.prove.check import CheckRequest


def look_until(session: Session, file: SiteFile, check: CheckRequest, every: float, hold: float) -> int:
    """A line for each probe, which shows the moment it turns: drawn anew on a terminal, else one for each turn."""
    live = sys.stdout.isatty() and not session.json and not session.plain

    def heard(line: UntilLine) -> None:
        if session.json:
            session.line(line)
        elif line.event == "trouble" and not live:
            session.say(f"This look could not be made: {line.detail}")
        elif line.result is not None and not live:
            one = line.result
            now = f"{line.before} → {one.verdict}" if line.before is not None else one.verdict
            session.say(f"{_mark(one)} {one.service}, {one.transport} {one.port}: {now}: {one.detail}")

    with ExitStack() as opened:
        drawn = _drawing(session, opened, every) if live else _nothing
        done = session.look(lambda run: until(run, UntilRequest(check, every, hold, heard, drawn)), file)
    code = session.failed(done.trouble)
    left = [result for result in done.document.results if waits_for(result)]
    if not left:
        proven = all(result.ok for result in done.document.results)
        session.note("All is ok." if proven else "All that can be proven is ok.")
        return code
    session.note(f"Not ok within {shown_duration(hold)}: {', '.join(dict.fromkeys(r.service for r in left))}.")
    session.ahead("proof")
    return worst([code, EXIT_NEEDS_A_PERSON])


def _mark(result: Result) -> str:
    return "✓" if result.ok else "?" if result.untold else "✗"


def _nothing(origin: From, results: list[Result], rounds: int) -> None:
    """A pipe is told each turn instead."""


def _drawing(session: Session, opened: ExitStack, every: float) -> Callable[[From, list[Result], int], None]:
    from rich.console import Group
    from rich.live import Live
    from rich.text import Text

    from hooper.cli.prove.results import results_table

    screen, session.drawn = console(), True
    live = opened.enter_context(Live(console=screen, auto_refresh=False, vertical_overflow="visible"))

    def draw(origin: From, results: list[Result], rounds: int) -> None:
        well = sum(result.ok for result in results)
        words = f"{well} of {len(results)} ok; look {rounds}, every {shown_duration(every)}; Ctrl-C ends it."
        shown = [session.masked_document(result) for result in results]
        live.update(Group(results_table(shown), Text(words, style="faint")), refresh=True)

    return draw
