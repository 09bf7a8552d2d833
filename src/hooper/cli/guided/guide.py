"""hooper guide"""

from __future__ import annotations

import sys
from contextlib import ExitStack
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.cli.guided.questioning import Answers, at_a_terminal, given_answers, put
from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, prompt, sub_app
from hooper.cli.parts.spelling import spelled
from hooper.errors import EXIT_NEEDS_A_PERSON, SiteFileError, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from hooper.cli.guided.deeds_done import Looked
    from hooper.cli.guided.with_phone import Phone
    from hooper.planning.guide_values import Asking, Doing, SoFar
    from hooper.planning.steps_ahead import AheadStep

app = sub_app("The whole job in one run, by questions; each step shows its command.")
FIRST = "Enter takes what stands in brackets. At every question: ? says why, back, skip, leave."
MOST = 400  # questions and deeds of one run: more is a circle


@dataclass
class Course:
    """The run so far. answers: by question. done: by name, with the exit code. trail: both, in their order."""

    answers: dict[str, str] = field(default_factory=dict)
    done: dict[str, int] = field(default_factory=dict)
    trail: list[tuple[str, str]] = field(default_factory=list)  # answer, look, edit or act, and which
    words: dict[str, str] = field(default_factory=dict)  # of what was done, its command


@command(app, "guide", site=True, state=True, deadline=5.0)
def guide(
    session: Session,
    answer: list[str] | None = None,
    answers: Path | None = None,
    record: Path | None = None,
    with_phone: bool = False,
    force: bool = False,
) -> int:
    """The whole job in one run, by questions: the line, the devices, who reaches what, the rules, the proof.

    It goes by what is known, so it can be left at any point and begun again. Nothing is changed that was not said
    first, and each step shows the command that does the same. Without a terminal: --answer or --answers.
    """
    from hooper.cli.guided.deeds_done import Looked, guided

    if force and record is None:
        raise UsageError("--force has no effect here", remedy="It goes with --record.")
    if with_phone and (session.json or session.quiet):
        raise UsageError("--with-phone shows a code to read", remedy="Leave --json and --quiet out.")
    ready = Answers(given_answers(answer or [], answers), record)
    course, seen = Course(), Looked()
    session.note(FIRST)
    with ExitStack() as opened:
        phone: Phone | None = None
        if with_phone:
            from hooper.cli.guided import with_phone as phones

            phone = opened.enter_context(phones.with_phone(session))
        opened.enter_context(guided())
        waits_for = _led(session, course, seen, ready, phone, force=force)
        code = _ended(session, course, seen, _known(session, course, seen).steps, waits_for)
        if phone is not None:
            phone.ended(code)
        return code


def _led(
    session: Session, course: Course, seen: Looked, ready: Answers, phone: Phone | None, *, force: bool
) -> Asking | None:
    """Question by question, deed by deed; the question that nobody answered, None: there is none."""
    from hooper.planning.guide_values import Doing
    from hooper.planning.guiding import comes_next

    for _ in range(MOST):
        known = _known(session, course, seen)
        move = comes_next(known)
        if move is None:
            break
        if isinstance(move, Doing):
            if phone is not None:
                phone.doing(move)
            _do(session, move, course, seen)
        elif (session.json or session.quiet) and move.key not in ready.given:
            return move if not move.key.startswith("wish ") else None
        elif not _asked(session, move, ready, course, seen, known, phone, force=force):
            break
    return None


def _known(session: Session, course: Course, seen: Looked) -> SoFar:
    """What the next question depends on, read anew: a person may have changed the file meanwhile."""
    from hooper.planning.guide_values import SoFar
    from hooper.planning.guide_wishes import SYSTEMS
    from hooper.usecases.watch.ahead import look_ahead

    system = SYSTEMS.get(sys.platform, "systemd")
    known = SoFar(None, None, (), course.answers, course.done, seen.devices, seen.missing, "", system, seen.before)
    try:
        file = session.read_site()
    except SiteFileError as exc:
        if exc.code != "site-file-missing":
            raise
        return known
    done = session.do(look_ahead, file, look=True)
    if not seen.outside and any(step.step == "proof" and step.state != "done" for step in done.document.steps):
        from hooper.cli.guided.deeds_done import place_outside

        seen.outside = place_outside(session, file)
    run = done.run
    return replace(known, site=run.site, plan=run.plan, steps=done.document.steps, outside=seen.outside)


def _do(session: Session, move: Doing, course: Course, seen: Looked) -> None:
    from hooper.cli.guided.deeds_done import do

    course.done[move.name] = do(session, move, seen)
    course.trail.append((move.kind, move.name))
    course.words[move.name] = spelled(move.deed)


def _asked(
    session: Session, question: Asking, ready: Answers, course: Course, seen: Looked, known: SoFar,
    phone: Phone | None, *, force: bool,
) -> bool:  # fmt: skip
    """One question; whether the run goes on."""
    from hooper.cli.guided.deeds_done import answers_meanwhile

    typing = question.key.startswith("typed ")

    def waited() -> bool:
        services = [s.subject for s in known.steps if s.step == "proof" and s.state != "done"]
        if not (typing and seen.outside and services and (phone is not None or at_a_terminal())):
            return False
        if session.world == "lab":
            by_hand = f"hooper worksheet {question.key.split()[1]} --json | hooper lab type -"
            session.note(str(say("guide.lab.type", command=by_hand)))
        session.note(f"It is looked at from {seen.outside} meanwhile; Enter when it is typed.")
        answered = answers_meanwhile(session, services, phone)
        if answered:
            session.note(str(say("guide.typed.seen")))
        return answered

    from hooper.words.said import say

    given = question.key in ready.given and question.key not in ready.used
    if phone is not None and not given:
        phone.ask(question, _sheet_of(session, course, question.key) if typing else b"")
    turn, said = put(session, question, ready, waited, phone.answered if phone is not None else prompt)
    if turn == "left":
        return False
    if turn == "back":
        _back(session, course, seen)
    elif question.key.startswith("mistake ") and said == "again" and not given:
        pass  # the file is read anew
    else:
        course.answers[question.key] = said
        course.trail.append(("answer", question.key))
        ready.keep(question.key, said, force=force)
    return True


def _sheet_of(session: Session, course: Course, question: str) -> bytes:
    """The sheet that is typed now, as a page to tick off."""
    import tempfile

    from hooper.cli.guided.deeds_done import run_command

    command = course.words.get(question.replace("typed ", "sheet ", 1), "").removeprefix("hooper ")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "sheet.html"
        if command:
            run_command(session, session.here(f"{command} --html --quiet --out {path}"))
        return path.read_bytes() if path.exists() else b""


def _back(session: Session, course: Course, seen: Looked) -> None:
    """Take back the last answer, what was kept of it, and the edits of the site file that followed from it."""
    from hooper import deeds
    from hooper.cli.guided.deeds_done import do, run_command
    from hooper.planning.guide_values import Doing
    from hooper.words.said import say

    last = next((at for at in range(len(course.trail) - 1, -1, -1) if course.trail[at][0] == "answer"), None)
    if last is None:
        session.note("   This is the first question.")
        return
    acted = [name for kind, name in course.trail[last:] if kind == "act"]
    if acted:
        stands = ", ".join(f"`{course.words[name]}`" for name in acted)
        session.note(f"   What was done since stands, and cannot be taken back here: {stands}.")
        return
    for kind, name in reversed(course.trail[last:]):
        if kind == "edit" and course.done.pop(name) == 0:
            session.note("   $ hooper " + session.here("undo"))
            run_command(session, session.here("undo"))
        elif kind == "look" and name.startswith(deeds.SURVEY):
            course.done.pop(name, None)  # it was told what is taken back now
        elif kind == "answer" and course.answers.pop(name) and name.startswith("wan "):
            taken = f"{deeds.SURVEY} {deeds.WAN_TAKEN_BACK(name.removeprefix('wan '))}"
            do(session, Doing(name, taken, "look", say("guide.do.survey")), seen)
    del course.trail[last:]


def _ended(session: Session, course: Course, seen: Looked, steps: Sequence[AheadStep], waits_for: Asking | None) -> int:
    """What stands, and what is left."""
    from hooper.cli.guided.deeds_done import show_what_stands
    from hooper.planning.guide_values import GuidedCommand, GuideDocument, WaitsFor

    left = [step for step in steps if step.state != "done"]
    open_still = len(left) if steps else 1  # without a site file nothing is done
    if session.json:
        asked = None
        if waits_for is not None:
            words = tuple(choice.word for choice in waits_for.choices)
            asked = WaitsFor(waits_for.key, str(waits_for.text), words, waits_for.default)
        commands = tuple(GuidedCommand(text, code) for text, code in seen.commands)
        session.show(GuideDocument(dict(course.answers), commands, open_still, asked), lambda document, out: None)
        return EXIT_NEEDS_A_PERSON if open_still or waits_for is not None else 0
    if seen.commands and steps:
        show_what_stands(session, steps)
    for key in (one.removeprefix("who ") for one, said in course.answers.items() if said == "while"):
        closing = session.here(f"service change {key} --reach lan")
        session.note(f"\n{key} is open for a while only. Afterwards: hooper {closing}")
        session.note(f"What was typed by hand is then to be taken off: hooper {session.here('worksheet --changed')}")
    if open_still:
        session.note(f"\nLeft to do: {', '.join(f'{step.step} {step.subject}' for step in left) or 'all of it'}.")
        session.note(f"Go on when you like: hooper {session.here('guide')}")
    else:
        session.note("\nAll is done and proven.")
    return EXIT_NEEDS_A_PERSON if open_still or waits_for is not None else 0
