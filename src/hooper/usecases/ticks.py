"""Which sheets a person has ticked off as they now stand."""

from __future__ import annotations

from hooper.planning.worksheet import ticked_sheets
from hooper.sourced import Sourced
from hooper.usecases.run import Run


def ticked(run: Run) -> dict[str, Sourced[str]]:
    """By gateway: when its sheet was ticked off, where the plan has not changed since. Raises: StateError."""
    return ticked_sheets(run.site, run.plan, run.site.gateways, run.told())
