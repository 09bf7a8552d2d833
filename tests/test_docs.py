"""What the docs show is run: commands in the lab, Python as it stands there, and the fragments of the changelog."""

from __future__ import annotations

import json
import os
import re
import shlex
import shutil
import subprocess
import sys
import tomllib
import zipfile
from collections import Counter
from pathlib import Path

import pytest
from scripts import reference
from scripts.house import FLOORS, drawn
from scripts.shown import shown

from hooper import __version__
from hooper.site.load import parse_site
from hooper.site.model import Site
from support.exported_openvpn import profile
from support.program import ROOT, Lab, hooper, program, start_lab

DOCS = ROOT / "docs"
WRITTEN = sorted(path for path in DOCS.rglob("*.md") if "generated" not in path.parts)
PAGES = (
    "README.md",
    *(path.relative_to(ROOT).as_posix() for path in WRITTEN if re.search("^hooper ", path.read_text(), re.M)),
)


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
    assert len(found) > 3
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


@pytest.mark.parametrize("page", [page for page in PAGES if blocks(page, "toml")])
def test_what_the_docs_write_into_a_site_file_is_understood(page: str) -> None:
    """Each piece, put into the file that has every key."""
    for block in blocks(page, "toml"):
        piece = tomllib.loads(block)
        whole = tomllib.loads((DOCS / "every-key.toml").read_text())
        for table, entries in piece.items():
            there = whole.get(table)
            whole[table] = {**there, **entries} if isinstance(there, dict) else entries
            for name, entry in entries.items() if isinstance(entries, dict) else ():
                if isinstance(entry, dict) and isinstance(there, dict) and isinstance(there.get(name), dict):
                    whole[table][name] = {**there[name], **entry}
        Site.model_validate(whole)


def test_the_file_that_has_every_key_has_each() -> None:
    """And an example for it in the reference."""
    file = parse_site((DOCS / "every-key.toml").read_bytes(), "every-key.toml")
    assert any(file.site.services[key].host in file.site.gateways for key in file.site.services)
    without = [f"{header}.{key.name}" for header, keys in reference.site_keys() for key in keys if not key.example]
    assert without == []


@pytest.mark.parametrize(
    "command",
    ["plan", "worksheet", "audit", "risk list", "status", "report", "next", "history", "name list", "certificate list",
     "cert list", "tunnel list", "peer list", "account list", "meeting list", "authority list",
     "updater list", "notice list", "witness list", "host list", "service list", "gateway list", "line list",
     "measure show", "card film-page", "drill --until 2027-01-01 --from today"],
)  # fmt: skip
def test_what_is_read_of_the_file_that_has_every_key(command: str, tmp_path: Path) -> None:
    """No command breaks on any key, and a finding's place is in the file."""
    shutil.copy(DOCS / "every-key.toml", tmp_path / "site.toml")
    ran = hooper(*command.split(), "--json", "--site", str(tmp_path / "site.toml"))
    assert ran.code not in (2, 70), ran.err
    assert json.loads(ran.out)


def test_the_manual_is_as_the_program_is(tmp_path: Path) -> None:
    reference.write("man", tmp_path)
    made, kept = ({path.name: path.read_text() for path in at.iterdir()} for at in (tmp_path, DOCS / "man"))
    assert made == kept, "python -m scripts.reference man docs/man"
    listed = tomllib.loads((ROOT / "pyproject.toml").read_text())["tool"]["hatch"]["build"]["targets"]["wheel"][
        "shared-data"
    ]
    assert {Path(name).name for name in listed} == set(kept)


@pytest.mark.skipif(shutil.which("man") is None, reason="no `man` here")
def test_the_manual_is_read_without_a_warning() -> None:
    for page in sorted((DOCS / "man").iterdir()):
        ran = subprocess.run(
            ["man", "--warnings", "-E", "UTF-8", "-l", page],
            capture_output=True,
            text=True,
            env={**os.environ, "MANWIDTH": "80"},
        )
        assert (ran.returncode, ran.stderr) == (0, ""), page


def test_the_docs_are_built_without_a_warning(tmp_path: Path) -> None:
    """Every link and anchor leads somewhere, nothing is fetched, and the search knows what is in it."""
    pytest.importorskip("furo")
    ran = subprocess.run(
        [sys.executable, "-m", "sphinx", "-q", "-W", "-b", "html", "-d", tmp_path / "trees", DOCS, tmp_path / "pages"],
        capture_output=True, text=True,
    )  # fmt: skip
    assert (ran.returncode, ran.stderr) == (0, "")
    for page in (tmp_path / "pages").rglob("*.html"):
        assert not re.findall(
            r"<(?:script|link|img|iframe)[^>]+(?:src|href)=\"(?:https?:)?//[^\"]*\"", page.read_text()
        ), page
    index = (tmp_path / "pages" / "searchindex.js").read_text()
    assert "carrier" in index
    assert "generated/commands/plan" in index


def words_of(text: str) -> list[str]:
    """What a text says, whatever its width, its times and its numbers."""
    text = re.sub(r"^\$ hooper .*$|─+", "", text, flags=re.M)
    return re.sub(r"[0-9]+(?:\.[0-9]+)?", "#", text).split()


@pytest.mark.parametrize("name", ["demo", "plan", "worksheet"])
def test_a_picture_shows_what_is_printed(lab: Lab, tmp_path: Path, name: str) -> None:
    """The pictures of README that are the same each time: their text, which they hold, is that of today."""
    text = shown(DOCS / "screenshots" / f"{name}.png")
    assert text is not None
    typed = [shlex.split(line)[2:] for line in text.splitlines() if line.startswith("$ hooper ")]
    assert typed
    printed = []
    state = ("--state", str(tmp_path))
    hooper("survey", *state, env=lab.env)  # as before the picture: the line is known, and no more
    for words in typed:
        ran = program(*words) if words == ["demo"] else hooper(*words, *(state if name == "plan" else ()), env=lab.env)
        printed += sorted(words_of((ran.err + ran.out).replace(" ".join(("", *state)), "")))
    assert Counter(printed) == Counter(words_of(text)), f"scripts/pictures {name}"


@pytest.mark.parametrize("path", sorted((DOCS / "screenshots").glob("*.png")), ids=lambda path: path.stem)
def test_each_picture_of_a_terminal_holds_its_text(path: Path) -> None:
    """And every command in it is one that is there."""
    text = shown(path)
    assert (text is None) == (path.stem in ("arrival", "chain", "handover", "report", "sheets"))
    for line in (text or "").splitlines():
        if line.startswith("$ hooper "):
            assert hooper(*shlex.split(line)[2:], "--nothing-such").code == 2
            assert "no option --nothing-such" in hooper(*shlex.split(line)[2:], "--nothing-such").err, line


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
    pages = ["README.md", "CONTRIBUTING.md", *(path.relative_to(ROOT).as_posix() for path in WRITTEN)]
    linked = set()
    for page in pages:
        text = (ROOT / page).read_text(encoding="utf-8")
        for target in re.findall(r"\]\(([^)#]+)(?:#[^)]*)?\)", text):
            if not target.startswith("http") and "generated/" not in target:  # which building the docs looks after
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
    assert not ran.stdout or ran.stdout.startswith("- ")
    assert f"\n## {__version__} (" in (ROOT / "CHANGELOG.md").read_text(encoding="utf-8")


def test_each_promise_has_a_test_that_is_there() -> None:
    named = set(re.findall(r"`(test_[a-z0-9_]+)`", (ROOT / "SECURITY.md").read_text()))
    there = {
        name for path in (ROOT / "tests").glob("test_*.py") for name in re.findall(r"def (test_\w+)", path.read_text())
    }
    assert len(named) > 30
    assert not named - there


def test_the_packages_are_built_alike_and_hold_what_they_should(tmp_path: Path) -> None:
    """Wheel and source package, from two copies of other ages: byte for byte the same."""
    pytest.importorskip("hatchling")
    built: list[dict[str, bytes]] = []
    for number in (1, 2):
        copy = tmp_path / str(number) / "hooper"
        for name in ("src", "docs", "tests/test_docs.py", "README.md", "CHANGELOG.md", "LICENSE", "pyproject.toml"):
            at = copy / name
            at.parent.mkdir(parents=True, exist_ok=True)
            ignored = shutil.ignore_patterns("__pycache__", "generated", "screenshots")
            if (ROOT / name).is_dir():
                shutil.copytree(ROOT / name, at, ignore=ignored, copy_function=shutil.copyfile)
            else:
                shutil.copyfile(ROOT / name, at)
        words = [sys.executable, "-m", "hatchling", "build", "-d", str(tmp_path / f"dist{number}")]
        ran = subprocess.run(words, cwd=copy, capture_output=True, text=True)
        assert ran.returncode == 0, ran.stderr
        built.append({path.name: path.read_bytes() for path in (tmp_path / f"dist{number}").iterdir()})
    assert built[0] == built[1]
    (wheel,) = (name for name in built[0] if name.endswith(".whl"))
    with zipfile.ZipFile(tmp_path / "dist1" / wheel) as opened:
        names = opened.namelist()
    assert {Path(name).name for name in names if "/share/man/" in name} == {
        path.name for path in (DOCS / "man").iterdir()
    }
    assert {"hooper/py.typed", "hooper/site/site.schema.json", "hooper/words/said.json"} <= set(names)
    assert not [name for name in names if name.startswith("tests") or name.endswith(".pyc")]
