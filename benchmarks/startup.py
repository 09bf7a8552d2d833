"""Start-up by CPU time: the mean of the fastest quarter of eight interleaved runs each, of up to 24 while a ratio
is over its limit, since a busy machine can only make a run dearer, and a single fast moment helps the short run more
than the long one. Exit code 1 if it stays over.

python benchmarks/startup.py [--all]; with --all what is run in the simulated town too.
"""

from __future__ import annotations

import json
import os
import resource
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

ROOT = Path(__file__).parents[1]
RUNS = 8
BASE = "import typer"
# What is run, with its limit as a multiple of the base; on a machine whose speed changes it is told to within a tenth.
CASES = {"hooper --help": (["--help"], 1.3), "hooper plan": (["plan"], 4.2), "completion": ([], 1.5)}
IN_LAB = {  # in the simulated town, whose answers come by a socket
    "status": 4.0, "card film-page": 5.5, "name list": 6.5, "peer list": 5.8, "tunnel list": 5.8, "cert list": 5.8,
    "router list": 6.0, "check film-page --from interface:usb0 --deadline 0.5": 8.0,
    "why film-page --from interface:usb0 --deadline 0.5": 9.0,
}  # fmt: skip
if "--all" in sys.argv[1:]:
    CASES |= {words: (words.split(), limit) for words, limit in IN_LAB.items()}
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
    ran = subprocess.run(command, cwd=folder, env=environment | more, capture_output=True, stdin=subprocess.DEVNULL)
    assert ran.returncode in (0, 1), (command, ran)  # 1: a person has something to do
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def fast(runs: list[float]) -> float:
    """The mean of the fastest quarter, in seconds."""
    quarter = sorted(runs)[: max(len(runs) // 4, 1)]
    return sum(quarter) / len(quarter)


@contextmanager
def lab(folder: Path) -> Iterator[dict[str, str]]:
    """A town in a process of its own: the environment by which a command works in it."""
    command = [program(), "lab", "run", "--json", "--while-stdin-open", "--out", str(folder / "lab")]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdin is not None
        assert process.stdout is not None
        found: dict[str, str] = json.loads(process.stdout.readline())["env"]
        yield found
        process.stdin.close()


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
        with ExitStack() as opened:
            town = opened.enter_context(lab(folder)) if "--all" in sys.argv[1:] else {}
            more = {key: town if key in IN_LAB else ASKED if key == "completion" else {} for key in commands}
            for run in range(1, 3 * RUNS + 1):
                for key, command in commands.items():
                    taken[key].append(cpu_seconds(command, folder, more[key]))
                if run % RUNS == 0 and all(ratio <= CASES[key][1] for key, ratio in ratios(taken).items()):
                    break
    print(f"{BASE:<56}{fast(taken[BASE]) * 1000:6.0f} ms")
    for key, ratio in ratios(taken).items():
        print(f"{key:<56}{fast(taken[key]) * 1000:6.0f} ms  {ratio:.2f} times the base, limit {CASES[key][1]:g}")
    return 1 if any(ratio > CASES[key][1] for key, ratio in ratios(taken).items()) else 0


if __name__ == "__main__":
    sys.exit(main())
