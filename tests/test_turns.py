"""The phone proves the device itself: the borrowed port goes back by turns, and the page tells what was seen."""

from __future__ import annotations

import html
import json
import os
import re
import shutil
import subprocess
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path
from types import SimpleNamespace

import pytest

from hooper.check.browser_visit import Try, Visit, VisitGround, traffic_words
from hooper.report.arrival import as_page
from hooper.site.load import parse_site
from support import warm
from support.program import BOATHOUSE, Lab, start_lab
from test_arrival import arriving, line

TABLES = re.split(r"(?m)^(?=\[)", BOATHOUSE)
ALONE = "".join(one for one in TABLES if not re.match(r"\[(services\.(?!film-page\])|certificates)", one))
PEERS = """
[tunnels.oars]
service = "gate"
subnet = "10.99.0.0/24"
[peers.cox-phone]
address = "10.99.0.2"
tunnel = "oars"
[peers.bow-laptop]
address = "10.99.0.3"
tunnel = "oars"
device = "laptop"
into = "everything"
[peers.far-router]
address = "10.99.0.4"
tunnel = "oars"
device = "router"
"""


@pytest.mark.parametrize(
    ("came", "source", "said"),
    [
        (
            "outside",
            "198.51.100.130",
            "from 198.51.100.130, and not by this site. That is as planned for cox-phone. For bow",
        ),
        ("tunnel", "10.99.0.2", "goes by this site. That is as planned for bow-laptop. For cox-phone only"),
        ("home", "203.0.113.44", "all of its traffic goes by this site"),
        ("home", "10.44.7.60", "all of its traffic goes by this site"),  # the server puts its own address in its place
        ("home", "10.44.7.105", ""),
        ("unclear", "172.20.1.1", ""),
    ],
)
def test_a_phone_with_its_tunnel_on_learns_which_way_its_traffic_goes(came: str, source: str, said: str) -> None:
    site = parse_site((BOATHOUSE + PEERS).encode(), "site.toml").site
    words = traffic_words(VisitGround(site, {ip_address("203.0.113.44")}, None), came, ip_address(source))  # type: ignore[arg-type]
    assert said in words
    assert bool(said) == bool(words)
    assert "far-router" not in words
    alone = parse_site(BOATHOUSE.encode(), "site.toml").site
    assert not traffic_words(VisitGround(alone, {ip_address("203.0.113.44")}, None), came, ip_address(source))  # type: ignore[arg-type]


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """A town whose outer router was typed by hand, and whose inner one Hooper drives."""
    folder = tmp_path_factory.mktemp("town")
    (folder / "site.toml").write_text(ALONE)  # what else is public is waited for by the page, each for its time
    with start_lab(folder) as started:
        sheets = started.run("worksheet", "fibre-box", "--json").out
        assert started.run("lab", "type", "-", "--json", stdin=sheets).code == 0
        started.run("router", "open")
        started.run("check")  # keeps what the devices show at home
        yield started


@pytest.mark.parametrize(
    ("broken", "saw", "verdict", "identity", "level"),
    [
        ("", ("print=same", "page=yes"), "answered", "proven", "well"),
        ("", ("page=other", "login=yes"), "mismatched", "other", "wrong"),
        ("service-stopped", ("page=nothing",), "silent", "none", "wrong"),
    ],
)
def test_the_port_goes_back_to_its_device_and_the_phone_says_what_it_saw(
    lab: Lab, broken: str, saw: tuple[str, ...], verdict: str, identity: str, level: str
) -> None:
    if broken:
        lab.ask("break", fault=broken, service="film-page")
    lab.run("lab", "roam", "away")
    with arriving(lab, "film-page", "--turn", "3s", "--for", "60s") as process:
        url = line(process)["address"]
        said = [word for one in saw for word in ("--saw", f"film-page:{one}")]
        browser = beside(lab, "lab", "browse", url, *said)
        try:
            while (given := line(process))["event"] != "given-back":
                pass
            assert leads_to(lab) == "10.44.7.30"  # while the page is open
            after = [line(process)]
            while (ended := after[-1])["event"] != "ended":
                after.append(line(process))
        finally:
            browser.communicate(timeout=30)
        assert process.wait(30) == 0
    assert given["arrived"]
    assert [one["event"] for one in after].count("borrowed-again") == 1
    (told,) = [one for one in after if one["event"] == "tried"]
    assert (told["result"]["service"], told["result"]["verdict"], told["result"]["identity"]) == (
        "film-page", verdict, identity,
    )  # fmt: skip
    assert any("film-page answers there" in words for words in ended["proves"]) == (verdict == "answered")
    (left,) = [words for words in ended["proves_not"] if words.startswith("That ")] or [""]
    assert left == ("" if verdict == "answered" else f"That film-page answers: {told['result']['detail']}.")
    assert leads_to(lab) == "10.44.7.30"
    lab.ask("mend")
    rows = lab.run("status", "--json").document["rows"]
    (row,) = [one for one in rows if (one["kind"], one["subject"]) == ("service", "film-page")]
    assert row["level"] == level


def test_killed_in_the_turn_of_the_device_its_rule_stays(lab: Lab) -> None:
    lab.run("lab", "roam", "away")
    with arriving(lab, "film-page", "--turn", "30s", "--for", "60s") as process:
        browser = beside(lab, "lab", "browse", line(process)["address"])
        try:
            while line(process)["event"] != "given-back":
                pass
            process.kill()
            process.wait(10)
        finally:
            browser.kill()
            browser.communicate(timeout=10)
    assert leads_to(lab) == "10.44.7.30"
    assert not [one for one in lab.run("router", "list", "--json").document["gateways"] if "lent" in str(one["rules"])]


def leads_to(lab: Lab) -> str:
    """Where the club router's rule for TCP 443 leads now."""
    (inner,) = [g for g in lab.run("lab", "read", "--json").document["gateways"] if g["gateway"] == "club-router"]
    (rule,) = [rule for rule in inner["rules"] if rule["outside_ports"] == [443, 443] and rule["state"] == "on"]
    return str(rule["target_address"])


def beside(lab: Lab, *words: str) -> subprocess.Popen[str]:
    """A command that goes on meanwhile."""
    return warm.start(
        words,
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        env={**os.environ, **lab.env},
    )  # fmt: skip


AT = "https://boathouse.heronquay.example/"
OWN = Try("film-page", "tcp", 443, AT, {"tls": AT}, "", ("AB:AB:AB:AB", "AB:AB:AB:CD"), None, "Films")
VISIT = Visit("2026-05-01T12:00:00Z", "198.51.100.130", "outside", "This device came over the internet.", "a phone")
HOME = """
window.told = [];
let turn = 0;
window.fetch = async (url, options) => {
  if (!options.body) { if (url.startsWith("https:")) return {}; throw new Error("refused"); }
  const body = JSON.parse(options.body);
  told.push(body);
  if (body.service && ++turn === 1) return {json: async () => ({whose: "the device's own answer"})};
  return {json: async () => ({heard: "/0a1b", said: "heard " + turn})};
};
addEventListener("load", async () => {
  const press = (words) => document.querySelector("#own " + words).click();
  await new Promise((done) => setTimeout(done, 3000));
  press("[data-asked=page] [data-word=yes]"); press("[data-asked=print] [data-word=same]");
  PRESSES
  await new Promise((done) => setTimeout(done, 60000));
  const shown = document.createElement("pre");
  shown.id = "found"; shown.textContent = JSON.stringify([told, document.getElementById("turn").textContent]);
  document.body.append(shown);
});
"""


@pytest.mark.skipif(shutil.which("chromium") is None, reason="needs chromium")
@pytest.mark.parametrize(
    ("presses", "saw"),
    [
        ('press("[data-asked=login] [data-word=no]");', {"page": "yes", "print": "same", "login": "no"}),
        ('press("#end");', {"page": "yes", "print": "same"}),
    ],
)
def test_the_page_waits_for_its_turn_and_tells_what_was_pressed(
    tmp_path: Path, presses: str, saw: dict[str, str]
) -> None:
    """In a real browser, whose clock is a virtual one; at home's first turn the device still answers at the port."""
    turns = SimpleNamespace(own=OWN, turn_s=5.0, leaves_s=1.0, most=4)
    page = as_page(
        "Boathouse", VISIT, [], "/0a1b", "n", 8000, lab=False, proves=[], proves_not=[], turns=turns
    ).decode()
    path = tmp_path / "page.html"
    path.write_text(page.replace("<script", f"<script>{HOME.replace('PRESSES', presses)}</script><script", 1))
    words = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run",
             f"--user-data-dir={tmp_path / 'browser'}", "--virtual-time-budget=90000",
             "--dump-dom", path.as_uri()]  # fmt: skip
    shown = subprocess.run(words, capture_output=True, text=True, timeout=120).stdout
    found = re.search(r'<pre id="found">(.*?)</pre>', shown, re.S)
    assert found is not None, shown[-500:]
    told, turn = json.loads(html.unescape(found[1]))
    assert told[0] == {}  # all else was tried
    assert turn.startswith("All of it is told.")
    assert [one["service"] for one in told[1:]] == ["film-page", "film-page"]  # the device's answer is no answer
    assert told[-1]["saw"] == saw
    assert (told[-1]["last"], told[-1]["told"]["tls"]["loaded"]) == (True, True)
