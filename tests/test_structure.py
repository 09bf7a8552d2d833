"""The house: which way arrows point, what is pure, how long things are, one meaning a name."""

from __future__ import annotations

import ast
import re
from collections import defaultdict
from collections.abc import Iterator
from functools import cache
from graphlib import TopologicalSorter
from pathlib import Path

import pytest

from support.source import SOURCE, nodes, trees

FOUNDATIONS = "foundations"
ORDER = (
    "words", FOUNDATIONS, "site", "wire", "net", "planning", "evidence", "report", "store", "lab", "gateways", "line",
    "names", "certs", "check", "why", "tunnels", "witness", "usecases", "keep", "cli",
)  # fmt: skip
PURE = ("words", "site", "wire", "planning", "evidence")
NO_IO = {"socket", "ssl", "asyncio", "anyio", "httpcore", "subprocess", "sqlite3", "time", "threading", "psutil"}
DEEDS = {"hooper.files", "hooper.clock.SystemClock"}  # foundations that look at this computer
LONGEST_MODULE, LONGEST_FUNCTION = 500, 60
SAME = {
    "documents", "facts", "results",  # roles: what is printed, what a judgement is made from
    "stand_in", "worksheet", "plan", "card", "arrival", "why", "visit", "until", "tunnel_proof", "temporary", "survey",
    "status", "starting", "drill", "sheets", "companion", "reporting", "lists", "history", "edits", "demo", "check",
    "audit",  # jobs
    "tunnel", "router", "name", "certificates",  # kinds of entity
    "stun", "openvpn", "nat64", "igd", "acme",  # protocols
}  # fmt: skip


@cache
def _modules() -> dict[str, tuple[Path, ast.Module]]:
    found = {}
    for name, tree in trees().items():
        path = SOURCE / name
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        found[".".join(parts).removesuffix(".__init__")] = path, tree
    return found


def _imports(tree: ast.AST) -> Iterator[str]:
    """What a module imports anywhere in it, names of other modules taken apart from what they hold."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            for alias in node.names:
                whole = f"{node.module}.{alias.name}"
                yield whole if whole in _modules() or node.module not in _modules() else node.module


def _package(module: str) -> str:
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and (SOURCE / parts[1]).is_dir() else FOUNDATIONS


def _pure() -> set[str]:
    """The modules of the pure packages, and all that call themselves so in their first sentence or paragraph."""
    return {
        name
        for name, (_, tree) in _modules().items()
        if _package(name) in PURE or re.search(r"\bPure[.:]", ast.get_docstring(tree) or "")
    }


def test_every_package_has_its_place_in_the_order() -> None:
    packages = {path.name for path in SOURCE.iterdir() if path.is_dir() and path.name != "__pycache__"}
    assert packages == set(ORDER) - {FOUNDATIONS}


@pytest.mark.parametrize("package", ORDER)
def test_no_arrow_points_up(package: str) -> None:
    """A package uses those below it in the order; the program's own entrance uses all."""
    allowed = ORDER[: ORDER.index(package) + 1]
    up = {
        (name, target)
        for name, (_, tree) in _modules().items()
        if _package(name) == package and name not in ("hooper.__main__",)
        for target in _imports(tree)
        if target.split(".")[0] == "hooper" and _package(target) not in allowed
    }
    assert not up


def test_other_packages_use_a_package_by_its_face() -> None:
    """`__all__` of a package, or of a room in it, names the modules that others use, and no other."""
    used: dict[str, set[str]] = defaultdict(set)
    for name, (_, tree) in _modules().items():
        for target in {*_imports(tree)} & {*_modules()}:
            if FOUNDATIONS != _package(target) != _package(name) and target.count(".") > 1:
                used[target.rpartition(".")[0]].add(target.rpartition(".")[2])
    for name, (path, tree) in _modules().items():
        if path.name == "__init__.py" and name != "hooper":
            faces = [node.value for node in tree.body if isinstance(node, ast.Assign)]
            shown = set(ast.literal_eval(faces[0])) if faces else set()
            assert shown == used[name], f"{name}: not shown, or used by nobody else: {shown ^ used[name]}"


def test_a_modules_name_means_one_thing() -> None:
    """What stands twice is the same thing at another layer: a job, a kind of entity, a protocol, or the role `SAME`."""
    where: dict[str, list[str]] = defaultdict(list)
    for name, (path, _) in _modules().items():
        if path.name != "__init__.py":
            where[name.rpartition(".")[2]].append(_package(name))
    wrong = {stem: places for stem, places in where.items() if len(places) > 1 and stem not in SAME}
    assert not wrong
    assert not {stem for stem, places in where.items() if len(set(places)) != len(places)}
    assert {stem for stem, places in where.items() if len(places) > 1} == SAME


def test_no_module_comes_back_to_itself() -> None:
    """No circle, not even of imports in a function or for types alone."""
    graph = {name: {*_imports(tree)} & {*_modules()} - {name} for name, (_, tree) in _modules().items()}
    TopologicalSorter(graph).prepare()  # else a CycleError names the modules


def _at_the_top(tree: ast.Module) -> Iterator[str]:
    """What comes with a module when it is imported; not what its types alone need."""
    for node in tree.body:
        if isinstance(node, ast.Import | ast.ImportFrom):
            yield from _imports(node)


def test_what_calls_itself_pure_is_so_all_the_way_down() -> None:
    """No socket, file, clock or event loop, in it or in anything of ours that comes with it."""
    pure = _pure()
    assert {"hooper.why.diagnosis", "hooper.line.situation", "hooper.line.sources", "hooper.planning.plan"} <= pure
    wrong = []
    for name in sorted(pure):
        ways = [(name, target) for target in _imports(_modules()[name][1])]
        seen: set[str] = set()
        while ways:
            by, target = ways.pop()
            if target.split(".")[0] in NO_IO or target in DEEDS:
                wrong.append((name, by, target))
            elif target in _modules() and target not in seen:
                seen.add(target)
                if _package(target) != FOUNDATIONS:
                    ways += [(target, further) for further in _at_the_top(_modules()[target][1])]
    assert not wrong


def test_sockets_are_opened_in_the_door_and_the_lab_alone() -> None:
    for name, (path, tree) in _modules().items():
        if _package(name) not in ("net", "lab"):
            assert not {"socket", "asyncio"} & {target.split(".")[0] for target in _imports(tree)}, path


def test_use_cases_know_no_terminal() -> None:
    """They are for the command line, the keeper and whoever comes next."""
    for name, (path, tree) in _modules().items():
        if _package(name) not in ("cli", FOUNDATIONS):
            assert not {"typer", "rich", "click"} & {target.split(".")[0] for target in _imports(tree)}, path


def test_nothing_waits_by_another_clock_than_the_doors() -> None:
    """What a test or the lab moves is the time of everything between the door and the command line."""
    for name, (path, tree) in _modules().items():
        if _package(name) in ("gateways", "line", "names", "certs", "check", "why", "tunnels", "witness", "usecases"):
            calls = {ast.unparse(node.func) for node in ast.walk(tree) if isinstance(node, ast.Call)}
            assert not calls & {"anyio.current_time", "anyio.sleep", "os.urandom", "datetime.now", "time.time"}, path


def test_nothing_is_too_long() -> None:
    for path, tree in _modules().values():
        assert len(path.read_text(encoding="utf-8").splitlines()) <= LONGEST_MODULE, path
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                length = (node.end_lineno or node.lineno) - node.lineno + 1
                assert length <= LONGEST_FUNCTION, f"{path}: {node.name} has {length} lines"


def test_a_class_has_a_name_of_its_own() -> None:
    where: dict[str, list[str]] = defaultdict(list)
    for name, (_, tree) in _modules().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.ClassDef):
                where[node.name].append(name)
    assert not {name: found for name, found in where.items() if len(found) > 1}


def test_trouble_on_this_machine_says_what_helps() -> None:
    """The class has a next step for a disk or a lock; whatever else is wrong has its own."""
    silent = [
        f"{name}:{node.lineno}"
        for name, node in nodes()
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "MachineError"
        if not any(word.arg == "remedy" for word in node.keywords)
    ]
    assert silent == []
