"""Which small damage to the modules that hold promises do the tests not see? `python -m scripts.mutants [MODULE ...]`

It needs mutmut beside the libraries of Hooper, in an environment without Hooper itself, whose source would be in the
way: `pip install mutmut`, then what `pyproject.toml` names. A module's mutants are tried with its own tests, in a copy
of the tree; those that live and are not excused in `mutants.toml` are printed. Exit code 1: fewer than 95 of 100 died.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).parents[1]
EXCUSED = Path(__file__).with_name("mutants.toml")
WANTED = 0.95
TESTS = {  # what each promises, and where that is tried
    "planning/kept_back": ("planning_depth", "planning"),
    "planning/unfolded": ("planning_depth", "planning"),
    "planning/access": ("tunnels", "openvpn_files", "planning", "rented"),
    "line/sources": ("one_answer", "line_and_diagnosis", "survey_table"),
    "check/comparing": ("whose_answer", "probes", "worlds", "redirects"),
    "check/targets": ("whose_answer", "over_six", "planning_depth", "probes", "redirects"),
    "evidence/identity": ("worlds", "whose_answer"),
    "store/journal": ("router_model", "state_rows", "routers"),
    "secret": ("secrets_stay_secret", "foundations", "names"),
}
CONFIG = """
[tool.mutmut]
source_paths = ["src"]
only_mutate = ["src/hooper/{module}.py"]
also_copy = ["tests", "fuzz", "benchmarks", "scripts", "docs", "README.md", "SECURITY.md", "CONTRIBUTING.md"]
pytest_add_cli_args = ["-n0", "-p", "no:cacheprovider", "-o", "addopts=--import-mode=importlib",
    "-k",  # these start programs, which would be without the mutant
    "not fault_of_ours and not start_is_light and not first_that_is_imported"]
pytest_add_cli_args_test_selection = {tests}
"""


def tried(module: str, folder: Path) -> tuple[int, dict[str, str]]:
    """How many mutants there are, and those that live, each as it differs from the module."""
    tree = folder / module.replace("/", "-")
    files = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, check=True, text=True).stdout
    for name in filter(None, files.split("\0")):
        (tree / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(ROOT / name, tree / name)
    tests = [f"tests/test_{name}.py" for name in TESTS[module]]
    with (tree / "pyproject.toml").open("a") as config:
        config.write(CONFIG.format(module=module, tests=tests).replace("'", '"'))
    environment = {**os.environ, "HOOPER_EXAMPLES": "20"}
    ran = subprocess.run(["mutmut", "run"], cwd=tree, env=environment, capture_output=True, text=True)
    counted = re.findall(r"(\d+)/(\d+)  ", ran.stdout)
    if not counted:
        raise SystemExit(f"{module}: mutmut did not come to an end:\n{ran.stdout[-2000:]}{ran.stderr[-2000:]}")
    listed = subprocess.run(["mutmut", "results"], cwd=tree, env=environment, capture_output=True, text=True).stdout
    living = re.findall(r"^ *(\S+): (?:survived|no tests)$", listed, re.M)
    shown = {
        name: subprocess.run(["mutmut", "show", name], cwd=tree, env=environment, capture_output=True, text=True).stdout
        for name in living
    }
    return int(counted[-1][1]), shown


def main(modules: list[str]) -> int:
    excused: dict[str, str] = tomllib.loads(EXCUSED.read_text(encoding="utf-8"))
    code = 0
    with tempfile.TemporaryDirectory() as folder:
        for module in modules or TESTS:
            count, living = tried(module, Path(folder))
            left = {name: text for name, text in living.items() if not any(_same(text, line) for line in excused)}
            died = 1 - len(left) / count if count else 1.0
            print(
                f"{module}: {count} mutants, {len(living)} live, {len(living) - len(left)} of them excused: {died:.1%}"
            )
            for name, text in left.items():
                print(f"\n{name}\n" + "\n".join(line for line in text.splitlines() if line[:1] in "+-"))
            code |= died < WANTED
    return code


def _same(shown: str, line: str) -> bool:
    """Whether a mutant makes this line, and so is the one that is excused."""
    return any(one.startswith("+") and one[1:].strip() == line for one in shown.splitlines())


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
