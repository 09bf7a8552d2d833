"""A guided run that asks on a phone's page too: who has the page, what it shows, and a whole run answered on it."""

from __future__ import annotations

import contextlib
import html
import json
import os
import re
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.lab.browser import press
from hooper.net.lab_door import LabDoor, read_lab_file
from hooper.net.serving import HttpAsked, HttpSaid, serve_http
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from hooper.report.companion import as_page
from hooper.usecases.act.companion import OPEN_S, TRIES, Companion, PhoneView
from support import warm
from support.person import Person
from support.program import LabProcess, hooper, start_lab
from test_accessible import needs_a_browser, wrong_in
from test_guide import SHEET

PATH = "/0a1b2c3d4e"


class Clock:
    at = 0.0

    def now(self) -> float:
        return self.at


def companion(clock: Clock | None = None) -> Companion:
    return Companion(PATH, "123456", (clock or Clock()).now, lambda nonce: nonce.encode())


def asked(page: Companion, method: str, path: str, body: Any = None, cookie: str = "") -> HttpSaid:
    content = json.dumps(body).encode() if not isinstance(body, bytes) else body
    peer = Endpoint(ip_address("10.44.7.133"), 5000)
    fields = {"cookie": cookie} if cookie else {}
    return anyio.run(page.answer, HttpAsked(method, PATH + path, fields, content if body is not None else b"", peer))


def joined(page: Companion) -> str:
    said = asked(page, "POST", "/join", {"code": "123456"})
    assert said.status == 200
    assert "HttpOnly; SameSite=Strict" in said.fields["Set-Cookie"]
    return said.fields["Set-Cookie"].partition(";")[0]


def test_the_first_browser_with_the_code_has_the_page_and_no_other() -> None:
    page = companion()
    page.show(PhoneView("question", "What is this place called"))
    assert asked(page, "GET", "").status == 200
    for path in ("/now", "/sheet"):
        assert asked(page, "GET", path).status == 403
    assert asked(page, "POST", "/say", {"number": 1, "word": "x"}).status == 403
    cookie = joined(page)
    assert json.loads(asked(page, "GET", "/now", cookie=cookie).body)["view"]["text"] == "What is this place called"
    assert asked(page, "GET", "/now", cookie=cookie[:-1] + "é").status == 403
    taken = asked(page, "POST", "/join", {"code": "123456"})  # a second browser, though it knows the code
    assert (taken.status, json.loads(taken.body)["taken"]) == (403, True)
    assert asked(page, "GET", "/sheet", cookie=cookie).status == 404  # there is none now
    page.show(PhoneView("question", "Typed", sheet=True), sheet=b"<p>the sheet</p>")
    assert asked(page, "GET", "/sheet", cookie=cookie).body == b"<p>the sheet</p>"


def test_codes_are_guessed_a_few_times_and_then_nothing_is_there() -> None:
    page = companion()
    for left in range(TRIES - 1, -1, -1):
        said = asked(page, "POST", "/join", {"code": "000000"})
        assert (said.status, json.loads(said.body)["left"]) == (403, left)
    assert asked(page, "POST", "/join", {"code": "123456"}).status == 404
    assert not page.there


@pytest.mark.parametrize("how", ["closed", "late"])
def test_after_its_end_there_is_no_page(how: str) -> None:
    clock = Clock()
    page = companion(clock)
    cookie = joined(page)
    clock.at = OPEN_S - 1
    assert asked(page, "GET", "/now", cookie=cookie).status == 200
    clock.at, page.closed = (OPEN_S, False) if how == "late" else (0.0, True)
    assert {asked(page, "GET", path, cookie=cookie).status for path in ("", "/now")} == {404}


def test_an_answer_counts_for_the_question_that_was_shown() -> None:
    def read(text: str) -> str:
        if text != "yes":
            raise ValueError("yes, or nothing")
        return text

    page = companion()
    cookie = joined(page)
    page.show(PhoneView("question", "First"))
    page.show(PhoneView("question", "Second"), read)
    late = asked(page, "POST", "/say", {"number": 1, "word": "yes"}, cookie)
    assert json.loads(late.body) == {"ok": False, "why": "That question is over."}
    wrong = asked(page, "POST", "/say", {"number": 2, "word": "no"}, cookie)
    assert json.loads(wrong.body) == {"ok": False, "why": "yes, or nothing"}
    assert page.answers.empty()
    assert json.loads(asked(page, "POST", "/say", {"number": 2, "word": "yes"}, cookie).body) == {"ok": True}
    assert page.answers.get() == "yes"
    page.show(PhoneView("doing", "Something is done"))
    assert not json.loads(asked(page, "POST", "/say", {"number": 3, "word": "yes"}, cookie).body)["ok"]


@pytest.mark.parametrize("body", [b"", b"{", b"[]", b'{"number": "1", "word": 3}', b'{"code": 123456}', b"\xff\xfe"])
def test_garbage_is_refused(body: bytes) -> None:
    page = companion()
    cookie = joined(page)
    page.show(PhoneView("question", "First"))
    assert asked(page, "POST", "/say", body, cookie).status == 400
    assert asked(page, "POST", "/join", body).status == 403
    assert asked(page, "PUT", "/now", body, cookie).status == 404
    assert page.answers.empty()


def test_a_phone_is_served_beside_idle_strangers() -> None:
    page, stop, port = companion(), threading.Event(), list[int]()
    page.show(PhoneView("question", "Still there"))

    async def serve() -> None:
        async with await SystemDoor().listen(Endpoint(ip_address("127.0.0.1"), 0)) as listener:
            port.append(listener.local.port)
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(serve_http, listener, page.answer)
                await anyio.to_thread.run_sync(stop.wait)
                tasks.cancel_scope.cancel()

    thread = threading.Thread(target=anyio.run, args=(serve,))
    thread.start()
    try:
        while not port:
            time.sleep(0.01)
        with contextlib.ExitStack() as strangers:
            for number in range(300):
                one = strangers.enter_context(socket.socket())
                one.setblocking(False)
                one.connect_ex(("127.0.0.1", port[0]))
                if number % 3 == 0:
                    with contextlib.suppress(OSError):
                        one.send(b"\x16\x03\x01 garbage\r\n\r\n")
            with socket.create_connection(("127.0.0.1", port[0]), 10) as phone:
                phone.sendall(f"GET {PATH} HTTP/1.1\r\nHost: a\r\n\r\n".encode())
                assert phone.recv(4096).startswith(b"HTTP/1.1 200")
    finally:
        stop.set()
        thread.join(10)


# --- whole runs, in the town


@pytest.fixture
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabProcess]:
    with start_lab(tmp_path_factory.mktemp("town")) as lab:
        lab.run("lab", "roam", "home")
        yield lab


class PhoneAtHome:
    """The town's phone with the page open: what it shows, and what is pressed."""

    def __init__(self, lab: LabProcess, url: str, code: str) -> None:
        self.lab, self.url, self.cookie, self.code = lab, url, "", code
        self.pressed: list[str] = []

    def look(self, word: str = "") -> tuple[tuple[str, ...], dict[str, str]]:
        async def go() -> Any:
            door = await LabDoor.open(read_lab_file(Path(self.lab.env["HOOPER_LAB"])), "phone")
            return await press(door, self.url, None, "" if self.cookie else self.code, word, self.cookie)

        page, self.cookie = anyio.run(go)
        if word:
            self.pressed.append(word)
        return page.text, dict(page.tried)

    def until(self, words: str, patience: float = 60) -> tuple[str, ...]:
        end = time.monotonic() + patience
        while True:
            text, _ = self.look()
            if any(words in line for line in text):
                return text
            assert time.monotonic() < end, (words, text)
            time.sleep(0.1)

    def answer(self, words: str, word: str) -> None:
        self.until(words)
        text, _ = self.look(word)
        assert not text[-1].startswith("'"), text  # refused


@contextlib.contextmanager
def led(lab: LabProcess, folder: Path, *more: str) -> Iterator[tuple[subprocess.Popen[str], PhoneAtHome]]:
    """A guided run that nobody sits at; the phone has its code."""
    env = {**os.environ, "HOOPER_LAB": lab.env["HOOPER_LAB"], "XDG_STATE_HOME": str(folder / "state")}
    env.pop("HOOPER_SITE", None)
    with warm.start(["guide", "--with-phone", *more], cwd=folder, env=env, stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True) as run:  # fmt: skip
        try:
            assert run.stdout is not None
            seen = ""
            while not (found := re.search(r"(http://10\.44\.7\.105:\d+/\w+)\n[\s\S]*Its code: (\d{6})", seen)):
                line = run.stdout.readline()
                assert line, seen
                seen += line
            yield run, PhoneAtHome(lab, found[1], found[2])
        finally:
            run.kill()


BEGINNING = (("What is this place called", "Boathouse"), ("WAN address of outer-box", "203.0.113.44"),
             ("belong to this site", "1,3"), ("reached from outside", "film-box-page"),
             ("reach film-box-page", "public"), ("came with", "yes"), ("into own-router now", "yes"))  # fmt: skip


def test_a_whole_run_is_answered_on_the_phone(town: LabProcess, tmp_path: Path) -> None:
    with led(town, tmp_path) as (run, phone):
        for words, word in BEGINNING:
            phone.answer(words, word)
        phone.until("typed")
        _, live = phone.look()
        assert set(live.values()) <= {"Nothing from outside yet."}
        town.ask("type", sheets=SHEET)  # nobody presses anything: it is seen from outside
        phone.answer("anything else", "nothing")
        phone.until("All is done and proven.")
        out, _ = run.communicate(timeout=30)
        assert run.returncode == 0, out
    assert "film-box-page" in out
    assert len(phone.pressed) <= 12


def test_the_phone_goes_outside_for_the_proof_and_comes_back(town: LabProcess, tmp_path: Path) -> None:
    town.ask("type", sheets=SHEET)
    with led(town, tmp_path) as (run, phone):
        for words, word in BEGINNING:
            phone.answer(words, word)
        phone.answer("typed", "typed")
        phone.answer("proven from outside", "phone")
        (link,) = [line for line in phone.until("Wi-Fi off") if line.startswith("http://203.0.113.44:443/")]
        town.run("lab", "roam", "away")
        with pytest.raises(Exception, match="does not answer"):
            phone.look()
        assert hooper("lab", "browse", link, "--saw", "film-box-page:page=yes", env=town.env).code == 0
        town.run("lab", "roam", "home")
        phone.answer("anything else", "nothing")
        phone.until("All is done")
        out, _ = run.communicate(timeout=60)
    assert "film-box-page answers there: a person saw its page" in out


@pytest.mark.parametrize("what", ["restart", "unplugged"])
def test_what_breaks_half_way_is_found_and_mended(town: LabProcess, tmp_path: Path, what: str) -> None:
    """The inner router restarts and forgets, or the device loses its cable, while somebody types at the outer one."""
    with led(town, tmp_path) as (run, phone):
        for words, word in BEGINNING:
            phone.answer(words, word)
        phone.until("typed")
        if what == "restart":
            town.ask("restart", gateway="club-router")
        else:
            town.ask("break", fault="host-off", service="film-page")
        town.ask("type", sheets=SHEET)
        phone.answer("typed", "typed")
        phone.answer("proven from outside", "cable")
        if what == "restart":
            phone.answer("own-router has lost the rules", "yes")
        else:
            phone.until("Mend what is named")
            town.ask("mend")
        phone.answer("look once more", "again")
        phone.answer("anything else", "nothing")
        phone.until("All is done and proven.")
        out, _ = run.communicate(timeout=30)
    assert run.returncode == 0, out
    assert ("rule-lost" if what == "restart" else "host-off") in out


def test_terminal_and_phone_answer_by_turns_and_the_terminal_closes_the_page(town: LabProcess, tmp_path: Path) -> None:
    one = Person(tmp_path, lab=town.env["HOOPER_LAB"], more=("--with-phone",))
    seen = one.until("of the first browser that knows the code.")
    url, code = re.search(r"http://10\.44\.7\.105:\d+/\w+", seen), re.search(r"Its code: (\d+)", seen)
    assert url is not None
    assert code is not None
    phone = PhoneAtHome(town, url[0], code[1])
    one.answer("called [Home]", "Boathouse")
    phone.until("WAN address of outer-box")
    refused, _ = phone.look("nonsense")
    assert "is no IPv4 address" in refused[-1]
    phone.answer("WAN address of outer-box", "203.0.113.44")
    one.until("203.0.113.44 (on the phone)")
    one.until("belong to this site")
    phone.answer("belong to this site", "back")
    one.until("WAN address of outer-box")
    one.type("\x03")
    assert one.ended() == 130
    with pytest.raises(Exception, match="does not answer"):
        phone.look()


def test_wrong_usage(tmp_path: Path) -> None:
    for more in ("--json", "--quiet"):
        ran = hooper("guide", "--with-phone", more, cwd=tmp_path)
        assert (ran.code, "Leave --json and --quiet out" in ran.err + ran.out) == (2, True)


# --- the page, in a real browser

QUESTION = {"kind": "question", "text": "Who is to reach film-page", "why": "It decides the way.", "told": ["Advice."],
            "choices": [["everybody", "no account"], ["tunnel", "a profile"]], "several": False, "default": "tunnel",
            "sheet": False, "command": "", "link": ""}  # fmt: skip
SEVERAL = {**QUESTION, "several": True}
TYPED = {**QUESTION, "choices": [], "default": "Home"}
AWAY = {**QUESTION, "kind": "outside", "choices": [], "link": "http://203.0.113.44/0a1b"}
HOME = """
window.said = [];
window.fetch = async (url, options) => {
  const body = options.body ? JSON.parse(options.body) : null;
  if (url.endsWith("/now")) return {status: 200, json: async () => (STATE)};
  said.push(body);
  return {status: 200, json: async () => ({ok: true})};
};
addEventListener("load", async () => {
  await new Promise((done) => setTimeout(done, 1500));
  PRESSES
  await new Promise((done) => setTimeout(done, 500));
  const shown = document.createElement("pre");
  shown.id = "words"; shown.textContent = JSON.stringify([said, document.querySelector("main").innerText]);
  document.body.append(shown);
});
"""


def page_of(state: Any, presses: str = "") -> str:
    """The page with a home of its own that says this state."""
    home = HOME.replace("STATE", json.dumps(state)).replace("PRESSES", presses)
    return (
        as_page("Hooper's guide", PATH, "n", lab=False)
        .decode()
        .replace("<script", f"<script>{home}</script><script", 1)
    )


def showing(view: Any) -> dict[str, Any]:
    return {"joined": True, "number": 4, "view": view, "live": {"film-page": "I see it now"}}


@pytest.mark.skipif(shutil.which("chromium") is None, reason="needs chromium")
@pytest.mark.parametrize(
    ("state", "presses", "said", "shown"),
    [
        (showing(QUESTION), 'document.querySelectorAll("#choices button")[0].click()',
         [{"number": 4, "word": "everybody"}], "Who is to reach film-page"),
        (showing(SEVERAL), 'document.querySelectorAll("#choices input").forEach((one) => one.click());'
         'document.querySelector("#choices button").click()', [{"number": 4, "word": "everybody,tunnel"}], "These"),
        (showing(TYPED), 'document.querySelector("#typed").value = "Boats";'
         'document.querySelector("#choices button").click()', [{"number": 4, "word": "Boats"}], "I see it now"),
        (showing(AWAY), "", [], "http://203.0.113.44/0a1b"),
        ({"joined": False, "taken": False}, 'document.querySelector("#code").value = "123456";'
         'document.querySelector("#entry button").click()', [{"code": "123456"}], "Which code does the terminal show?"),
    ],
)  # fmt: skip
def test_what_is_pressed_is_said(tmp_path: Path, state: Any, presses: str, said: Any, shown: str) -> None:
    path = tmp_path / "page.html"
    path.write_text(page_of(state, presses))
    words = ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--window-size=390,900",
             f"--user-data-dir={tmp_path / 'browser'}", "--virtual-time-budget=8000",
             "--dump-dom", path.as_uri()]  # fmt: skip
    drawn = subprocess.run(words, capture_output=True, text=True, timeout=120).stdout
    found = re.search(r'<pre id="words">(.*?)</pre>', drawn, re.S)
    assert found is not None, drawn[-500:]
    told, text = json.loads(html.unescape(found[1]))
    assert told == said
    assert shown in text


@needs_a_browser
@pytest.mark.parametrize(("view", "dark"), [(QUESTION, False), (TYPED, True)])
def test_the_checker_finds_nothing_on_its_page(tmp_path: Path, view: Any, dark: bool) -> None:
    assert wrong_in(page_of(showing(view)), tmp_path, width=390, dark=dark) == []
