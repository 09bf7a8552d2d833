"""Pages as somebody reads them who does not see well, or at all: an accessibility checker in a real browser, the
contrast of colours on a terminal, figures that say what they show.
"""

from __future__ import annotations

import html
import json
import re
import shutil
import subprocess
from collections.abc import Iterator
from importlib.util import find_spec
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from rich.color import Color

from hooper.check.browser_visit import Try, Visit
from hooper.cli.parts.render import STYLES
from hooper.report.arrival import as_page
from support.program import Lab

BROWSER = shutil.which("chromium")
CHECKER = find_spec("axe_core_python")
needs_a_browser = pytest.mark.skipif(
    BROWSER is None or CHECKER is None, reason="needs Chromium and the accessibility checker"
)


def wrong_in(page: str, folder: Path, *, width: int, dark: bool) -> list[str]:
    """What the checker finds in a page: rule, element and why."""
    assert CHECKER is not None
    assert CHECKER.submodule_search_locations
    checker = Path(CHECKER.submodule_search_locations[0], "axe.min.js").read_text(encoding="utf-8")
    asks = (
        "addEventListener('load', async () => {const found = await axe.run(document, {resultTypes: ['violations']});"
        "const shown = document.createElement('pre'); shown.id = 'found'; shown.textContent = JSON.stringify("
        "found.violations.flatMap(v => v.nodes.map(n => [v.id, n.target.join(' '), n.failureSummary])));"
        "document.body.append(shown)})"
    )
    scripts = "".join(f"<script>{text}</script>" for text in (checker.replace("</script>", r"<\/script>"), asks))
    path = folder / "page.html"
    path.write_text(page.replace("</body>", f"{scripts}</body>"), encoding="utf-8")
    words = [str(BROWSER), "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
             f"--window-size={width},900", f"--user-data-dir={folder / 'browser'}", "--virtual-time-budget=8000",
             "--dump-dom", *(["--blink-settings=preferredColorScheme=0"] if dark else []), path.as_uri()]  # fmt: skip
    shown = subprocess.run(words, capture_output=True, text=True, timeout=120).stdout
    found = re.search(r'<pre id="found">(.*?)</pre>', shown, re.S)
    assert found is not None, shown[-500:]
    rows: list[list[str]] = json.loads(html.unescape(found[1]))
    return [" | ".join(row) for row in rows]


@pytest.fixture(scope="module")
def pages(running_lab: Lab, tmp_path_factory: pytest.TempPathFactory) -> Iterator[dict[str, str]]:
    """Each page that Hooper makes, in the town."""
    folder, lab = tmp_path_factory.mktemp("pages"), running_lab
    lab.as_built()
    site = folder / "site.toml"
    shutil.copytree(lab.folder / "secrets", folder / "secrets")
    for name in ("site.toml", "town-ca.pem"):
        shutil.copy(lab.folder / name, folder)
    here = ("--site", str(site), "--state", str(folder / "state"))
    lab.run("tunnel", "add", "oars", "--kind", "wireguard", "--service", "gate", *here)
    lab.run("peer", "add", "cox-phone", "--tunnel", "oars", "--into", "film-page", *here)
    for fault in ("", "forward-missing-inner"):
        if fault:
            lab.run("lab", "break", fault)
        lab.run("check", "--from", "interface:usb0", *here)
        lab.run("lab", "clock", "--advance", "2h")
    lab.run("lab", "mend")
    made = {
        "report": ("report", "--html", "--out"), "sheets": ("worksheet", "--html", "--out"),
        "devices": ("worksheet", "--devices", "--html", "--out"), "handover": ("peer", "hand", "cox-phone", "--out"),
    }  # fmt: skip
    found = {}
    for name, words in made.items():
        given = here[:2] if words[0] == "worksheet" else here
        ran = lab.run(*words, str(folder / f"{name}.html"), "--force", *given)
        assert (folder / f"{name}.html").exists(), ran.err
        found[name] = (folder / f"{name}.html").read_text(encoding="utf-8")
    yield found
    lab.as_built()


@needs_a_browser
@pytest.mark.parametrize("name", ["report", "sheets", "devices", "handover"])
@pytest.mark.parametrize(("width", "dark"), [(1280, False), (390, True)])
def test_the_checker_finds_nothing(pages: dict[str, str], tmp_path: Path, name: str, width: int, dark: bool) -> None:
    assert wrong_in(pages[name], tmp_path, width=width, dark=dark) == []


OWN = Try("film-page", "tcp", 443, "https://203.0.113.44/", {}, "", ("0D:C1", "43:28"), None, "Films")
TURNS = SimpleNamespace(own=OWN, turn_s=40.0, leaves_s=1.0, most=2)


@needs_a_browser
@pytest.mark.parametrize("came", ["outside", "home", "tunnel", "unclear"])
def test_the_checker_finds_nothing_on_a_phone(tmp_path: Path, came: str) -> None:
    """The page of an arrival, at the width of a phone, light and dark."""
    visit = Visit("", "198.51.100.130", came, "The address is a mobile network's.", "a phone", "If a tunnel is on, …")  # type: ignore[arg-type]
    tries = [SimpleNamespace(service="hub-page", urls=("https://boathouse.heronquay.example:8443/",), unopened="",
                             link="https://boathouse.heronquay.example:8443/", print=("0D:C1", "43:28"))]  # fmt: skip
    page = as_page(
        "Boathouse", visit, tries, "/0a1b", "n", 8000, lab=True, proves=["TCP arrives"], proves_not=["UDP"], turns=TURNS
    )
    assert wrong_in(page.decode(), tmp_path, width=390, dark=came in ("home", "unclear")) == []


@needs_a_browser
def test_the_checker_would_find_something(tmp_path: Path) -> None:
    page = "<!DOCTYPE html><html lang=en><title>t</title><main><p style='color:#ccc'>faint</p><img src=x></main></body>"
    found = wrong_in(page, tmp_path, width=1280, dark=False)
    assert {one.partition(" ")[0] for one in found} >= {"color-contrast", "image-alt"}


def luminance(colour: str) -> float:
    """WCAG 2.2, relative luminance."""
    triplet = Color.parse(colour).get_truecolor()
    parts = [value / 255 for value in triplet]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


@pytest.mark.parametrize("name", sorted(STYLES))
def test_colours_of_a_terminal_are_read_on_light_and_on_dark(name: str) -> None:
    """On white as text (4.5), on black at least as large text and signs (3.9): no palette of the terminal's is used."""
    (colour,) = (word for word in STYLES[name].split() if word != "bold")
    own = luminance(colour)
    assert 1.05 / (own + 0.05) >= 4.5
    assert (own + 0.05) / 0.05 >= 3.9


def test_figures_say_what_they_show(pages: dict[str, str]) -> None:
    """In words below them, which a reader of screens reads too; ids of two figures never meet."""
    page = pages["report"]
    captions: list[Any] = re.findall(r"<figcaption[^>]*>(.*?)</figcaption>", page, re.S)
    assert captions
    assert any("film-page" in text and "%" in text for text in captions)
    ids = re.findall(r'\bid="([^"]+)"', page)
    assert len(ids) == len(set(ids))
    for used in re.findall(r'(?:href="#|url\(#)([^")]+)', page):
        assert used in ids
