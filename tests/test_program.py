"""The built program without a network: plan, worksheet, demo, wrong input, a machine in trouble."""

from __future__ import annotations

import os
import re
import signal
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from hooper import __version__
from support.program import BOATHOUSE, ROOT, hooper, program, valid


@pytest.fixture
def site(tmp_path: Path) -> Path:
    path = tmp_path / "site.toml"
    path.write_text(BOATHOUSE, encoding="utf-8")
    return path


def test_plan_finds_the_site_file_here_by_environment_and_by_option(site: Path, tmp_path: Path) -> None:
    for ran in (
        hooper("plan", "--json", cwd=site.parent),
        hooper("plan", "--json", env={"HOOPER_SITE": str(site)}),
        hooper("plan", "--json", "--site", str(site), env={"HOOPER_SITE": "/nowhere"}),
    ):
        document = valid("plan", ran.document)
        assert (ran.code, len(document["forwards"]), document["feasible"]) == (0, 16, True)
        assert (document["hooper"], document["command"], document["world"]) == (__version__, "plan", "real")
    assert os.listdir(tmp_path) == ["site.toml"], "plan touches nothing"


def test_plan_as_text_fits_eighty_columns(site: Path) -> None:
    ran = hooper("plan", cwd=site.parent, columns=80)
    assert ran.code == 0
    assert max(len(line.rstrip()) for line in ran.out.splitlines()) <= 80
    for words in ("timing-desk", "192.168.90.2:13389", "10.44.7.41:3389", "film-shell", "desktop-open"):
        assert words in ran.out
    assert "Next:" in ran.err
    assert hooper("plan", "--quiet", cwd=site.parent).err == ""
    assert "open to" not in hooper("plan", "--verbose", cwd=site.parent).err
    assert "read " in hooper("plan", "--verbose", cwd=site.parent).err
    assert "\x1b" not in hooper("plan", cwd=site.parent, env={"FORCE_COLOR": "", "NO_COLOR": "1"}).out


def test_overlapping_ports_are_a_finding_and_need_a_person(site: Path) -> None:
    hub = 'port = 8443\nreach = "public"\n'
    text = BOATHOUSE.replace("outside_port = 13389", "outside_port = 8443")
    site.write_text(text.replace(hub, hub + "outside_port = 8443\n"))
    ran = hooper("plan", "--json", cwd=site.parent)
    (clash,) = (f for f in valid("plan", ran.document)["findings"] if f["code"] == "port-clash")
    assert (ran.code, ran.document["feasible"], clash["severity"]) == (1, False, "error")
    assert clash["subject"] == "services.timing-desk"
    sheet = hooper("worksheet", cwd=site.parent)
    assert (sheet.code, "hooper explain port-clash" in sheet.err) == (1, True)


def test_worksheet_in_its_three_forms(site: Path) -> None:
    document = valid("worksheet", hooper("worksheet", "--json", cwd=site.parent).document)
    plan = hooper("plan", "--json", cwd=site.parent).document
    assert [rule for sheet in document["sheets"] for rule in sheet["rules"]] == plan["forwards"]
    text = hooper("worksheet", cwd=site.parent, columns=80)
    assert max(len(line.rstrip()) for line in text.out.splitlines()) <= 80
    for words in ("http://192.168.90.1/", "recorder-str", "WAN, external, public", "[ ]", "proves nothing", "ask the"):
        assert words in text.out
    markdown = hooper("worksheet", "--markdown", cwd=site.parent).out
    for words in ("# What to enter at", "| ☐ | timing-desk | TCP | 13389 | 192.168.90.2 | 13389 |", "- [ ] Open http"):
        assert words in markdown
    one = hooper("worksheet", "club-router", "--json", cwd=site.parent).document
    assert [sheet["gateway"] for sheet in one["sheets"]] == ["club-router"]


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (("nix",), "there is no command"),
        (("plan", "extra"), "extra"),
        (("plan", "--nix"), "--nix"),
        (("plan", "--site"), "--site"),
        (("worksheet", "club-ruter"), "Did you mean 'club-router'"),
        (("worksheet", "--markdown", "--json"), "exclude each other"),
        (("check", "film-pge"), "Did you mean 'film-page'"),
        (("check", "--from", "moon"), "interface:NAME"),
        (("check", "--from", "interface:"), "interface:NAME"),
        (("check", "--from", "socks5://"), "SOCKS5 URL"),
        (("check", "--from", "socks5://h:99999"), "SOCKS5 URL"),
        (("check", "--deadline", "0"), "--deadline"),
        (("check", "--deadline", "nan"), "--deadline"),
        (("check", "--public", "203.0.113.44"), "--public"),
        (("check", "--from", "interface:x", "--public", "home"), "not an address"),
        (("check", "--from", "interface:x", "--public", "wifi=203.0.113.44"), "no line 'wifi'"),
        (("check", "--proxy-password", "env:X"), "--proxy-password"),
        (("lab", "faults"), "HOOPER_LAB is not set"),
        (("lab", "break"), "Missing argument 'FAULT'"),
    ],
)
def test_wrong_words_are_told_with_exit_code_2(site: Path, arguments: tuple[str, ...], words: str) -> None:
    ran = hooper(*arguments, cwd=site.parent)
    assert ran.code == 2
    assert words in ran.out + ran.err
    if arguments and "--json" not in arguments and arguments != ("lab",) and words != "--site":
        told = hooper(*arguments, "--json", cwd=site.parent)
        assert valid("errors", told.document)["errors"][0]["code"] == "usage"
        assert told.code == 2


BROKEN: dict[str, bytes] = {
    "bad TOML": b"version = = 1",
    "unknown key": BOATHOUSE.replace("speaks", "speeks", 1).encode(),
    "host in no network": BOATHOUSE.replace("10.44.7.21", "10.99.7.21").encode(),
    "missing gateway": BOATHOUSE.replace('behind = "fibre-box"', 'behind = "fiber-box"').encode(),
    "loop": BOATHOUSE.replace('line = "fibre"\nlan', 'behind = "club-router"\nwan = "10.44.7.3"\nlan').encode(),
    "duplicate tables": (BOATHOUSE + "\n[hosts.desk]\n").encode(),
    "bad port": BOATHOUSE.replace("port = 8085", "port = 808500").encode(),
    "port as text": BOATHOUSE.replace("port = 8085", 'port = "8085"').encode(),
    "bad address": BOATHOUSE.replace("10.44.7.21", "10.44.7.321").encode(),
    "wrong type": BOATHOUSE.replace("form.sources = true", 'form.sources = "yes"').encode(),
    "not UTF-8": BOATHOUSE.encode("utf-16"),
    "NUL": BOATHOUSE.replace("slipway", "slip\0way", 1).encode(),
    "empty": b"",
    "20,000 nested brackets": b"version = 1\nx = " + b"[" * 20_000 + b"]" * 20_000,
    "version 99": BOATHOUSE.replace("version = 1", "version = 99").encode(),
}


@pytest.mark.parametrize("name", BROKEN)
def test_broken_site_files(tmp_path: Path, name: str) -> None:
    (tmp_path / "site.toml").write_bytes(BROKEN[name])
    for command in ("plan", "worksheet", "check"):
        ran = hooper(command, "--json", cwd=tmp_path)
        found = valid("errors", ran.document)["errors"]
        assert ran.code == 3
        assert all(one["where"]["line"] and one["where"]["column"] and one["remedy"] for one in found)
    text = hooper("plan", cwd=tmp_path)
    where = found[0]["where"]
    assert (text.code, text.out) == (3, "")
    assert text.err.startswith(f"error: site.toml:{where['line']}:{where['column']}: ")


def test_no_site_file_and_things_that_are_none(tmp_path: Path) -> None:
    for given in ("nowhere.toml", str(tmp_path), "/dev/null/x"):
        ran = hooper("plan", "--site", given, cwd=tmp_path)
        assert (ran.code, "→" in ran.err) == (3, True)
    assert hooper("plan", cwd=tmp_path).code == 3


def test_the_demo_tells_its_story(tmp_path: Path) -> None:
    folder = tmp_path / "out"
    ran = hooper("demo", "--out", str(folder), columns=80)
    assert ran.code == 0
    for words in (
        "mismatched",
        "10.44.7.50:443 (hub)",
        "Put right",
        "→ 203.0.113.44",
        "by town-ca",
        "timing-desk",
        "within 2 s",
    ):
        assert words in ran.out
    assert sorted(os.listdir(folder)) == ["NEXT.md", "site.toml"]
    assert max(len(line.rstrip()) for line in ran.out.splitlines() if str(folder) not in line) <= 80
    assert hooper("plan", cwd=folder).code == 0
    assert hooper("demo", "--out", str(folder), "--quiet", "--json").code == 0, "its own files may be written again"
    (folder / "site.toml").write_text("version = 1\n")
    for _ in range(2):
        refused = hooper("demo", "--out", str(folder), "--json")
        assert (refused.code, valid("errors", refused.document)["errors"][0]["code"]) == (5, "refused-for-safety")
        (folder / "mine.txt").write_text("x")
    assert (folder / "site.toml").read_text() == "version = 1\n"


STORY = ["lab", "survey", "plan", "router", "worksheet", "typed", "name", "certificate"]
STORY += ["private", "check", "broken", "explained", "mended", "card", "witness"]


def test_the_demo_as_json() -> None:
    ran = hooper("demo", "--json", env={"HOOPER_LAB": "/nowhere"})
    steps = valid("demo", ran.document)["steps"]
    assert [step["step"] for step in steps] == STORY
    assert [step for step in steps if not step["ok"]] == []
    assert sum(step["took_ms"] for step in steps) < 30_000  # a few seconds; more where the machine is busy


@pytest.mark.skipif(sys.platform == "win32", reason="signals and pipes")
def test_a_demo_that_is_stopped_or_not_listened_to_leaves_nothing_behind(tmp_path: Path) -> None:
    environment = {**os.environ, "TMPDIR": str(tmp_path)}
    for stop in (signal.SIGINT, signal.SIGTERM, None):
        demo = subprocess.Popen(
            [sys.executable, "-u", "-m", "hooper", "demo"],
            env=environment,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        assert demo.stdout is not None
        assert demo.stderr is not None
        while "Plan:" not in demo.stdout.readline():
            pass
        if stop is None:
            demo.stdout.close()  # as `head` does
        else:
            demo.send_signal(stop)
        assert demo.stderr.read() == ("interrupted\n" if stop else "")
        assert demo.wait(10) == 130
        demo.stdout.close()
        demo.stderr.close()
        assert os.listdir(tmp_path) == []


def test_output_that_cannot_be_written(site: Path) -> None:
    command = [sys.executable, "-m", "hooper", "plan", "--site", str(site)]
    if Path("/dev/full").exists():
        with open("/dev/full", "w") as full:
            done = subprocess.run(command, stdout=full, stderr=subprocess.PIPE, text=True, check=False)
        assert (done.returncode, "cannot be written" in done.stderr, "Traceback" in done.stderr) == (6, True, False)
    reader = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert reader.stdout is not None
    assert reader.stderr is not None
    reader.stdout.close()
    assert "Traceback" not in reader.stderr.read()
    reader.stderr.close()
    assert reader.wait(10) == 130


@pytest.mark.skipif(sys.platform == "win32", reason="a POSIX shell")
@pytest.mark.parametrize(
    ("shell", "code"),
    [("plan >&-", 6), ("plan 2>&- >/dev/null", 0), ("plan --site nix 2>&-", 3), ("lab type - <&-", 2)],
)
def test_standard_streams_that_are_closed(site: Path, shell: str, code: int) -> None:
    command = f"{sys.executable} -m hooper {shell}"
    done = subprocess.run(["/bin/sh", "-c", command], cwd=site.parent, capture_output=True, text=True, check=False)
    assert (done.returncode, "Traceback" in done.stderr) == (code, False), done.stderr


@pytest.mark.parametrize("words", ["plan", "worksheet --json", "plan --site none", "card", "edit --help", "nothing"])
def test_a_program_that_is_forked_is_as_one_that_starts(site: Path, words: str) -> None:
    """What other tests start is forked from one that has loaded everything."""
    cold = [sys.executable, "-m", "hooper", *words.split()]
    started = subprocess.run(cold, cwd=site.parent, input="", capture_output=True, text=True, check=False)
    forked = program(*words.split(), cwd=site.parent)
    at = re.compile(r'"at":"[^"]+"')
    assert (forked.code, at.sub("", forked.out), forked.err) == (
        started.returncode, at.sub("", started.stdout), started.stderr
    )  # fmt: skip


def test_nothing_is_cut_off_where_names_are_long(site: Path) -> None:
    long = "film-page-of-the-race-in-the-year-two-thousand-and-twenty-six"
    site.write_text(BOATHOUSE.replace("film-page", long))
    ran = hooper("plan", cwd=site.parent)
    assert (ran.code, "twenty-six " in ran.out, "10.44.7.30:443" in ran.out) == (0, True, True)


def test_a_fault_of_ours_is_told_without_a_traceback(site: Path) -> None:
    code = (
        "import hooper.planning.plan as p\n"
        "def broken(*a): raise RuntimeError('boom')\n"
        "p.make_plan = broken\n"
        "from hooper.cli.main import run\n"
        "run(['plan'])"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=site.parent, capture_output=True, text=True, check=False)
    assert done.returncode == 70
    assert "RuntimeError: boom" in done.stderr
    assert "Traceback" not in done.stderr


def test_version_and_module_entry() -> None:
    assert hooper("--version").out == f"hooper {__version__}\n"
    assert "Write down what there is:" in hooper("--help").out


@pytest.mark.parametrize("words", ["", "lab", "host", "line"])
def test_a_group_alone_prints_its_help(words: str) -> None:
    ran = hooper(*words.split())
    assert (ran.code, ran.err) == (0, "")
    assert ran.out == hooper(*words.split(), "--help").out
    assert ran.out == hooper("help", *words.split()).out


@pytest.mark.parametrize(
    "words", ["--json plan --site {}", "--site {} plan --json", "--json --site={} plan", "--site {} --json -q plan"]
)
def test_options_of_all_commands_may_stand_before_the_command(words: str, tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    ran = hooper(*words.format(tmp_path / "site.toml").split())
    assert valid("plan", ran.document)["command"] == "plan"
    assert hooper("--json").code == 2
    assert hooper("--site").code == 2


def test_the_version_in_all_ways_of_asking() -> None:
    assert {hooper(word).out for word in ("version", "--version", "-V")} == {hooper("--version").out}
    for command in ("plan", "worksheet", "check", "demo", "lab", "router", "name", "cert", "card"):
        assert hooper(command, "--help").code == 0


def test_the_pictures_are_linked_from_the_readme() -> None:
    shots = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    readme = (ROOT / "README.md").read_text(encoding="utf-8")
    assert 0 < len(shots) < 20
    assert not {name for name in shots if f"docs/screenshots/{name}" not in readme}
    assert stat.S_ISREG((ROOT / "scripts" / "pictures").stat().st_mode)
