"""Some weeks of keeping; `python -m fuzz.year` takes the whole year."""

from __future__ import annotations

import gc
from pathlib import Path

import pytest

from support.virtual import run_virtually
from support.year import Year, judged, live, of_days

# a keeper that is killed leaves its sockets to the system; here there is none to take them
pytestmark = pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::pytest.PytestUnraisableExceptionWarning")


def _counted(year: Year, folder: Path) -> dict[str, int]:
    return judged(year, *run_virtually(live, year, folder, sockets=False))


def test_some_weeks_of_keeping(tmp_path: Path) -> None:
    """What was published is what the line has, outages have their causes, rules of others stand, no secret is kept."""
    year = of_days(14, seed=7)
    try:
        counted = _counted(year, tmp_path)
    finally:
        gc.collect()  # what was left by the keepers that were killed, before another test finds it
    assert counted["killed"] >= 1
    assert counted["restarts"] <= counted["rules lost"] + counted["killed"]
    assert counted["addressed"] >= 12
    assert counted["updates"] <= counted["addressed"] + counted["refreshes"]
