"""The questions of a guided run, answered by what was given or by the person."""

from __future__ import annotations

import sys
import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from hooper.cli.parts.session import Session, prompt
from hooper.errors import HooperError, UsageError
from hooper.planning.guide_values import SKIP, Asking, read_answer

Turn = Literal["answered", "back", "left"]
BACK, LEAVE = ("back",), ("leave", "quit")
WHY = ("?", "why", "why do you ask")
UNRECORDED = "secret"  # keys that hold it name where a secret stands: that is a person's own business


@dataclass
class Answers:
    """Those that were given beforehand, and where each answer is recorded.

    given: by key, with what gave it. record: the file; None: nowhere.
    """

    given: Mapping[str, tuple[str, str]]
    record: Path | None = None
    recorded: dict[str, str] = field(default_factory=dict)
    used: set[str] = field(default_factory=set)

    def take(self, question: Asking) -> str | None:
        """The answer that was given to it; None: there is none. Raises: UsageError: it is no answer to this."""
        if question.key not in self.given or question.key in self.used:
            return None
        text, by = self.given[question.key]
        self.used.add(question.key)
        if text == SKIP:
            return SKIP
        try:
            return read_answer(question, text)
        except ValueError as exc:
            raise UsageError(f"{by}: the answer to {question.key!r}: {exc}", remedy="Correct it.") from None

    def keep(self, key: str, answer: str, *, force: bool) -> None:
        """Write it down, in a file that is whole at every moment. Raises: MachineError, RefusedForSafety."""
        from hooper.files import MADE_BY, write_output
        from hooper.site.edit import literal

        if self.record is None or UNRECORDED in key:
            return
        self.recorded[key] = answer
        rows = "".join(f"{literal(name)} = {literal(said)}\n" for name, said in self.recorded.items())
        text = f"# {MADE_BY.decode()}: answers for `hooper guide --answers`.\n[answers]\n{rows}"
        write_output(self.record, text.encode(), force=force)


def given_answers(options: list[str], files: Path | None) -> dict[str, tuple[str, str]]:
    """What --answer and --answers give, the options last. Raises: UsageError."""
    found: dict[str, tuple[str, str]] = {}
    if files is not None:
        from hooper.files import read_text

        try:
            rows = tomllib.loads(read_text(files)).get("answers")
        except (tomllib.TOMLDecodeError, UnicodeDecodeError) as exc:
            raise UsageError(f"{files}: {exc}", remedy="Give a file that --record has written.") from None
        if not isinstance(rows, dict) or not all(isinstance(value, str) for value in rows.values()):
            remedy = 'It holds [answers], and below it lines such as title = "Home".'
            raise UsageError(f"{files}: there are no answers in it", remedy=remedy)
        found |= {key: (value, str(files)) for key, value in rows.items()}
    for text in options:
        key, equals, value = text.partition("=")
        if not equals or not key.strip():
            raise UsageError(f"--answer {text!r} is not understood", remedy="Write --answer QUESTION=ANSWER.")
        found[key.strip()] = (value, "--answer")
    return found


def put(
    session: Session,
    question: Asking,
    answers: Answers,
    waited: Callable[[], bool] = lambda: False,
    read: Callable[[str, str], str | None] = prompt,
) -> tuple[Turn, str]:
    """One question, until it is answered. waited: waits with the person, and tells that it is answered by itself.

    read: gives what is answered to a text, with what nothing means; None: nobody answers any more.
    """
    given = answers.take(question)
    if given is not None:
        session.note(f"\n{question.text}: {given}")
        return "answered", given
    _shown(session, question)
    if waited():
        return "answered", question.default
    while True:
        typed = read("Answer" if question.choices else str(session.worded(str(question.text))), question.default)
        if typed is None:
            return "left", ""
        word = typed.strip().lower()
        if word in WHY:
            session.note(f"   {question.why}")
        elif word in BACK:
            return "back", ""
        elif word in LEAVE:
            return "left", ""
        elif word == SKIP:
            return "answered", SKIP
        else:
            try:
                return "answered", read_answer(question, typed)
            except ValueError as exc:
                session.note(f"   {exc}")


def _shown(session: Session, question: Asking) -> None:
    """What is said before, the question, and its choices."""
    session.note()
    for told in question.told:
        session.note(str(told))
    if question.choices:
        session.told((f"{question.text}?", "bold"), (" (several: 1,3)" if question.several else "", "faint"))
        many = len(question.choices) > 20
        width = max(len(choice.word) for choice in question.choices)
        if many:
            session.note(f"   {', '.join(choice.word for choice in question.choices)}")
        for number, choice in enumerate(() if many else question.choices, 1):
            session.told(f"  {number:2}  ", (f"{choice.word:<{width}}", "told"), f"  {choice.means}", hang=width + 8)


def at_a_terminal() -> bool:
    """Whether a person sits here, whose next line can be seen coming."""
    return sys.stdin.isatty()


def line_comes() -> bool:
    """Whether a line has come at this terminal, or is being typed."""
    if sys.platform == "win32":
        import msvcrt

        return msvcrt.kbhit()
    import select

    return bool(select.select([sys.stdin], [], [], 0)[0])


def refuse(error: HooperError) -> int:
    """Tell what went wrong; the exit code."""
    from hooper.cli.parts import outcome

    outcome.print_errors(error)
    return error.exit_code
