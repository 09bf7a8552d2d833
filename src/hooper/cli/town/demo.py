"""hooper demo"""

from __future__ import annotations

import tempfile
from contextlib import aclosing
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, console, run_async, sub_app
from hooper.cli.parts.spelling import spelled
from hooper.environment import leave_lab
from hooper.errors import EXIT_NEEDS_A_PERSON, worst
from hooper.files import machine_error
from hooper.jsonform import each_text
from hooper.words.data import text

if TYPE_CHECKING:
    from collections.abc import Callable

    from hooper.cli.parts.render import Screen
    from hooper.usecases.demo import Scene

app = sub_app("The whole job on a simulated town, from nothing to proven.")


@command(app, "demo")
def demo(session: Session, out: Path | None = None) -> int:
    """The whole job on a simulated town, from nothing to proven. Touches no network, needs no rights."""
    from hooper.lab.documents import DemoDocument, Step
    from hooper.usecases.demo import leave_files, prepare_folder

    leave_lab()  # the demo makes a town of its own
    session.world = "lab"
    if out is not None:
        prepare_folder(out)
    screen = console()
    try:
        temporary = tempfile.TemporaryDirectory(prefix="hooper-demo-")
    except OSError as exc:
        raise machine_error(exc, "no temporary folder can be made") from None
    with temporary as folder:
        scenes = run_async(_play, session, Path(folder), None if session.json else screen)
    if out is not None:
        leave_files(out, text("next-steps.md"))
    steps = tuple(Step(scene.step, scene.ok, scene.took_ms) for scene in scenes)
    good = all(step.ok for step in steps)
    document = DemoDocument(steps, str(out) if out is not None else None)
    code = session.show(document, lambda shown, screen: _end(shown, screen, good=good))
    return worst([code, 0 if good else EXIT_NEEDS_A_PERSON])


async def _play(session: Session, folder: Path, screen: Screen | None) -> list[Scene]:
    from hooper.usecases.demo import play

    scenes: list[Scene] = []
    if screen is not None:
        _begin(screen)
    async with aclosing(play(folder)) as told:
        async for scene in told:
            session.detail(f"{scene.step}: {scene.took_ms} ms")
            if screen is not None and scene.step in _TOLD:  # the start and the sheets have nothing to show
                _TOLD[scene.step](each_text(scene, spelled), screen)
            scenes.append(scene)
    return scenes


def _begin(out: Screen) -> None:
    from hooper.cli.parts.render import heading

    heading(out, "The boathouse of the Heron Quay rowing club")
    out.print("A simulated town: nothing leaves this computer. The provider's router stands")
    out.print("before the club's own router. Nobody has entered anything, nothing is reachable.")


def _title(out: Screen, text: str, scene: Scene) -> None:
    from rich.text import Text

    out.print()
    mark = ("✓ ", "well") if scene.ok else ("✗ ", "wrong")
    out.print(Text.assemble(mark, (text, "bold"), (f"  {scene.took_ms / 1000:.1f} s", "faint")))


def _survey(scene: Scene, out: Screen) -> None:
    from hooper.cli.parts.from_where import numbers

    seen: Any = scene.told
    _title(out, "Survey: can anything from outside arrive here at all?", scene)
    public = seen.public_address.ipv4
    equal = tuple(row for row in seen.comparisons if row.left.value == row.right.value == public)
    numbers(equal[:1], out)


def _plan(scene: Scene, out: Screen) -> None:
    from hooper.cli.parts.render import counted
    from hooper.cli.prepare.plan import ways

    plan: Any = scene.told
    _title(out, f"Plan: {counted(len(plan.forwards), 'rule')} on two routers", scene)
    ways(plan.forwards, out)


def _router(scene: Scene, out: Screen) -> None:
    from hooper.cli.parts.render import indented

    changes: Any = scene.told
    added = [change.rule.service for change in changes if change.outcome == "added"]
    left = [change for change in changes if change.outcome == "by-hand"]
    _title(out, f"Router: {len(added)} rules entered by its own protocol, IGD, each for a week", scene)
    indented(out, f"{changes[0].gateway}: {', '.join(added)}", left=3)
    indented(out, f"by hand: {', '.join(c.rule.service for c in left)}, since {left[0].detail}", left=3)


def _name(scene: Scene, out: Screen) -> None:
    before, after = scene.told
    _title(out, "Name: it still has last week's address, and is updated", scene)
    for old, new in zip(before, after, strict=True):
        out.print(f"   {new.name}: {', '.join(old.published) or '-'} → {', '.join(new.published)}")
        out.print(f"   published, says the {new.published_source}")
        out.print(f"   public address, says {new.wanted_source}")


def _certificate(scene: Scene, out: Screen) -> None:
    row: Any = scene.told
    _title(out, "Certificate: ordered by ACME, proven by a TXT record, given to the hub", scene)
    out.print(f"   {', '.join(row.names)}, by {row.authority}, until {row.not_after[:10]}")


def _card(scene: Scene, out: Screen) -> None:
    card: Any = scene.told
    _title(out, f"Card: what to type away from home for {card.service}", scene)
    out.print(f"   {card.type}", style="bold")


def _typed(scene: Scene, out: Screen) -> None:
    entered: Any = scene.told
    _title(out, f"Worksheet: the other {len(entered)} rules typed into the routers' pages by hand", scene)


def _private(scene: Scene, out: Screen) -> None:
    from hooper.cli.prove.results import results_table

    given, seen = scene.told
    _title(out, f"Private access: {given.device} gets a tunnel to film-shell, and to nothing else", scene)
    out.print(f"   its file leads to {given.endpoint}; its private key is forgotten here")
    out.print("   away from home, by mobile data, through the tunnel:")
    out.print(results_table(seen.results, brief=True, header=False))


def _check(scene: Scene, out: Screen) -> None:
    from hooper.cli.prove.results import results_table
    from hooper.usecases.demo import DEADLINE

    outcome: Any = scene.told
    _title(out, f"Check: looked at from a phone's mobile data, within {DEADLINE:g} s", scene)
    shut = [result for result in outcome.results if result.expected == "unreachable" and result.ok]
    out.print(results_table([result for result in outcome.results if result not in shut], brief=True))
    out.print(f"Closed, as planned: {', '.join(result.service for result in shut)}.")


def _one_result(text: str, scene: Scene, out: Screen) -> None:
    from hooper.cli.prove.results import results_table

    outcome: Any = scene.told
    _title(out, text, scene)
    out.print(results_table(outcome.results, brief=True, header=False))


def _explained(scene: Scene, out: Screen) -> None:
    from hooper.cli.parts.render import indented

    found: Any = scene.told
    _title(out, "Why: the first broken link, and what to do", scene)
    for cause in found.causes:
        indented(out, f"{cause.certainty}: {cause.message}", left=3)
        indented(out, cause.remedy, mark="→ ", left=3)


def _witness(scene: Scene, out: Screen) -> None:
    from hooper.cli.parts.render import indented

    told: Any = scene.told
    _title(out, "Witness: the power goes at home, and somebody outside tells of it", scene)
    for one in told:
        indented(out, f"{one.code}: {one.says}" if one.code else str(one.says), left=3)


_TOLD: dict[str, Callable[[Scene, Screen], None]] = {
    "survey": _survey,
    "plan": _plan,
    "router": _router,
    "typed": _typed,
    "name": _name,
    "certificate": _certificate,
    "private": _private,
    "check": _check,
    "broken": partial(_one_result, "Someone mistypes: film-page's rule now names another device"),
    "explained": _explained,
    "mended": partial(_one_result, "Put right"),
    "card": _card,
    "witness": _witness,
}


def _end(document: Any, out: Screen, *, good: bool) -> None:
    took = sum(step.took_ms for step in document.steps) / 1000
    out.print()
    if not good:
        failed = ", ".join(step.step for step in document.steps if not step.ok)
        out.print(f"Failed: {failed}. Please report this.", style="wrong")
        return
    out.print(
        "Measured, planned, entered, named, certified, tunnelled, proven, broken, explained, mended, watched:"
        f" in {took:.1f} s.",
        style="well",
    )
    if document.folder is not None:
        out.print(f"{document.folder} has its site file, and NEXT.md the next commands.")
    else:
        out.print("Next: leave its site file and the next commands in a folder:")
        out.print("   hooper demo --out boathouse")
        out.print("Then: run its town in another terminal:")
        out.print("   hooper lab run")
