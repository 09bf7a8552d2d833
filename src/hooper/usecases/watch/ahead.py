"""What comes next, from what is kept: nobody is asked."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from hooper.clock import read_moment
from hooper.errors import UsageError
from hooper.places import Place
from hooper.planning.kept_back import refusals
from hooper.planning.openers import entering, ticked_sheets, typed_marks
from hooper.planning.steps_ahead import AheadStep, OutsideLook, Stands, steps_ahead
from hooper.usecases.watch.status import status

if TYPE_CHECKING:
    from datetime import datetime

    from hooper.errors import HooperError
    from hooper.usecases.run import Run
    from hooper.usecases.watch.status import StatusRow


@dataclass(frozen=True)
class AheadDocument:
    """`hooper next`. left: how many steps are not done. minutes: about how long they take. steps: in the order of the
    work, those that are done too.
    """

    left: int
    minutes: int
    steps: tuple[AheadStep, ...]


def look_ahead(run: Run) -> tuple[AheadDocument, list[HooperError]]:
    """The whole job, step by step. Raises: StateError."""
    stands, trouble = status(run)
    known = _stands(run, stands.rows, stands.keeper)
    if run.state is not None and run.site.tunnels:  # what was made and handed is known, whoever has looked since
        from hooper.usecases.private.tunnel_conditions import came_in, tunnels_now

        now: dict[tuple[str, str, str], str] = {
            (one.kind, one.subject, one.aspect): one.level for one in tunnels_now(run)
        }
        known = replace(known, levels={**known.levels, **now}, came=frozenset(came_in(run)))
    steps = steps_ahead(run.site, run.plan, entering(run.topology, run.plan), known)
    left = [step for step in steps if step.state != "done"]
    return AheadDocument(len(left), sum(step.minutes for step in left), steps), trouble


async def outside_now(run: Run) -> tuple[str, list[HooperError]]:
    """The interface of this computer that leads elsewhere than home; empty: none does, or it is not clear which."""
    from hooper.check.origin import elsewhere

    try:
        return await elsewhere(run.here, run.site), []
    except UsageError:
        return "", []


def _stands(run: Run, rows: tuple[StatusRow, ...], keeper: bool) -> Stands:
    levels: dict[tuple[str, str, str], str] = {(row.kind, row.subject, row.aspect): row.level for row in rows}
    held = {key: exc.remedy for key, exc in refusals(run.site, run.plan).items()}
    told, marks = run.told(), typed_marks(run.topology, run.plan, run.site.gateways, held)
    typed = {key: told[f"gateways.{key}/typed"] for key in marks if f"gateways.{key}/typed" in told}
    ticked = ticked_sheets(run.site, run.plan, run.site.gateways, told)
    ticked |= {key: tick for key, tick in typed.items() if tick.value == marks[key]}
    entered = max((tick.at for tick in ticked.values() if tick.at is not None), default=None)
    proofs = {row.subject: _proof(row, entered) for row in rows if row.kind == "service"}
    wished = bool(run.site.notices or run.site.keep.places)
    return Stands(levels, proofs, frozenset(ticked), held=held, wished=wished, keeper=keeper)


def _proof(row: StatusRow, entered: datetime | None) -> OutsideLook:
    """entered: when a person has last said that a sheet is: what failed before is history."""
    place = Place.read(row.aspect) if row.aspect else None
    outside = place is not None and place.kind != "here" and row.seen is not None
    if row.level == "wrong" and entered is not None and row.seen is not None and read_moment(row.seen) < entered:
        return OutsideLook("unknown", False, "")
    option = place.option if outside and place is not None else None
    return OutsideLook(row.level, outside, option or "")
