"""Questions at a terminal: each answer is checked at once, explained with ?, and can be changed in a review."""

from __future__ import annotations

import typer

from hooper.cli.parts.outcome import stderr_width
from hooper.cli.parts.session import prompt
from hooper.errors import UsageError
from hooper.folding import folded_lines
from hooper.planning.answers import Question, problem, questions, text_of, wrong_answer
from hooper.planning.starting import Start
from hooper.visible import shown_lines


def asked(start: Start) -> str:
    """The site file that a person's answers make. Raises: UsageError: the answers end too early."""
    if (wrong := problem({}, start)) is not None:
        raise UsageError(f"that makes no site: {wrong}", remedy="Correct what you gave; nothing was written.")
    say("Enter takes what stands in brackets; ? explains a question.")
    answers: dict[str, str] = {}
    while True:
        _ask_all(answers, start)
        number = _review(answers, start)
        if number is None:
            return text_of(answers, start)
        _ask_again(number, answers, start)


def _ask_all(answers: dict[str, str], start: Start) -> None:
    """Whatever was not asked yet; an answer may bring further questions."""
    while True:
        question = next((q for q in questions(answers, start) if q.key not in answers), None)
        if question is None:
            return
        answers[question.key] = _one(question, question.default, answers, start)


def _one(question: Question, default: str, answers: dict[str, str], start: Start) -> str:
    while True:
        given = _prompt(question.text, default)
        if given == "?":
            say(f"   {question.why}")
            continue
        if question.choices:
            given = given.lower()
        wrong = wrong_answer(question, given, answers, start)
        if wrong is None:
            return given
        say(f"   {wrong}")


def _review(answers: dict[str, str], start: Start) -> int | None:
    """The number of an answer that is to be changed; None: all is right."""
    rows = list(questions(answers, start))
    say("\nThis is what you said:")
    width = max(len(question.label) for question in rows)
    for number, question in enumerate(rows, 1):
        say(f"  {number:2}  {question.label:<{width}}  {answers[question.key] or '-'}")
    while True:
        given = _prompt("Enter if it is right, or the number of what is not", "")
        if not given:
            return None
        if given.isascii() and given.isdigit() and 1 <= int(given) <= len(rows):
            return int(given)
        say(f"   a number from 1 to {len(rows)}")


def _ask_again(number: int, answers: dict[str, str], start: Start) -> None:
    """One answer anew; what hung on it and does not fit any more is asked again too."""
    question = list(questions(answers, start))[number - 1]
    old = answers.pop(question.key)
    before = dict(answers)
    later = [q.key for q in questions({**answers, question.key: old}, start)][number:]
    for key in later:
        answers.pop(key, None)
    answers[question.key] = _one(question, old, answers, start)
    wanted = {q.key: q for q in questions({**before, question.key: answers[question.key]}, start)}
    for key in later:  # kept as long as they fit
        if key in wanted and key in before and wrong_answer(wanted[key], before[key], answers, start) is None:
            answers[key] = before[key]


def _prompt(text: str, default: str) -> str:
    """One answer. Raises: UsageError: there is none any more."""
    said = prompt(text, default)
    if said is None:
        raise UsageError(
            "the questions were not answered to the end; nothing was written",
            remedy="Answer them, or give --gateway KEY=LAN or --found.",
        )
    return said


def say(text: str) -> None:
    """A line for the person who is asked."""
    typer.echo(folded_lines(shown_lines(text), stderr_width()), err=True)
