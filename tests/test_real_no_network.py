"""The lab without any network: it is all in the town, and nothing of this computer."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from support.program import ROOT

pytestmark = pytest.mark.real
ALONE = ("unshare", "--net", "sh", "-c", 'ip link set lo up && exec "$@"', "sh")  # the loopback is not a network


def story(folder: Path, *wrap: str) -> dict[str, tuple[int, str]]:
    folder.mkdir()
    done = subprocess.run(
        [*wrap, sys.executable, "-m", "support.lab_story", str(folder)],
        capture_output=True, text=True, timeout=300, cwd=ROOT / "tests", check=False,
        env={**os.environ, "PYTHONPATH": str(ROOT / "tests")},
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return {line: (code, text) for line, code, text in json.loads(done.stdout)}


def test_each_command_of_the_lab_says_the_same_where_there_is_no_network(tmp_path: Path) -> None:
    with ThreadPoolExecutor() as both:
        here, alone = both.map(lambda way: story(tmp_path / way[0], *way[1]), (("here", ()), ("alone", ALONE)))
    assert {line: code for line, (code, _) in alone.items()} == {line: code for line, (code, _) in here.items()}
    for line, (_, text) in alone.items():
        assert text == here[line][1], line
    assert "no WireGuard server tells anything" in here["tunnel seen oars"][1]  # whatever this computer has
    assert here["check"][0] in (0, 1)
