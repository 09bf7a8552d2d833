"""Start-up by CPU time: the mean of the fastest quarter of twenty interleaved runs each, of up to eighty while a ratio
is over its limit, since a busy machine can only make a run dearer, and a single fast moment helps the short run more
than the long one. Exit code 1 if it stays over.

python benchmarks/startup.py
"""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).parents[1]
RUNS = 20
BASE = "import typer"
# what is run, with its limit as a multiple of the base; on a machine whose speed changes it is told to within a tenth
CASES = {"hooper --help": (["--help"], 1.4), "hooper plan": (["plan"], 4.7), "completion": ([], 1.6)}
ASKED = {"_HOOPER_COMPLETE": "complete_bash", "COMP_WORDS": "hooper check fi", "COMP_CWORD": "2"}


def program() -> str:
    """The `hooper` beside this interpreter."""
    found = shutil.which("hooper", path=str(Path(sys.executable).parent))
    assert found, "install hooper into this environment first"
    return found


def cpu_seconds(command: list[str], folder: Path, more: dict[str, str]) -> float:
    """User and system time of one run. more: of the environment."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    left_out = ("HOOPER_", "PYTHONDONTWRITEBYTECODE")  # Python keeps compiled modules, as it does by default
    environment = {key: value for key, value in os.environ.items() if not key.startswith(left_out)}
    more = {"XDG_STATE_HOME": str(folder), **more}  # nothing that was kept before is read
    subprocess.run(command, cwd=folder, env=environment | more, capture_output=True, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def fast(runs: list[float]) -> float:
    """The mean of the fastest quarter, in seconds."""
    quarter = sorted(runs)[: max(len(runs) // 4, 1)]
    return sum(quarter) / len(quarter)


def ratios(taken: dict[str, list[float]]) -> dict[str, float]:
    """How many times the base each case takes."""
    return {key: fast(taken[key]) / fast(taken[BASE]) for key in CASES}


def main() -> int:
    commands = {BASE: [sys.executable, "-c", BASE]}
    commands |= {name: [program(), *arguments] for name, (arguments, _) in CASES.items()}
    taken: dict[str, list[float]] = {key: [] for key in commands}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "site.toml").write_bytes((ROOT / "src" / "hooper" / "lab" / "boathouse.toml").read_bytes())
        for run in range(1, 4 * RUNS + 1):
            for key, command in commands.items():
                taken[key].append(cpu_seconds(command, folder, ASKED if key == "completion" else {}))
            if run % RUNS == 0 and all(ratio <= CASES[key][1] for key, ratio in ratios(taken).items()):
                break
    print(f"{BASE:<15}{fast(taken[BASE]) * 1000:6.0f} ms")
    for key, ratio in ratios(taken).items():
        print(f"{key:<15}{fast(taken[key]) * 1000:6.0f} ms  {ratio:.2f} times the base, limit {CASES[key][1]:g}")
    return 1 if any(ratio > CASES[key][1] for key, ratio in ratios(taken).items()) else 0


if __name__ == "__main__":
    sys.exit(main())
