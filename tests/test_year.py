"""Some weeks of keeping; `python -m fuzz.year` takes the whole year."""

from __future__ import annotations

from pathlib import Path

import pytest

from support.virtual import run_virtually
from support.year import judged, live, of_days

# a keeper that is killed leaves its sockets to the system; here there is none to take them
pytestmark = pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::pytest.PytestUnraisableExceptionWarning")


def test_some_weeks_of_keeping(tmp_path: Path) -> None:
    """What was published is what the line has, outages have their causes, rules of others stand, no secret is kept."""
    year = of_days(25, seed=7)
    counted = judged(year, *run_virtually(live, year, tmp_path, sockets=False))
    assert counted["killed"] >= 1
    assert counted["restarts"] <= counted["rules lost"] + counted["killed"]
    assert counted["addressed"] >= 25
    assert counted["updates"] <= counted["addressed"] + counted["refreshes"]
