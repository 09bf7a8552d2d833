"""What a guided run does: its own short looks, and else the commands themselves."""

from __future__ import annotations

import contextlib
import io
import shlex
import sys
from dataclasses import dataclass, field
from itertools import pairwise
from typing import TYPE_CHECKING

import anyio

from hooper.cli.parts.session import GUIDED, Session, console
from hooper.cli.parts.spelling import spelled
from hooper.cli.prepare.survey import routers_before
from hooper.errors import EXIT_INTERRUPTED, HooperError
from hooper.planning.guide_values import Before, DeviceHere, Doing, Untold
from hooper.words.said import say

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence

    from hooper.check.results import From, Result
    from hooper.cli.guided.with_phone import Phone
    from hooper.line.neighbours import FindDocument
    from hooper.planning.steps_ahead import AheadStep
    from hooper.planning.values import Plan
    from hooper.site.load import SiteFile
    from hooper.usecases.prepare.survey import SurveyDocument
    from hooper.usecases.run import Run

EVERY, HOLD = 3.0, 3600.0  # seconds between two looks while a person types, and for all of them


@dataclass
class Looked:
    """What the looks of this run came to."""

    found: FindDocument | None = None
    survey: SurveyDocument | None = None
    outside: str = ""
    commands: list[tuple[str, int]] = field(default_factory=list)

    @property
    def devices(self) -> list[DeviceHere]:
        """The new ones."""
        from hooper.cli.prepare.host import probably

        rows = self.found.hosts if self.found is not None else ()
        return [
            DeviceHere(row.address, (row.name or "").partition(".")[0], probably(row))
            for row in rows
            if row.state == "new"
        ]

    @property
    def missing(self) -> list[Untold]:
        return [Untold(one.gateway, str(one.where)) for one in self.survey.missing] if self.survey is not None else []

    @property
    def before(self) -> list[Before]:
        return routers_before(self.survey) if self.survey is not None else []


def do(session: Session, doing: Doing, seen: Looked) -> int:
    """Do it, with its command shown before; the exit code. With --json what it prints goes nowhere."""
    command = session.here(spelled(doing.deed).removeprefix("hooper "))
    session.note()
    session.told((f"{doing.title}:", "bold"))
    session.told((f"   $ hooper {command}", "told"), hang=5)
    try:
        with contextlib.redirect_stdout(io.StringIO()) if session.json else contextlib.nullcontext():
            code = _done(session, doing, seen, command)
    except HooperError as exc:
        from hooper.cli.guided.questioning import refuse

        code = refuse(exc)
    seen.commands.append((f"hooper {command}", code))
    return code


def _done(session: Session, doing: Doing, seen: Looked, command: str) -> int:
    words = shlex.split(command)
    if words[0] == "survey":
        return _survey(session, words, seen)
    if doing.name == "find":
        return _find(session, seen)
    if doing.name == "adopt" and seen.found is not None:
        from hooper.cli.prepare.host import adopt_found

        return adopt_found(session, session.read_site(), seen.found, [words[words.index("--add") + 1]])
    if doing.name == "plan":
        return _plan(session)
    return run_command(session, command)


def run_command(session: Session, command: str) -> int:
    """The command itself."""
    from hooper.cli.main import outcome

    sys.stdout.flush()
    code = outcome(shlex.split(command))
    sys.stdout.flush()
    if code == EXIT_INTERRUPTED:
        raise KeyboardInterrupt
    return code


def _say(session: Session, *lines: str) -> None:
    """What people read, on stdout, folded; with --json nothing."""
    from hooper.cli.parts.render import indented

    if not session.json:
        screen = console(plain=session.plain)
        for line in lines:
            indented(screen, session.worded(line), left=0)


def _survey(session: Session, words: list[str], seen: Looked) -> int:
    from hooper.cli.parts.from_where import parse_wan
    from hooper.line.judging import SENTENCES
    from hooper.usecases.prepare.survey import survey

    file = session.read_site()
    told = parse_wan([word for before, word in pairwise(words) if before == "--wan"], file.site)
    done = session.look(lambda run: survey(run, told, {}, session.deadline), file)
    seen.survey = document = done.document
    likely = document.can_forward is None and document.situation != "unclear"
    sentence = ("Likely, not proven: " if likely else "") + str(SENTENCES[document.situation])
    _say(session, sentence, *(f"{row.gateway}: {row.address}, outside {row.wan_address or 'not known yet'}"
                              for row in document.gateways))  # fmt: skip
    session.failed(done.trouble)
    return 0 if document.can_forward is not False else 1


def _find(session: Session, seen: Looked) -> int:
    from hooper.cli.prepare.host import render_foreign
    from hooper.usecases.prepare.hosts import find

    done = session.look(lambda run: find(run, session.deadline * 2, sweep=True), session.read_site())
    seen.found = document = done.document
    new = sum(row.state == "new" for row in document.hosts)
    _say(session, f"{len(document.hosts)} devices on {document.network}, {new} of them not in the site file yet.")
    if not session.json:
        for row in document.foreign:
            render_foreign(session.masked_document(row), console(plain=session.plain))
    return session.failed(done.trouble)


def _plan(session: Session) -> int:
    """The plan in three lines."""
    file = session.read_site()
    done = session.do(lambda run: (run.plan, []), file)
    plan: Plan = done.document
    by: dict[str, list[str]] = {}
    for rule in plan.forwards:
        port = f"{rule.transport} {'-'.join(map(str, dict.fromkeys(rule.outside_ports or ())))}".strip()
        by.setdefault(rule.service, []).append(f"{rule.gateway} ({port})")
    rules = "; ".join(f"{service}: {', then '.join(ways)}" for service, ways in by.items())
    counts = {word: sum(one.severity == word for one in plan.findings) for word in ("error", "warning", "note")}
    closed = [key for key, one in file.site.services.items() if one.reach != "public"]
    found = ", ".join(f"{number} {word}{'s' if number != 1 else ''}" for word, number in counts.items())
    _say(
        session,
        f"Rules: {rules or 'none'}.",
        f"Not from outside: {', '.join(closed) or 'nothing'}.",
        f"Findings: {found}.",
    )
    return 0 if plan.feasible else 1


def show_what_stands(session: Session, steps: Sequence[AheadStep]) -> None:
    """What was reached and is to be reached from outside, each in a line."""
    from hooper.cli.parts.render import line
    from hooper.planning.access import reaching
    from hooper.usecases.watch.status import status

    file = session.read_site()
    document = session.do(status, file, look=True).document
    rows = {row.subject: row for row in document.rows if row.kind == "service"}
    screen = console(plain=session.plain)
    shown = [key for key, one in file.site.services.items() if one.reach != "lan" and key in rows]
    if shown:
        screen.print()
    for key in shown:
        row = session.masked_document(rows[key])
        mark, style = {"well": ("✓", "well"), "wrong": ("✗", "wrong")}.get(row.level, ("?", "doubtful"))
        told = str(row.detail) or "not proven from outside"
        if file.site.services[key].reach == "tunnel" and row.level != "wrong":
            came = [step.subject for step in steps if step.step == "entry" and step.state == "done"]
            into = [peer for peer in came if peer in reaching(file.site, key)]
            told = str(say("guide.stands.by", peers=into) if into else say("guide.stands.tunnel"))
        line(screen, (f"{mark} ", style), (key, "bold"), f"  {told}", hang=2)


def place_outside(session: Session, file: SiteFile) -> str:
    """The place outside that this computer can look from now; empty: none."""
    from hooper.usecases.watch.ahead import outside_now

    try:
        return session.look(outside_now, file).document
    except HooperError:
        return ""


def answers_meanwhile(session: Session, services: Sequence[str], phone: Phone | None = None) -> bool:
    """Look from outside again and again while a person types; whether all answer before a line comes, or the phone's
    answer. phone: sees how each look comes out.
    """
    from hooper.cli.guided.questioning import at_a_terminal, line_comes
    from hooper.places import Place
    from hooper.usecases.prove.check import CheckRequest
    from hooper.usecases.prove.until import UntilRequest, until

    def drawn(origin: From, results: list[Result], rounds: int) -> None:
        if phone is not None:
            seen = {result.service: str(say("phone.seen" if result.ok else "phone.not-yet")) for result in results}
            phone.live(seen)

    check = CheckRequest(tuple(services), Place("interface", ""), {}, EVERY)
    request = UntilRequest(check, EVERY, HOLD, drawn=drawn)
    typing = at_a_terminal()
    came: list[bool] = []

    async def look(run: Run) -> tuple[bool, list[HooperError]]:
        async with anyio.create_task_group() as tasks:

            async def line() -> None:
                while not ((phone is not None and phone.pressed) or (typing and line_comes())):
                    await run.here.clock.sleep(0.2)
                tasks.cancel_scope.cancel()

            tasks.start_soon(line)
            document, _ = await until(run, request)
            came.append(bool(document.results) and all(result.ok for result in document.results))
            tasks.cancel_scope.cancel()
        return bool(came and came[0]), []

    session.drawn = True
    try:
        return session.look(look, session.read_site()).document
    except HooperError:
        return False
    finally:
        session.drawn = False


@contextlib.contextmanager
def guided() -> Iterator[None]:
    """Commands inside it say no next step of their own."""
    token = GUIDED.set(True)
    try:
        yield
    finally:
        GUIDED.reset(token)
