"""The guided run: its order, its questions, and that it leads from an empty folder to a proven service."""

from __future__ import annotations

import json
import os
import random
import re
import shlex
import subprocess
import time
import tomllib
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import date
from functools import cache
from pathlib import Path
from typing import Any

import pytest
import typer

from hooper.cli.main import app
from hooper.cli.parts.spelling import spelled
from hooper.planning.guide_values import SKIP, Asking, Choice, DeviceHere, Doing, SoFar, Untold, read_answer
from hooper.planning.guiding import comes_next
from hooper.planning.kept_back import refusals
from hooper.planning.openers import entering
from hooper.planning.plan import make_plan
from hooper.planning.steps_ahead import OutsideLook, Stands, steps_ahead
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.words.said import say
from support import warm
from support.person import Person
from support.program import BOATHOUSE, LabHere, LabProcess, Ran, hooper, start_lab, town_here, valid

DAY = date(2026, 12, 1)
SMALL = """\
version = 1
[lines.line]
[gateways.own-router]
line = "line"
lan = "10.44.7.1/24"
"""
HOSTS = """\
[hosts.slip-cam]
address = "10.44.7.21"
[services.slip-cam-page]
host = "slip-cam"
speaks = "http"
reach = "lan"
[services.slip-cam-rtsp]
host = "slip-cam"
speaks = "rtsp"
reach = "lan"
"""
SITES = ("", SMALL, SMALL + HOSTS, SMALL + HOSTS.replace('"lan"', '"public"'),
         SMALL + HOSTS.replace('"lan"', '"tunnel"'), BOATHOUSE)  # fmt: skip
SHEET: list[dict[str, Any]] = [{"gateway": "fibre-box", "rules": [{
    "gateway": "fibre-box", "line": "line", "kind": "forward", "service": "film-box-page", "transport": "tcp",
    "outside_address": None, "outside_ports": [443, 443], "target_address": "192.168.90.2", "target_ports": [443, 443],
    "sources": [], "by": "hand"}]}]  # fmt: skip
# What a newcomer answers in the town until film-box-page is proven: one line each.
ANSWERS = ("Boathouse", "203.0.113.44", "1,3", "film-box-page", "", "yes", "", "", "", "")


# --- the order of the questions, by itself


def so_far(text: str, chance: random.Random) -> SoFar:
    """A site that stands somehow."""
    found = [DeviceHere(f"10.44.7.{n}", f"device-{n}", "a camera") for n in range(20, 20 + chance.randrange(4))]
    missing = [Untold("own-router", "on its page")] if chance.random() < 0.5 else []
    start = SoFar(found=found, missing=missing, outside=chance.choice(["", "usb0"]))
    if not text:
        return start
    file = parse_site(text.encode(), "site.toml")
    topology, plan = Topology(file.site), make_plan(file, DAY)
    held = {key: exc.remedy for key, exc in refusals(file.site, plan).items()}
    levels = {("line", key, ""): chance.choice(["well", "wrong", "unknown"]) for key in file.site.lines}
    levels |= {("peer", key, ""): chance.choice(["well", "fact"]) for key in file.site.peers}
    proofs = {
        key: OutsideLook(chance.choice(["well", "wrong", "unknown"]), chance.random() < 0.5, "")
        for key in file.site.services
    }
    stands = Stands(levels, proofs, frozenset(key for key in file.site.gateways if chance.random() < 0.3), held=held)
    steps = steps_ahead(file.site, plan, entering(topology, plan), stands)
    return replace(start, site=file.site, plan=plan, steps=steps)


def answered(question: Asking, chance: random.Random) -> str:
    if chance.random() < 0.2:
        return SKIP
    if question.choices:
        return read_answer(question, str(chance.randrange(1, len(question.choices) + 1)))
    return question.default or {"address": "10.44.7.77", "key": "thing", "name": "home.heronquay.example"}.get(
        question.reads, "words"
    )


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("text", SITES, ids=range(len(SITES)))
def test_it_ends_and_asks_and_does_nothing_twice(text: str, seed: int) -> None:
    """Even where nothing that is done changes anything."""
    chance = random.Random(seed)
    known = so_far(text, chance)
    for _ in range(300):
        move = comes_next(known)
        if move is None:
            return
        if isinstance(move, Doing):
            assert move.name not in known.done, move
            parsed(shlex.split(spelled(move.deed))[1:])
            known = replace(known, done={**known.done, move.name: chance.choice([0, 0, 1])})
        else:
            assert move.key not in known.answers, move
            assert str(move.text)
            assert str(move.why)
            answer = answered(move, chance)
            if move.key.startswith(("wish ", "again ")) and chance.random() < 0.4:
                answer = SKIP
            known = replace(known, answers={**known.answers, move.key: answer})
    raise AssertionError("it goes in a circle")


@cache
def _root() -> Any:
    return typer.main.get_command(app)


def parsed(words: list[str]) -> None:
    """A command that is there, with options that it has."""
    command, context = _root(), typer.Context(_root(), info_name="hooper", resilient_parsing=True)
    rest = list(words)
    while hasattr(command, "get_command"):
        command = command.get_command(context, rest.pop(0))
        assert command is not None, words
    options = {one for parameter in command.params for one in parameter.opts}
    assert {word for word in rest if word.startswith("--")} <= options, words


@pytest.mark.parametrize(("typed", "means"), [
    ("2", "beta"), ("alpha", "alpha"), ("BETA", "beta"), ("a", "alpha"), ("", "alpha"), ("yes", "alpha"),
])  # fmt: skip
def test_an_answer_is_a_word_its_start_or_its_number(typed: str, means: str) -> None:
    question = Asking("q", say("guide.title"), say("guide.title"), "alpha", (Choice("alpha"), Choice("beta")))
    assert read_answer(question, typed) == means


def test_several_are_picked_and_nonsense_is_refused() -> None:
    choices = tuple(map(Choice, ("10.44.7.21", "10.44.7.22", "10.44.7.30")))
    question = Asking("q", say("guide.title"), say("guide.title"), "", choices, several=True)
    assert read_answer(question, "1, 3") == "10.44.7.21,10.44.7.30"
    assert read_answer(question, "10.44.7.22") == "10.44.7.22"
    for wrong in ("", "4", "0", "10.44.7.2", "1,9", "-1"):
        with pytest.raises(ValueError, match=r"is none of|pick one"):
            read_answer(question, wrong)
    address = Asking("q", say("guide.title"), say("guide.title"), reads="address")
    assert read_answer(address, " 203.0.113.44 ") == "203.0.113.44"
    assert read_answer(address, "") == ""
    for wrong in ("203.0.113", "fibre", "2001:db8::1", "203.0.113.444"):
        with pytest.raises(ValueError, match="IPv4"):
            read_answer(address, wrong)


# --- as a newcomer, in the town


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabHere]:
    folder = tmp_path_factory.mktemp("guided")
    with town_here(folder) as lab:
        yield lab


@pytest.fixture
def fresh(town: LabHere) -> Iterator[LabHere]:
    """Nothing entered but what a hand types beforehand into the outer router."""
    town.ask("line", shape={})
    town.ask("restart", gateway="club-router")
    town.ask("type", sheets=SHEET)
    yield town
    town.ask("line", shape={})


def guide(lab: LabHere, folder: Path, *arguments: str, stdin: str = "") -> Ran:
    env = {"HOOPER_LAB": lab.env["HOOPER_LAB"], "HOOPER_SITE": ""}
    return hooper("guide", "--state", str(folder / "state"), *arguments, env=env, stdin=stdin, cwd=folder)


def other(lab: LabHere, folder: Path, *arguments: str) -> Ran:
    return hooper(
        *arguments,
        env={"HOOPER_LAB": lab.env["HOOPER_LAB"], "HOOPER_SITE": "", "XDG_STATE_HOME": str(folder / "state")},
        cwd=folder,
    )


def test_from_an_empty_folder_to_a_proven_service(fresh: LabHere, tmp_path: Path) -> None:
    ran = guide(fresh, tmp_path, "--record", "answers.toml", stdin="\n".join((*ANSWERS, "")))
    assert ran.code == 0, ran.err
    assert "All is done and proven." in ran.err
    assert "✓ film-box-page" in ran.out
    assert len(ANSWERS) <= 12
    for step in ("new --found", "survey", "host find --sweep", "service change film-box-page --reach public",
                 "host tick film-box", "router open", "worksheet outer-box",
                 "check --from interface film-box-page"):  # fmt: skip
        assert f"$ hooper {step}" in ran.err
    assert "Next:" not in ran.err
    recorded = tomllib.loads((tmp_path / "answers.toml").read_text())["answers"]
    assert (recorded["title"], recorded["devices"]) == ("Boathouse", "10.44.7.21,10.44.7.30")
    # once more, elsewhere, by what was recorded
    fresh.ask("restart", gateway="club-router")
    again = tmp_path / "again"
    again.mkdir()
    ran = guide(fresh, again, "--answers", str(tmp_path / "answers.toml"), "--json")
    assert ran.code == 0, ran.out + ran.err
    document = valid("guide", ran.document)
    assert (document["left"], document["waits_for"]) == (0, None)
    assert document["answers"] | {"wish 1": "nothing"} == recorded | {"wish 1": "nothing"}
    ends = [one["exit_code"] for one in document["commands"]]
    assert ends.count(0) == len(ends), document["commands"]


def test_it_is_left_at_every_question_and_goes_on_by_what_is_known(fresh: LabHere, tmp_path: Path) -> None:
    """Each run gets one answer more of what it asks; none asks what stands in the file."""
    told = {
        "What is this place called": "Boathouse", "The WAN address of outer-box": "203.0.113.44",
        "Which of them belong": "1,3", "What is to be reached": "film-box-page", "Who is to reach film-box-page": "",
        "Is the password that film-box": "yes", "Enter the rules into own-router": "", "Type it into outer-box": "",
        "How shall it be proven": "", "Do you want anything else": "",
    }  # fmt: skip
    asked: list[str] = []
    for _ in range(30):
        ran = guide(fresh, tmp_path)  # nobody answers: what does it ask?
        assert ran.code in (0, 1), ran.err
        question = next((one for one in told if re.search(rf"^{one}", ran.err, re.MULTILINE)), None)
        if ran.code == 0:
            break
        assert question is not None, ran.err
        assert "Go on when you like: hooper guide" in ran.err
        asked.append(question)
        assert asked.count(question) <= 4, asked
        after = told[question] + "\n"
        # the answers that stand in no file are given again until what follows from them does
        if question == "What is to be reached":
            after += "\n"
        if guide(fresh, tmp_path, stdin=after).code == 0:
            break
    else:
        raise AssertionError(asked)
    assert other(fresh, tmp_path, "next", "--state", str(tmp_path / "state")).code == 0


def test_what_is_open_for_a_while_says_how_it_is_closed(fresh: LabHere, tmp_path: Path) -> None:
    answers = (*ANSWERS[:4], "while", *ANSWERS[5:])
    ran = guide(fresh, tmp_path, stdin="\n".join((*answers, "")))
    assert ran.code == 0, ran.err
    assert "router open --gateway own-router --lease 2h" in ran.err
    assert (
        "film-box-page is open for a while only. Afterwards: hooper service change film-box-page --reach lan" in ran.err
    )
    assert other(fresh, tmp_path, "service", "change", "film-box-page", "--reach", "lan").code == 0
    taken = other(fresh, tmp_path, "worksheet", "--changed", "--state", str(tmp_path / "state"))
    assert "outer-box" in taken.out
    assert "443" in taken.out


def test_a_name_and_a_certificate_without_a_line_of_toml(fresh: LabHere, tmp_path: Path) -> None:
    """The zone of the town takes updates by a key; its authority is known by its own root."""
    secret, root = fresh.folder / "secrets" / "own-zone", fresh.folder / "town-ca.pem"
    wished = ("name", "boathouse.heronquay.example", "zone", "boathouse-key", "198.51.100.53", f"file:{secret}",
              "certificate", "https://ca.heronquay.example/directory", "", f"file:{root}", "yes", "")  # fmt: skip
    answers = (*ANSWERS[:9], *wished)
    ran = guide(fresh, tmp_path, stdin="\n".join((*answers, "")))
    assert ran.code == 0, ran.err + ran.out
    assert len(answers) - 2 <= 20, "how it is proven is not asked where it is watched, and the last is Enter"
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert (set(site.names), set(site.certificates)) == ({"boathouse.heronquay.example"}, {"own"})
    assert "ordered" in ran.out
    assert secret.read_text().strip() not in (tmp_path / "site.toml").read_text() + ran.out + ran.err


def test_back_takes_the_answer_and_its_edit_back(fresh: LabHere, tmp_path: Path) -> None:
    ran = guide(fresh, tmp_path, stdin="back\nBoathouse\n203.0.113.44\n1\nback\n3\nleave\n")
    assert "This is the first question." in ran.err
    assert "$ hooper undo" in ran.err
    assert ran.code == 1
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert set(site.hosts) == {"film-box"}, "the first pick was taken back"


def test_what_cannot_be_taken_back_is_said(fresh: LabHere, tmp_path: Path) -> None:
    ran = guide(fresh, tmp_path, stdin="\n".join((*ANSWERS[:7], "back", "leave", "")))
    assert "cannot be taken back here" in ran.err
    assert "`hooper router open" in ran.err


def test_every_question_is_explained_and_can_be_passed_over(fresh: LabHere, tmp_path: Path) -> None:
    ran = guide(fresh, tmp_path, stdin="?\nwhy do you ask\n" + "skip\n" * 12)
    assert ran.code == 1
    assert ran.err.count("It stands on the sheets and pages") == 2
    assert "Left to do: line line, device site, service site." in ran.err


def test_wrong_answers_are_asked_again(fresh: LabHere, tmp_path: Path) -> None:
    stdin = "Boathouse\nfibre\n203.0.113.44\n99\n1,x\n\x1b[A\n3\n4\n9\npublic\nmaybe\nno\nleave\n"
    ran = guide(fresh, tmp_path, stdin=stdin)
    assert ran.code == 1, ran.err
    assert "no IPv4 address, such as" in ran.err
    assert ran.err.count("is none of") >= 5
    assert "Traceback" not in ran.err


def test_without_a_terminal_it_says_what_it_waits_for(fresh: LabHere, tmp_path: Path) -> None:
    first = guide(fresh, tmp_path, "--json")
    waits = valid("guide", first.document)["waits_for"]
    assert (first.code, waits["question"], waits["default"]) == (1, "title", "Home")
    given = ["--answer", "title=Boathouse", "--answer", "wan outer-box=203.0.113.44"]
    second = valid("guide", guide(fresh, tmp_path, "--json", *given).document)
    assert second["waits_for"]["question"] == "devices"
    assert "10.44.7.30" in second["waits_for"]["choices"]
    wrong = guide(fresh, tmp_path, "--json", "--answer", "devices=99")
    assert wrong.code == 2
    assert "the answer to 'devices'" in wrong.document["errors"][0]["message"]
    for bad in (("--answer", "title"), ("--answers", "none.toml"), ("--force",)):
        assert guide(fresh, tmp_path, *bad).code in (2, 6), bad
    (tmp_path / "bad.toml").write_text("answers = 3")
    assert guide(fresh, tmp_path, "--answers", "bad.toml").code == 2


def test_a_tunnel_and_a_phone(fresh: LabHere, tmp_path: Path) -> None:
    """What had better not be open gets a tunnel, its server's files and a profile."""
    fresh.ask("type", sheets=[{**SHEET[0], "rules": [{
        **SHEET[0]["rules"][0], "service": "home", "transport": "udp", "outside_ports": [51820, 51820],
        "target_ports": [51820, 51820]}]}])  # fmt: skip
    stdin = "\n".join(("Boathouse", "203.0.113.44", "1,7", "slip-cam-rtsp", "", "gate", "", "", "later", "", ""))
    ran = guide(fresh, tmp_path, stdin=stdin)
    assert ran.code == 1, "the server has not loaded its files yet"
    assert "Advice: tunnel." in ran.err
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert (site.tunnels["home"].kind, set(site.peers)) == ("wireguard", {"phone"})
    assert (tmp_path / "phone.html").exists(), "where no code can be drawn, a page holds it"
    assert other(fresh, tmp_path, "lab", "load", "home-server/home.conf").code == 0
    ran = guide(fresh, tmp_path, stdin="\nnowhere.txt\n\n\n\n")
    assert (ran.code, "✓ home" in ran.out) == (1, True), ran.err
    assert "nowhere.txt cannot be read" in ran.err
    assert "Left to do: entry phone." in ran.err
    # the phone comes in from another network, and its server is asked
    kept = ("--state", str(tmp_path / "state"))
    assert other(fresh, tmp_path, "peer", "renew", "phone", *kept).code == 0
    assert other(fresh, tmp_path, "tunnel", "make", "home", "--out", "anew", *kept).code == 0
    assert other(fresh, tmp_path, "peer", "hand", "phone", "--out", "phone.conf", *kept).code == 0
    assert other(fresh, tmp_path, "lab", "load", "anew/home.conf").code == 0
    assert other(fresh, tmp_path, "lab", "load", "phone.conf", "--on", "here").code == 0
    (tmp_path / "early.txt").write_text(other(fresh, tmp_path, "lab", "dump").out)
    assert other(fresh, tmp_path, "lab", "plug", "away").code == 0
    other(fresh, tmp_path, "check", "slip-cam-rtsp", "--from", "interface:phone")
    assert other(fresh, tmp_path, "lab", "plug", "home").code == 0
    assert other(fresh, tmp_path, "lab", "load", "phone.conf", "--on", "here", "--off").code == 0
    (tmp_path / "seen.txt").write_text(other(fresh, tmp_path, "lab", "dump").out)
    ran = guide(fresh, tmp_path, stdin="early.txt\nseen.txt\n\n")
    assert ran.code == 0, ran.err
    assert "phone has not been seen to come in from outside yet." in ran.err
    assert "All is done and proven." in ran.err


def test_a_line_without_an_address_ends_at_the_letter_or_a_rented_machine(fresh: LabHere, tmp_path: Path) -> None:
    fresh.ask("line", shape={"kind": "carrier-nat"})
    ran = guide(fresh, tmp_path, stdin="Boathouse\n100.64.44.2\nletter\n3\nfilm-box-page\n\nyes\nleave\n")
    assert ran.code == 1, ran.err
    assert "$ hooper worksheet --letter" in ran.err
    assert "Dear" in ran.out or "letter" in ran.out.lower()
    ran = guide(fresh, tmp_path, stdin="rented\n198.51.100.7\nfilm-box\nleave\n")
    assert "$ hooper tunnel rent detour --address 198.51.100.7 --host film-box" in ran.err, ran.err
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert any(one.tunnel for one in site.gateways.values())


def test_a_number_that_was_mistyped_is_asked_for_again(fresh: LabHere, tmp_path: Path) -> None:
    ran = guide(fresh, tmp_path, stdin="Boathouse\n203.0.113.45\nback\n203.0.113.44\nleave\n")
    assert ran.err.count("The WAN address of outer-box") == 2, ran.err
    here = ("--state", str(tmp_path / "state"), "--json")
    steps = other(fresh, tmp_path, "next", *here).document["steps"]
    assert [step["state"] for step in steps if step["step"] == "line"] == ["done"]
    assert other(fresh, tmp_path, "survey", "--wan", "outer-box=", *here).code in (0, 1)
    steps = other(fresh, tmp_path, "next", *here).document["steps"]
    assert [step["state"] for step in steps if step["step"] == "line"] == ["open"], "what was told is taken back"


# --- in a real terminal


@pytest.fixture(scope="module")
def apart(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    with start_lab(tmp_path_factory.mktemp("apart")) as lab:
        yield lab


def test_it_watches_while_a_hand_types_and_goes_on_by_itself(apart: LabProcess, tmp_path: Path) -> None:
    started = time.monotonic()
    one = Person(tmp_path, lab=apart.env["HOOPER_LAB"])
    for words, typed in (("called [Home]:", "Boathouse"), ("(Enter: not known yet; none: it has none)", "203.0.113.44"),
                         ("belong to this site", "1,3"), ("reached from outside", "3"), ("reach film-box-page", ""),
                         ("came with changed", "yes"), ("into own-router now", "")):  # fmt: skip
        one.until(words)
        if "]:" not in words and ")" not in words:
            one.until("Answer")
        one.type(f"{typed}\n")
    one.until("Enter when it is typed.")
    apart.ask("type", sheets=SHEET, wrongly=True)
    twice = json.dumps({"sheets": [{**SHEET[0], "rules": [*SHEET[0]["rules"], {
        **SHEET[0]["rules"][0], "service": "a-game", "outside_ports": [4444, 4444]}]}]})  # fmt: skip
    entered = apart.run("lab", "type", "-", "--pause", "0.5s", "--json", stdin=twice)  # slowly; nobody presses Enter
    assert [one["outcome"] for one in valid("lab-type", entered.document)["entered"]] == ["changed", "added"]
    one.until("It answers from outside now")
    one.until("anything else")
    one.type("\n")
    assert one.ended() == 0
    assert "All is done and proven." in one.seen
    assert time.monotonic() - started < 60


def test_with_a_phones_browser_alone_the_way_in_is_proven_and_what_is_seen_is_kept(
    apart: LabProcess, tmp_path: Path
) -> None:
    apart.ask("restart", gateway="club-router")
    apart.ask("type", sheets=SHEET)
    env = {**os.environ, "HOOPER_LAB": apart.env["HOOPER_LAB"], "XDG_STATE_HOME": str(tmp_path / "state")}
    env.pop("HOOPER_SITE", None)
    with warm.start(["guide"], cwd=tmp_path, env=env, stdin=subprocess.PIPE, stdout=subprocess.PIPE,
                    stderr=subprocess.STDOUT, text=True) as run:  # fmt: skip
        assert run.stdin is not None
        assert run.stdout is not None
        run.stdin.write("\n".join((*ANSWERS[:8], "phone", "warning", "nothing", "")))
        run.stdin.close()
        shown = ""
        for line in run.stdout:
            shown += line
            if found := re.search(r"http://203\.0\.113\.44:443/\S+", line):
                assert hooper("lab", "browse", found[0], env={"HOOPER_LAB": env["HOOPER_LAB"]}).code == 0
        code = run.wait()
    assert code == 1, shown
    assert "Proven: The line has a public address" in shown
    assert "Kept for film-box-page: on a phone, over mobile data: a warning" in shown
    assert "Left to do: proof film-box-page." in shown, "what a person saw is no proof"


def interrupted(one: Person) -> None:
    one.type("\x03")


def hung_up(one: Person) -> None:
    one.type("\x04")


@pytest.mark.parametrize(("leave", "code"), [(interrupted, 130), (hung_up, 1)], ids=["Ctrl-C", "Ctrl-D"])
def test_it_is_left_by_a_key(apart: LabProcess, tmp_path: Path, leave: Callable[[Person], None], code: int) -> None:
    one = Person(tmp_path, lab=apart.env["HOOPER_LAB"], columns=60)
    one.until("called [Home]:")
    one.type("Boathouse\n")
    one.until("none: it has none)")
    lines = [line.rstrip("\r") for line in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", one.seen).split("\n")]
    assert all(len(line) <= 60 for line in lines if "\r" not in line)
    leave(one)
    assert one.ended() == code
    assert (tmp_path / "site.toml").exists()
    two = Person(tmp_path, lab=apart.env["HOOPER_LAB"])
    two.until("none: it has none)")  # the first question is not put again
    two.process.kill()
    two.process.wait()
    assert "What is this place" not in two.seen
    parse_site((tmp_path / "site.toml").read_bytes(), "site.toml")


def test_a_line_with_ipv6_alone_ends_in_a_proof(fresh: LabHere, tmp_path: Path) -> None:
    """No IPv4 comes in: the device's own address, an opening in each firewall, a name that leads to the device."""
    fresh.ask("line", shape={"kind": "ds-lite"})
    opening = {**SHEET[0]["rules"][0], "kind": "pinhole", "outside_address": "2001:db8:44:7::30",
               "target_address": "2001:db8:44:7::30"}  # fmt: skip
    lines = ("Boathouse", "none", "ipv6", "3", "film-box-page", "", "2001:db8:44:7::3z", "2001:db8:44:7::30", "yes",
             "", "later", "", "")  # fmt: skip
    ran = guide(fresh, tmp_path, stdin="\n".join(lines))
    assert ran.code == 1, ran.err
    assert "'2001:db8:44:7::3z' is no IPv6 address" in ran.err
    assert "begins with 2001:db8:44:7: (" in ran.err
    assert "Left to do: sheet own-router, proof film-box-page." in ran.err
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert site.services["film-box-page"].family == "ipv6"
    fresh.ask("type", sheets=[{"gateway": key, "rules": [{**opening, "gateway": key}]} for key in (
        "fibre-box", "club-router")])  # fmt: skip
    ran = guide(fresh, tmp_path, stdin="\n\nname\nboathouse.heronquay.example\nwatch\n\n")
    assert "Left to do: name boathouse.heronquay.example AAAA." in ran.err  # its router has to keep it
    assert "✓ film-box-page" in ran.out, ran.out
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    (name,) = site.names.values()
    assert (name.types, name.host) == (("AAAA",), "film-box")
    why = other(fresh, tmp_path, "why", "film-box-page", "--from", "interface", "--state", str(tmp_path / "state"))
    assert "address-taken" not in why.out
