"""The catalogue of words: what is raised stands in it, what stands in it is raised, and it stands nowhere else."""

from __future__ import annotations

import ast
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from scripts.findings_page import as_markdown

from hooper import deeds
from hooper.cli.parts.spelling import spelled
from hooper.words import catalogue
from support.program import ROOT
from support.source import SOURCE, nodes

DATA = SOURCE / "words" / "catalogue.json"
MADE = {"rule-missing-outer", "rule-missing-inner"}  # by where the router stands


def _texts() -> set[str]:
    """Every text constant of the source."""
    return {node.value for _, node in nodes() if isinstance(node, ast.Constant) and isinstance(node.value, str)}


def _called(name: str) -> set[str]:
    """The codes that are given first to calls of that name."""
    return {
        node.args[0].value
        for _, node in nodes()
        if isinstance(node, ast.Call)
        and getattr(node.func, "attr", getattr(node.func, "id", "")) == name
        and node.args
        and isinstance(node.args[0], ast.Constant)
        and isinstance(node.args[0].value, str)
    }


def _stems(name: str) -> set[str]:
    """The codes of those that are given with a variant behind a dot."""
    return {code.partition(".")[0] for code in _called(name)}


RETIRED = {  # what people were hurt by, and what is said in its place
    r"\bthis machine\b": "this computer",
    r"\b(an)?other hands?\b": "somebody else",
    r"\bside by side\b": "in parallel",
    r"\bnot to be told\b": "not proven",
    r"\bfor a person\b": "needs you",
    r"\bas it should be\b": "ok, as planned",
    r"\bstands? for nothing\b": "have no effect",
    r"\ball the rest\b": "everything else",
    r"\bstart it anew\b": "restart it",
    r"\bfiles wanted\b": "out of date",
    r"\bnobody says\b": "is not known",
    r"(?<![\w-])not told\b(?! [a-z]+ [a-z]+ what)": "not known",
    r"(?<![\w-])shut\b(?![ -]out)(?!$)": "closed",
    r"\bfrom elsewhere\b": "from outside",
    r"\blooks? well\b": "checks passed",
    r"\b(own|old|whole|another) machine\b": "computer",
    r"(?<!out of )\b(the|your|provider's|two|its|this|that|another) box(es)?\b": "router",
}


def _shown() -> Iterator[tuple[str, str]]:
    """What people may read: the words that are data, the help of commands, and texts of the source."""

    def inside(value: Any, place: str) -> Iterator[tuple[str, str]]:
        if isinstance(value, str):
            yield place, value
        rows = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        for key, one in rows:
            yield from inside(one, f"{place}.{key}")

    for file in sorted((SOURCE / "words").glob("*.json")):
        yield from inside(json.loads(file.read_text(encoding="utf-8")), file.stem)
    alone = {id(node.value) for _, node in nodes() if isinstance(node, ast.Expr)}  # docstrings
    for place, node in nodes():
        if isinstance(node, ast.FunctionDef) and any("command(" in ast.unparse(one) for one in node.decorator_list):
            yield f"{place}:{node.lineno}", ast.get_docstring(node) or ""
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in alone:
            yield f"{place}:{node.lineno}", node.value


def _written() -> Iterator[tuple[str, str]]:
    """The docs; what stands in quotes or code is somebody's own."""
    for path in (ROOT / "README.md", ROOT / "SECURITY.md", *(ROOT / "docs").rglob("*.md")):
        if "generated" not in path.parts:
            text = re.sub(r"```.*?```|`[^`\n]*`|\"[^\"\n]*\"", "", path.read_text(encoding="utf-8"), flags=re.S)
            for number, row in enumerate(text.splitlines(), 1):
                yield f"{path.name}:{number}", row


def test_no_text_has_a_word_that_was_retired() -> None:
    assert not [f"{place}: {text!r}: say {better!r}" for place, text in _written()
                for word, better in RETIRED.items() if re.search(word, text, re.I)]  # fmt: skip
    assert not [f"{place}: {text!r}: say {better!r}" for place, text in _shown()
                for word, better in RETIRED.items() if re.search(word, text, re.I)]  # fmt: skip


def test_each_code_is_raised_somewhere() -> None:
    """A code that nothing raises any more goes, with its words."""
    ticked = {tick.code for tick in catalogue.ticks()}  # raised by what is ticked off
    with_variant = _stems("finds") | _stems("caused")
    assert set(catalogue.codes()) - _texts() - with_variant - MADE - ticked == set()


def test_each_finding_and_cause_that_is_raised_has_its_words() -> None:
    findings, causes = _called("finding") | _stems("finds"), _called("cause") | _stems("caused")
    assert findings
    assert causes
    assert findings <= set(catalogue.codes("finding"))
    assert causes <= set(catalogue.codes("cause"))


def test_the_words_stand_nowhere_else() -> None:
    """Nobody finds an old sentence in the code that says otherwise than the catalogue."""
    data = json.loads(DATA.read_text(encoding="utf-8"))
    words = {entry[key] for kind in catalogue.KINDS for entry in data[f"{kind}s"].values() for key in ("why", "do")}
    long = {text for text in words if len(text) > 30}
    assert not long & _texts()


def test_each_entry_is_whole() -> None:
    for code in catalogue.codes():
        for one in catalogue.meanings(code):
            assert one.what, code
            assert one.why.endswith("."), code
            assert one.do.endswith((".", "?")), code
            assert not one.what.endswith("."), code
            if one.kind == "finding":
                assert one.severity in ("error", "warning", "note"), code
                assert one.group in catalogue.groups(), code


def test_what_it_tells_to_do_can_be_done() -> None:
    """Each deed that it names has a command or an option."""
    text = DATA.read_text(encoding="utf-8")
    assert "⟦" in text
    assert "⟦" not in spelled(text)
    assert deeds.PIN in text


def test_a_fault_has_a_cause_that_a_diagnosis_knows() -> None:
    errors = {
        node.value.value
        for _, node in nodes()
        if isinstance(node, ast.Assign)
        and getattr(node.targets[0], "id", "") == "code"
        and isinstance(node.value, ast.Constant)
    }
    for name, one in catalogue.faults().items():
        assert not one.cause or catalogue.meanings(one.cause) or one.cause in errors, name


def test_the_page_of_findings_is_made_from_it() -> None:
    assert (ROOT / "docs" / "findings.md").read_text(encoding="utf-8") == as_markdown()


@pytest.mark.parametrize("word", ["", "no-such-code"])
def test_what_is_no_code_means_nothing(word: str) -> None:
    assert catalogue.meanings(word) == ()
    with pytest.raises(KeyError):
        catalogue.meaning("finding", word)


def test_it_comes_with_the_package() -> None:
    for path in DATA.parent.glob("*.json"):  # as it is installed
        assert Path(catalogue.__file__).with_name(path.name).read_bytes() == path.read_bytes()
