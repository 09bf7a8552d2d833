"""`hooper status`, `history` and `report` as a user would run them: before anything was seen, and after it was."""

from __future__ import annotations

import csv
import io
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.program import LabHere, Ran, hooper, town_here, valid


@pytest.fixture
def lab(tmp_path: Path) -> Iterator[LabHere]:
    with town_here(tmp_path / "lab") as started:
        yield started


def run(lab: LabHere, tmp_path: Path, *words: str, **more: Any) -> Ran:
    return hooper(*words, "--state", str(tmp_path / "state"), env=lab.env, **more)


def looked_at(lab: LabHere, tmp_path: Path) -> None:
    """Rules typed in, everything looked at; then the hub's page ends."""
    lab.run("lab", "type", "-", stdin=lab.run("worksheet", "--json").out)
    assert run(lab, tmp_path, "check", "--from", "interface:usb0").code in (0, 1)
    run(lab, tmp_path, "name", "update")
    lab.run("lab", "break", "service-stopped", "hub-page")
    assert run(lab, tmp_path, "check", "hub-page", "--from", "interface:usb0").code == 1


def test_before_anything_was_seen(lab: LabHere, tmp_path: Path) -> None:
    ran = run(lab, tmp_path, "status")
    assert (ran.code, "Nothing has been checked yet." in ran.out, "hooper survey" in ran.err) == (0, True, True)
    assert not (tmp_path / "state").exists(), "looking makes no state"
    document = valid("status", run(lab, tmp_path, "status", "--json").document)
    assert (document["keeper"], document["needs_person"]) == (False, 0)
    assert {row["freshness"] for row in document["rows"]} == {"never"}
    assert "Nothing has changed" in run(lab, tmp_path, "history").out
    assert valid("history", run(lab, tmp_path, "history", "--json").document)["events"] == []
    assert valid("report", run(lab, tmp_path, "report", "--json").document)["exposed"]
    assert run(lab, tmp_path, "history", "--figures", "--out", str(tmp_path / "f")).code == 0


def test_after_it_was_seen(lab: LabHere, tmp_path: Path) -> None:
    looked_at(lab, tmp_path)
    ran = run(lab, tmp_path, "status")
    assert ran.code == 1
    assert "1 thing needs you" in ran.out
    assert "`hooper why hub-page --from interface:usb0`" in ran.out
    rows = {row["subject"]: row for row in valid("status", run(lab, tmp_path, "status", "--json").document)["rows"]}
    assert (rows["hub-page"]["state"], rows["hub-page"]["level"]) == ("broken", "wrong")
    assert (rows["film-page"]["state"], rows["film-page"]["proof"]) == ("answers", "from outside, usb0")
    assert (rows["film-shell"]["state"], rows["film-shell"]["level"]) == (
        "shut",
        "unknown",
    )  # its tunnel was not looked through
    assert rows["gate"]["level"] == "unknown"
    history = valid("history", run(lab, tmp_path, "history", "hub-page", "--json").document)
    assert [(row["before"], row["after"]) for row in history["events"]] == [(None, "answers"), ("answers", "broken")]
    (outage,) = history["outages"]
    assert (outage["subject"], outage["end"]) == ("hub-page", None)
    table = list(csv.reader(io.StringIO(run(lab, tmp_path, "history", "--csv").out)))
    assert table[0][:4] == ["at", "kind", "subject", "aspect"]
    assert len({len(row) for row in table}) == 1
    masked = run(lab, tmp_path, "history", "--csv", "--mask").out
    assert "heronquay" not in masked
    assert "203.0.113" not in masked


def test_a_look_that_grows_old_is_no_proof_any_more(lab: LabHere, tmp_path: Path) -> None:
    looked_at(lab, tmp_path)
    for hours, freshness, level in ((2, "fading", "well"), (24 * 8, "old", "unknown")):
        lab.run("lab", "clock", "--advance", f"{hours}h")
        document = run(lab, tmp_path, "status", "--json").document
        row = next(row for row in document["rows"] if row["subject"] == "film-page")
        assert (row["freshness"], row["level"]) == (freshness, level)


def test_from_inside_nothing_is_proven_about_outside(lab: LabHere, tmp_path: Path) -> None:
    run(lab, tmp_path, "check")
    row = next(row for row in run(lab, tmp_path, "status", "--json").document["rows"] if row["subject"] == "film-page")
    assert (row["state"], row["level"], row["proof"]) == ("answers", "unknown", "from inside")
    assert "nobody has looked from outside" in row["detail"]


def test_the_report_is_one_page_that_needs_nothing_else(lab: LabHere, tmp_path: Path) -> None:
    looked_at(lab, tmp_path)
    site = Path(lab.env["HOOPER_SITE"])
    title = 'title = "<script>alert(1)</script> & co"'
    site.write_text(site.read_text().replace('title = "Boathouse of the Heron Quay rowing club"', title))
    page = tmp_path / "report.html"
    ran = run(lab, tmp_path, "report", "--html", "--out", str(page))
    assert ran.code == 0, ran
    text = page.read_text()
    assert "<script" not in text
    assert "&lt;script&gt;" in text
    assert "src=" not in text
    assert "@import" not in text
    assert "clear-text-open" in text
    assert "198.51.100.0/24" in text
    assert text.count("<svg") >= 1
    assert "simulated town" in text
    (tmp_path / "other.html").write_text("somebody else's")
    assert run(lab, tmp_path, "report", "--html", "--out", str(tmp_path / "other.html")).code == 5
    assert run(lab, tmp_path, "report", "--html", "--out", str(page)).code == 0


def test_without_what_draws_the_rest_works(lab: LabHere, tmp_path: Path) -> None:
    looked_at(lab, tmp_path)
    code = (
        "import sys, importlib.util\nfind = importlib.util.find_spec\n"
        "importlib.util.find_spec = lambda name, *a: None if name in ('pandas', 'matplotlib') else find(name, *a)\n"
        "from hooper.cli.main import run\nrun(sys.argv[1:])\n"
    )

    def without(*words: str) -> subprocess.CompletedProcess[str]:
        more = ["--site", lab.env["HOOPER_SITE"], "--state", str(tmp_path / "state")]
        return subprocess.run([sys.executable, "-c", code, *words, *more], capture_output=True, text=True, timeout=60)

    page = tmp_path / "report.html"
    assert without("report", "--html", "--out", str(page), "--since", "3650d").returncode == 0
    assert "<svg" not in page.read_text()
    assert "hooper[figures]" in page.read_text()
    drawn = without("history", "--figures", "--out", str(tmp_path / "f"), "--since", "3650d")
    assert (drawn.returncode, "pip install" in drawn.stderr) == (6, True)
    assert without("history", "--csv", "--since", "3650d").returncode == 0


@pytest.mark.parametrize(
    "words",
    [("history", "--since", "soon"), ("history", "--most", "0"), ("history", "--kind", "weather"),
     ("history", "--csv", "--json"), ("report", "--since", "-1d"), ("status", "--watch")],
)  # fmt: skip
def test_wrong_words(lab: LabHere, tmp_path: Path, words: tuple[str, ...]) -> None:
    ran = run(lab, tmp_path, *words)
    assert (ran.code, ran.out.strip()[:1] in ("", "{")) == (2, True), ran
