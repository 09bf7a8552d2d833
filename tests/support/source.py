"""The program's own source, parsed once for all tests of a process that read it."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from functools import cache

from support.program import ROOT

SOURCE = ROOT / "src" / "hooper"


@cache
def trees() -> dict[str, ast.Module]:
    """Each module by its path below the source."""
    return {str(path.relative_to(SOURCE)): ast.parse(path.read_text(encoding="utf-8")) for path in SOURCE.rglob("*.py")}


def nodes(*without: str) -> Iterator[tuple[str, ast.AST]]:
    """Everything in the source, with its module's path; without those packages."""
    for name, tree in trees().items():
        if name.split("/")[0] not in without:
            for node in ast.walk(tree):
                yield name, node
