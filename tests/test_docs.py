"""What the docs show is run: commands in the lab, Python as it stands there, and the fragments of the changelog."""

from __future__ import annotations

import os
import re
import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from scripts.house import FLOORS, drawn

from support.exported_openvpn import profile
from support.program import ROOT, Lab, hooper, start_lab

PAGES = ("README.md", "docs/guide.md", "docs/troubleshooting.md", "docs/private-access.md")


def blocks(page: str, language: str) -> list[str]:
    text = (ROOT / page).read_text(encoding="utf-8")
    return re.findall(rf"^```{language}\n(.*?)^```", text, re.MULTILINE | re.DOTALL)


def commands(page: str) -> list[str]:
    lines = [line.partition("  #")[0].strip() for block in blocks(page, "sh") for line in block.splitlines()]
    return [line.removeprefix("hooper ") for line in lines if line.startswith("hooper ")]


@pytest.mark.parametrize("page", PAGES)
def test_commands_of_the_docs_run(lab: Lab, page: str, tmp_path: Path) -> None:
    """In their order, in the lab; a pipe as a person's shell would have it."""
    for name in ("site.toml", "town-ca.pem", "secrets"):  # some of them edit the site file
        there = lab.folder / name
        (shutil.copytree if there.is_dir() else shutil.copy)(there, tmp_path / name)
    (tmp_path / "exported.ovpn").write_text(profile(remote="remote 10.44.7.30 1194 udp"))
    env = {**lab.env, "XDG_STATE_HOME": str(tmp_path), "HOOPER_SITE": str(tmp_path / "site.toml")}
    found = commands(page)
    assert len(found) > 8
    for line in found:
        first, _, second = line.partition(" | hooper ")
        words = ["keep", "--once", "--quiet"] if first == "keep" else shlex.split(first)  # which would go on for ever
        ran = hooper(*words, env=env, cwd=tmp_path, stdin="a secret\n" if words[:2] == ["updater", "add"] else "")
        if second:
            ran = hooper(*second.split(), env=env, stdin=ran.out)
        if first == "keep":  # the name of the guide leads to a provider that the town does not have
            assert ran.code == 4
            assert "names.example.net" in ran.err
            continue
        assert ran.code in (0, 1), (line, ran)
        assert "error: " not in ran.err or ran.code == 1, (line, ran)
    lab.run("lab", "plug", "home")
    lab.run("lab", "line", "several-nats")


def test_the_readme_is_read_in_one_sitting() -> None:
    assert len((ROOT / "README.md").read_text(encoding="utf-8").splitlines()) <= 150


def test_the_house_is_as_it_is_shown() -> None:
    """Every file and function that its page names is there, and the map is drawn from today's packages."""
    page = (ROOT / "docs" / "house.md").read_text(encoding="utf-8")
    named = set(re.findall(r"`((?:[a-z_0-9]+/)*[a-z_0-9]+\.(?:py|json|sql))(?::([\w.]+))?`", page))
    assert len(named) > 50
    for path, name in named:
        places = [ROOT / at / path for at in ("src/hooper", "src/hooper/words", ".")]
        text = next((place.read_text(encoding="utf-8") for place in places if place.exists()), None)
        assert text is not None, path
        for part in name.split(".") if name else ():
            assert re.search(rf"^ *(?:async )?(?:def|class) {part}\b", text, re.M), (path, name)
    assert (ROOT / "docs" / "house.svg").read_text(encoding="utf-8") == drawn(), (
        "python -m scripts.house docs/house.svg"
    )
    packages = {path.name for path in (ROOT / "src" / "hooper").iterdir() if (path / "__init__.py").exists()}
    assert {name for floor in FLOORS for name, *_ in floor} == packages | {"foundations"}


def test_every_page_is_linked_and_every_link_leads_somewhere() -> None:
    pages = ["README.md", "CONTRIBUTING.md", *(f"docs/{path.name}" for path in (ROOT / "docs").glob("*.md"))]
    linked = set()
    for page in pages:
        text = (ROOT / page).read_text(encoding="utf-8")
        for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", text):
            if not target.startswith("http"):
                assert (ROOT / page).parent.joinpath(target).exists(), (page, target)
                linked.add((ROOT / page).parent.joinpath(target).resolve())
    assert {(ROOT / page).resolve() for page in pages if page.startswith("docs/")} <= linked
    pictures = list((ROOT / "docs" / "screenshots").glob("*.png"))
    assert len(pictures) < 20
    assert {path.resolve() for path in pictures} <= linked


def test_the_librarys_examples_run(tmp_path: Path) -> None:
    """In the lab: nothing looks at a real network."""
    program = "\n".join(blocks("docs/library.md", "python"))
    with start_lab(tmp_path) as lab:
        ran = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, timeout=60, cwd=tmp_path,
            env={**os.environ, **lab.env},
        )  # fmt: skip
    assert ran.returncode == 0, ran.stderr
    assert "box 8443 10.44.7.50" in ran.stdout
    assert "https://boathouse.heronquay.example:8443/" in ran.stdout
    assert "hub-page answered" in ran.stdout


def test_fragments_of_the_changelog_are_items_of_a_list() -> None:
    ran = subprocess.run([sys.executable, ROOT / "scripts" / "changelog"], capture_output=True, text=True)
    assert ran.returncode == 0, ran.stderr
    assert ran.stdout.startswith("- ")


def test_each_promise_has_a_test_that_is_there() -> None:
    named = set(re.findall(r"`(test_[a-z0-9_]+)`", (ROOT / "SECURITY.md").read_text()))
    there = {
        name for path in (ROOT / "tests").glob("test_*.py") for name in re.findall(r"def (test_\w+)", path.read_text())
    }
    assert len(named) > 30
    assert not named - there
