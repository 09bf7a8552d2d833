"""hooper next"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import EXIT_NEEDS_A_PERSON, worst

if TYPE_CHECKING:
    from collections.abc import Iterable

    from hooper.cli.parts.render import Screen
    from hooper.planning.steps_ahead import AheadStep
    from hooper.usecases.watch.ahead import AheadDocument

app = sub_app("What comes next, of the whole job.")
TOGETHER = ("hooper check", "hooper worksheet")  # what one command does for several
MARKS = {"done": ("✓", "well"), "open": ("→", "told"), "blocked": ("·", "faint")}


@command(app, "next", site=True, state=True, mask=True)
def upcoming(session: Session) -> int:
    """What comes next, of the whole job: which steps are open, what each needs, and the command that does it.

    It asks nobody: it goes by the site file and by what was seen. Exit code 1 while something is open.
    """
    from hooper.usecases.watch.ahead import look_ahead

    done = session.do(look_ahead, session.read_site(), look=True)
    code = session.show(done.document, partial(_render, session=session), errors=done.trouble)
    return worst([code, EXIT_NEEDS_A_PERSON if done.document.left else 0])


def _render(document: AheadDocument, out: Screen, *, session: Session) -> None:
    from hooper.cli.parts.render import counted, heading

    done = [step for step in document.steps if step.state == "done"]
    if not document.left:
        heading(out, "All is done and proven.")
    else:
        minutes = f"about {counted(document.minutes, 'minute')}"
        heading(out, f"{counted(document.left, 'step')} left of {len(document.steps)}, {minutes}")
    for state in ("open", "blocked"):
        for steps in _alike(step for step in document.steps if step.state == state):
            out.print()
            _one(steps, out, session)
    if done and document.left:
        out.print()
        out.print(f"Done: {', '.join(_called(step) for step in done)}.")


def _alike(steps: Iterable[AheadStep]) -> list[list[AheadStep]]:
    """The steps in their order, those together that differ by their subject alone."""
    found: dict[tuple[str, str, tuple[str, ...]], list[AheadStep]] = {}
    for step in steps:
        words = step.command.replace(f" {step.subject}", "")
        apart = words if step.state == "blocked" or words.startswith(TOGETHER) else step.command
        found.setdefault((step.step, apart, step.after), []).append(step)
    return list(found.values())


def _one(steps: list[AheadStep], out: Screen, session: Session) -> None:
    from hooper.cli.parts.render import indented, line

    first, minutes = steps[0], sum(step.minutes for step in steps)
    mark, style = MARKS[first.state]
    whom = f"{minutes} min, by {'Hooper' if first.by == 'hooper' else 'you'}"
    several = ", ".join(step.subject for step in steps)
    name = _called(first) if len(steps) == 1 else f"{first.step} of {len(steps)}: {several}"
    why = f": {first.why}" if len(steps) == 1 else ""
    line(out, (f"{mark} ", style), (name, "bold"), why, (f"  {whom}", "faint"), hang=2)
    if first.state == "blocked":
        after = ", ".join(one.replace(":site", "").replace(":", " ") for one in first.after)
        indented(out, f"after {after}", left=2, style="faint")
    else:
        command = first.command if len(steps) == 1 else first.command.replace(f" {first.subject}", "")
        out.print(f"  {session.here_whole(command)}")


def _called(step: AheadStep) -> str:
    return step.step if step.subject == "site" else f"{step.step} {step.subject}"
