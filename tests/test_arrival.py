"""The page that a phone opens: what a visit and a browser's word mean, HTTP as strangers speak it, lent ports."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sqlite3
import subprocess
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from ipaddress import ip_address
from typing import Any, Self

import anyio
import pytest
from anyio.abc import ByteStream
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.browser_visit import (
    UNOPENED,
    PageTold,
    PhoneWord,
    VisitGround,
    judge_told,
    judge_visit,
    read_told,
    tries,
)
from hooper.lab.pipe import pipe
from hooper.net.serving import BODY_LIMIT, HttpAsked, HttpSaid, serve_http
from hooper.net.types import Endpoint
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.store.kept import PageKnown, StoredInside
from support import warm
from support.program import BOATHOUSE, Lab, start_lab, valid

SITE = parse_site(BOATHOUSE.encode(), "site.toml").site
TOPOLOGY = Topology(SITE)
PUBLIC = ip_address("203.0.113.44")


@pytest.mark.parametrize(
    ("source", "looped", "came"),
    [
        ("198.51.100.130", None, "outside"),
        ("100.72.5.9", None, "outside"),  # a customer of the same provider
        ("203.0.113.44", None, "home"),  # led back in by the outer address
        ("10.44.7.133", None, "home"),
        ("192.168.90.20", None, "home"),  # between the boxes
        ("10.44.7.1", "10.44.7.1", "unclear"),  # the router hides who comes, and home looks the same
        ("10.44.7.1", None, "outside"),  # nobody at home gets here by the public address
        ("10.44.7.1", "203.0.113.44", "outside"),
        ("172.20.1.1", None, "unclear"),
    ],
)
def test_a_visit_is_judged_by_where_it_came_from(source: str, looped: str | None, came: str) -> None:
    ground = VisitGround(SITE, {PUBLIC}, ip_address(looped) if looped else None)
    judged, meaning = judge_visit(ground, ip_address(source))
    assert judged == came
    assert meaning.endswith(".")


@given(st.ip_addresses())
def test_no_visit_from_the_sites_own_networks_is_from_outside(source: Any) -> None:
    judged, _ = judge_visit(VisitGround(SITE, {PUBLIC}, source), source)
    inside = any(source in gateway.lan.network for gateway in SITE.gateways.values())
    assert not (judged == "outside" and (inside or source == PUBLIC or source.is_loopback))


def test_what_no_browser_opens_is_not_offered() -> None:
    offered = {one.service: one for one in tries(TOPOLOGY, {"fibre": PUBLIC}, list(SITE.services))}
    assert offered.keys() == {key for key, service in SITE.services.items() if service.reach == "public"}
    assert offered["gate"].unopened == "no browser can try UDP"
    assert offered["film-page"].link == "https://boathouse.heronquay.example/"
    assert offered["film-page"].urls.keys() == {"tls", "plain"}
    assert offered["desk"].urls == {"plain": "http://boathouse.heronquay.example:3389/"}
    assert 10080 in UNOPENED
    shut = BOATHOUSE.replace("outside_port = 13389", "outside_port = 6000")
    told = tries(Topology(parse_site(shut.encode(), "x").site), {}, ["timing-desk"])[0]
    assert (told.urls, told.unopened) == ({}, "browsers refuse to open port 6000")


@pytest.mark.parametrize(
    ("service", "told", "verdict", "ok"),
    [
        ("film-page", {"tls": PageTold(True, 80), "plain": PageTold(True, 60)}, "answered", True),
        ("film-page", {"tls": PageTold(False, 80), "plain": PageTold(True, 60)}, "connected", False),
        ("film-page", {"tls": PageTold(False, 80), "plain": PageTold(False, 60)}, "unproven", False),
        ("film-page", {"tls": PageTold(False, 8001), "plain": PageTold(False, 8002)}, "silent", False),
        ("desk", {"plain": PageTold(False, 40)}, "unproven", False),  # refused looks the same to a browser
        ("desk", {"plain": PageTold(False, 8001)}, "unproven", False),  # so does what waits for its own protocol
        ("recorder-app", {"plain": PageTold(True, 40)}, "connected", False),
        ("film-page", {}, "unproven", False),
    ],
)
def test_a_browser_is_believed_no_further_than_it_can_tell(
    service: str, told: dict[str, PageTold], verdict: str, ok: bool
) -> None:
    (one,) = tries(TOPOLOGY, {}, [service])
    result = judge_told(TOPOLOGY, one, PhoneWord(told), named=True)
    assert (result.verdict, result.ok) == (verdict, ok)


@dataclass
class Remembered:
    """What was kept of the services."""

    fingerprint: str = "sha256:" + "ab" * 31 + "cd"
    pictures: tuple[tuple[str, int, int], ...] = (("/small.png", 16, 16), ("/logo.png?v=2", 120, 40))

    def inside(self, service: str, transport: str, port: int) -> StoredInside:
        return StoredInside("answered", self.fingerprint, None, "2026-05-01T12:00:00Z")

    def page(self, service: str, transport: str, port: int) -> PageKnown:
        return PageKnown("Slip", self.pictures)

    def rule(self, service: str, gateway: str) -> None:
        return None

    def showing(self, fingerprint: str) -> tuple[str, ...]:
        return ()


@pytest.mark.parametrize(
    ("tls", "size", "named", "verdict", "identity"),
    [
        (False, (120, 40), True, "answered", "kind"),  # the person has let its own certificate be: no browser vouches
        (False, (64, 64), True, "mismatched", "other"),
        (False, None, True, "unproven", "none"),
        (True, (120, 40), True, "answered", "kind"),  # nobody is known to vouch: a person may have let it be
        (True, (64, 64), True, "answered", "kind"),  # a page may have another picture now
        (True, (64, 64), False, "mismatched", "other"),
    ],
)
def test_a_picture_over_https_counts_less_than_a_certificate(
    tls: bool, size: tuple[int, int] | None, named: bool, verdict: str, identity: str
) -> None:
    (one,) = tries(TOPOLOGY, {"fibre": PUBLIC}, ["film-page"], Remembered())
    told = {"tls": PageTold(tls, 80), "plain": PageTold(False, 60), "picture": PageTold(size is not None, 90, size)}
    result = judge_told(TOPOLOGY, one, PhoneWord(told), named=named)
    assert (result.verdict, result.identity) == (verdict, identity)
    (sure,) = tries(TOPOLOGY, {"fibre": PUBLIC}, ["hub-page"], Remembered())  # its certificate is one that was ordered
    assert judge_told(TOPOLOGY, sure, PhoneWord(told), named=True).identity == ("proven" if tls else identity)


def test_what_is_known_of_a_device_is_compared_on_the_phone() -> None:
    """By a person, of a certificate; by the browser, of a page without encryption."""
    clear = BOATHOUSE.replace(
        'speaks = "http"\nreach = "lan"', 'speaks = "http"\nreach = "public"\noutside_port = 8081'
    )
    topology = Topology(parse_site(clear.encode(), "x").site)
    sure, page = tries(topology, {"fibre": PUBLIC}, ["film-page", "slip-page"], Remembered())
    assert (sure.print, sure.size) == (("AB:AB:AB:AB", "AB:AB:AB:CD"), (120, 40))
    assert sure.urls["picture"] == "https://boathouse.heronquay.example:443/logo.png?v=2"
    assert (page.print, page.size) == (None, (120, 40))
    assert page.urls["picture"] == "http://boathouse.heronquay.example:8081/logo.png?v=2"
    for seen, verdict, identity in (("same", "answered", "proven"), ("other", "mismatched", "other")):
        result = judge_told(topology, sure, read_told({"service": "film-page", "saw": {"print": seen}})[1], named=True)
        assert (result.verdict, result.ok, result.identity) == (verdict, seen == "same", identity)
    for size, verdict, identity in (((120, 40), "answered", "kind"), ((120, 41), "mismatched", "other")):
        word = {"picture": {"loaded": True, "ms": 5, "size": [*size]}, "plain": {"loaded": True, "ms": 5}}
        result = judge_told(topology, page, read_told({"service": "slip-page", "told": word})[1], named=True)
        assert (result.verdict, result.identity) == (verdict, identity)
    loads = {"plain": PageTold(True, 5), "picture": PageTold(False, 5)}
    result = judge_told(topology, page, PhoneWord(loads), named=True)
    assert (result.verdict, result.identity) == ("connected", "none")
    assert [one.print for one in tries(topology, {}, ["film-page"])] == [None]


@given(st.dictionaries(st.text(), st.none() | st.text() | st.dictionaries(st.text(), st.booleans() | st.integers())))
def test_any_word_of_a_page_is_read_or_refused(body: Any) -> None:
    try:
        service, told = read_told(body)
    except ValueError:
        return
    assert isinstance(service, str)
    assert told.loads.keys() <= {"tls", "plain", "picture"}


LOADED, WARNED, SILENT = (
    {"tls": PageTold(tls, took), "plain": PageTold(plain, took)}
    for tls, plain, took in ((True, True, 80), (False, True, 80), (False, False, 8001))
)


@pytest.mark.parametrize(
    ("loads", "saw", "verdict", "identity"),
    [
        (LOADED, {}, "answered", "kind"),  # nobody is known to vouch for its certificate
        (LOADED, {"page": "nothing"}, "unproven", "none"),
        (LOADED, {"page": "other"}, "mismatched", "other"),
        (WARNED, {}, "connected", "none"),
        (WARNED, {"page": "yes"}, "answered", "kind"),
        (WARNED, {"page": "yes", "print": "unfound"}, "answered", "kind"),
        (WARNED, {"page": "yes", "print": "other"}, "mismatched", "other"),
        (WARNED, {"print": "same"}, "answered", "proven"),
        (SILENT, {"page": "nothing"}, "silent", "none"),
        (SILENT, {"login": "untold"}, "silent", "none"),
        ({}, {"page": "yes", "login": "no"}, "answered", "kind"),
    ],
)
def test_each_word_of_a_person_has_its_own_strength(
    loads: dict[str, PageTold], saw: dict[str, str], verdict: str, identity: str
) -> None:
    (one,) = tries(TOPOLOGY, {}, ["film-page"])
    service, word = read_told({"service": "film-page", "saw": saw})
    result = judge_told(TOPOLOGY, one, word.after(PhoneWord(loads)), named=True)
    assert (service, result.verdict, result.identity, result.ok) == (
        "film-page", verdict, identity, verdict == "answered",
    )  # fmt: skip
    assert ("no-login" in result.problems) == (saw.get("login") == "no")


@pytest.mark.parametrize("saw", [{"print": "Same"}, {"print": True}, {"colour": "red"}, ["print"], {"page": ["yes"]}])
def test_words_that_were_not_asked_are_refused(saw: Any) -> None:
    with pytest.raises(ValueError, match="no such word"):
        read_told({"service": "film-page", "saw": saw})


# the page's own server


class OneGuest:
    """A port to which one comes."""

    local = Endpoint(ip_address("127.0.0.1"), 80)

    def __init__(self, stream: ByteStream) -> None:
        self._stream: ByteStream | None = stream

    async def accept(self) -> tuple[ByteStream, Endpoint]:
        while self._stream is None:
            await anyio.sleep_forever()
        stream, self._stream = self._stream, None
        return stream, Endpoint(ip_address("198.51.100.130"), 4000)

    async def aclose(self) -> None:
        self._stream = None

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()


async def _conversation(*sent: bytes) -> bytes:
    async def answer(asked: HttpAsked) -> HttpSaid:
        return HttpSaid(200, f"{asked.method} {asked.target} {len(asked.body)}".encode())

    near, far = pipe()
    got = b""
    listener = OneGuest(far)
    async with anyio.create_task_group() as tasks:
        tasks.start_soon(serve_http, listener, answer)
        for part in sent:
            await near.send(part)
        with contextlib.suppress(anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError):
            while True:
                got += await near.receive()
        tasks.cancel_scope.cancel()
        await near.aclose()
    return got


@pytest.mark.parametrize(
    ("sent", "status"),
    [
        ((b"GET /x HTTP/1.1\r\nHost: a\r\n\r\n",), b"200"),
        ((b"GET /x HT", b"TP/1.1\r\nHost: a\r\n", b"\r\n"), b"200"),
        ((b"POST /x HTTP/1.1\r\nHost: a\r\nContent-Length: 2\r\n\r\n", b"{}"), b"200"),
        ((b"POST / HTTP/1.1\r\nHost: a\r\nTransfer-Encoding: chunked\r\n\r\n2\r\n{}\r\n0\r\n\r\n",), b"200"),
        ((b"GET / HTTP/1.0\r\n\r\n",), b"200"),
        ((b"HEAD / HTTP/1.1\r\nHost: a\r\n\r\n",), b"200"),
        ((b"GET / HTTP/1.1\r\n\r\n",), b"400"),  # RFC 9112 section 3.2: no Host
        ((b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03\r\n\r\n",), b"400"),  # TLS
        ((b"GET / HTTP/1.1\r\nHost: a\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\n",), b"400"),
        ((b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 99999\r\n\r\n" + b"x" * (BODY_LIMIT + 1),), b"413"),
        ((b"GET /" + b"x" * 70_000 + b" HTTP/1.1\r\n",), b"431"),
    ],
)
def test_http_as_strangers_speak_it(sent: tuple[bytes, ...], status: bytes) -> None:
    got = anyio.run(_conversation, *sent)
    assert got.split(b" ")[1] == status, got
    assert b"Connection: close" in got


# the built program, in the town


@contextmanager
def arriving(lab: Lab, *arguments: str) -> Iterator[subprocess.Popen[str]]:
    process = warm.start(
        ["arrival", *arguments, "--json"],
        stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        env={**os.environ, **lab.env},
    )  # fmt: skip
    try:
        yield process
    finally:
        process.kill()
        process.communicate(timeout=10)


def line(process: subprocess.Popen[str]) -> dict[str, Any]:
    assert process.stdout is not None
    got = process.stdout.readline()
    assert got, process.stderr.read() if process.stderr else ""
    return dict(valid("arrival", json.loads(got)))


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    with start_lab(tmp_path_factory.mktemp("town"), "--hairpin") as started:
        yield started


def test_the_phone_roams_and_arrives(lab: Lab) -> None:
    lab.as_built()
    with arriving(lab, "hub-page", "--take-over", "--turn", "3s") as process:
        ready = line(process)
        url = ready["address"]
        assert url.startswith("http://203.0.113.44:8443/")
        assert [(rule["gateway"], rule["how"]) for rule in ready["rules"]] == [
            ("fibre-box", "standing"), ("club-router", "entered"),
        ]  # fmt: skip
        lab.run("lab", "roam", "home")
        assert "most likely this device is still at home" in lab.run("lab", "browse", url).out
        home = line(process)
        assert (home["visit"]["came"], home["arrived"]) == ("unclear", False)  # led back in by the router's own address
        lab.run("lab", "roam", "away")
        page = lab.run("lab", "browse", url, "--json")
        assert valid("lab-browse", page.document)["text"][2] == "You have arrived from outside."
        came = line(process)
        assert (came["visit"]["came"], came["visit"]["address"]) == ("outside", "198.51.100.130")
        while (ended := line(process))["event"] != "ended":
            assert ended["event"] in ("tried", "given-back", "borrowed-again")
        assert process.wait(30) == 1  # somebody else's rule has an end now, which is told
        assert "The provider lets TCP 8443 in from where this phone is." in ended["proves"]
    table = lab.run("router", "list", "--json").document["gateways"]
    (row,) = [rule for gateway in table for rule in gateway["rules"] if rule["outside_ports"] == [8443, 8443]]
    assert row["target_address"] == "10.44.7.50"


def test_a_rule_of_another_hand_without_an_end_is_not_borrowed_unasked(lab: Lab) -> None:
    lab.as_built()
    ran = lab.run("arrival", "hub-page", "--json")
    assert (ran.code, ran.document["errors"][0]["code"]) == (4, "port-not-lent")


def test_nobody_comes(lab: Lab) -> None:
    lab.as_built()
    with arriving(lab, "--for", "1s") as process:
        ready = line(process)
        by = {rule["gateway"]: (rule["how"], rule["reason"]) for rule in ready["rules"]}
        assert by == {"fibre-box": ("by-hand", "it is driven by hand"), "club-router": ("entered", "")}
        out, _ = process.communicate(timeout=30)
        assert (json.loads(out)["event"], process.returncode) == ("ended", 1)


@pytest.mark.parametrize(("pressed", "ok"), [("--same", True), ("--not-same", False)])
def test_a_person_at_the_phone_compares_the_certificate(lab: Lab, pressed: str, ok: bool) -> None:
    lab.as_built()
    lab.run("check")  # keeps what the devices show at home
    lab.run("lab", "roam", "away")
    with arriving(lab, "hub-page", "--take-over", "--compare", "--turn", "3s", "--for", "60s") as process:
        url = line(process)["address"]
        page = lab.run("lab", "browse", url, pressed, "film-page", "--json").document
        assert "Is it the right device?" in page["text"]
        assert page["tried"]["film-page"].startswith("works" if ok else "another device answers")
        while line(process)["event"] != "ended":
            pass
        assert process.wait(30) == 1  # somebody else's rule has an end now, which is told
    rows = lab.run("status", "--json").document["rows"]
    (row,) = [one for one in rows if (one["kind"], one["subject"]) == ("service", "film-page")]
    assert (row["level"], "compared its certificate" in row["detail"]) == ("well" if ok else "wrong", True)


def test_wrong_usage(lab: Lab) -> None:
    for words in (("--from", "here"), ("hub-page", "film-page"), ("gate",)):
        assert lab.run("arrival", *words).code == 2
    for old, new in (("--arrival", "arrival"), ("--pack", "visit pack"), ("--brought", "visit take")):
        ran = lab.run("check", old)
        assert (ran.code, f"Did you mean `hooper {new}" in ran.err) == (2, True), ran.err


def test_an_interrupt_takes_everything_back(lab: Lab) -> None:
    lab.as_built()
    with arriving(lab) as process:
        line(process)
        process.send_signal(signal.SIGINT)
        _, err = process.communicate(timeout=30)
        assert (process.returncode, "interrupted" in err) == (130, True)
    table = lab.run("router", "list", "--json").document["gateways"]
    assert not [rule for gateway in table for rule in gateway["rules"] if rule["owner"] == "lent"]


def test_what_was_proven_before_an_interrupt_is_kept(lab: Lab) -> None:
    lab.as_built()
    lab.run("lab", "roam", "away")
    with arriving(lab, "hub-page", "--take-over", "--for", "40s") as process:
        url = line(process)["address"]
        browser = warm.start(
            ["lab", "browse", url],
            stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            env={**os.environ, **lab.env},
        )  # fmt: skip
        try:
            assert line(process)["visit"]["came"] == "outside"
            process.send_signal(signal.SIGINT)
            process.communicate(timeout=30)
            assert process.returncode == 130
        finally:
            browser.kill()
            browser.wait(10)
    (state,) = (lab.folder / "state").glob("*.sqlite3")
    with closing(sqlite3.connect(state)) as db:
        tables = [name for (name,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        kept = [row for name in tables for row in db.execute(f'SELECT * FROM "{name}"') if "arrival:" in str(row)]
    assert kept
