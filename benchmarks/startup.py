"""Start-up by CPU time: the least of twenty interleaved runs each. Exit code 1 if a ratio is over its limit.

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
# what is run, with its limit as a multiple of the base
CASES = {"hooper --help": (["--help"], 2.0), "hooper plan": (["plan"], 4.0)}


def program() -> str:
    """The `hooper` beside this interpreter."""
    found = shutil.which("hooper", path=str(Path(sys.executable).parent))
    assert found, "install hooper into this environment first"
    return found


def cpu_seconds(command: list[str], folder: Path) -> float:
    """User and system time of one run."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    left_out = ("HOOPER_", "PYTHONDONTWRITEBYTECODE")  # Python keeps compiled modules, as it does by default
    environment = {key: value for key, value in os.environ.items() if not key.startswith(left_out)}
    subprocess.run(command, cwd=folder, env=environment, capture_output=True, check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime - before.ru_utime + after.ru_stime - before.ru_stime


def main() -> int:
    commands = {BASE: [sys.executable, "-c", BASE]}
    commands |= {name: [program(), *arguments] for name, (arguments, _) in CASES.items()}
    least = dict.fromkeys(commands, float("inf"))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "site.toml").write_bytes((ROOT / "src" / "hooper" / "lab" / "boathouse.toml").read_bytes())
        for _ in range(RUNS):
            for key, command in commands.items():
                least[key] = min(least[key], cpu_seconds(command, folder))
    over = 0
    print(f"{BASE:<15}{least[BASE] * 1000:6.0f} ms")
    for key, (_, limit) in CASES.items():
        ratio = least[key] / least[BASE]
        over += ratio > limit
        print(f"{key:<15}{least[key] * 1000:6.0f} ms  {ratio:.2f} times the base, limit {limit:g}")
    return 1 if over else 0


if __name__ == "__main__":
    sys.exit(main())
