"""Proof with only a phone, against kernel NAT, a router's IGD daemon and a real browser."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import socket
import struct
import subprocess
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Any

import pytest

from support import warm
from support.namespaces import CARRIER, PUBLIC, RENTED, SITE, KernelTown, inside, kernel_town
from support.program import Ran, valid
from support.program import hooper as run_here

pytestmark = pytest.mark.real
DRIVEN = SITE.replace('control = "hand"', 'control = "igd"')
LINE = f'address = "{PUBLIC}"'


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel"), mark="a") as town:
        (town.folder / "site.toml").write_text(DRIVEN.replace('address = "dynamic"', LINE))
        town.serve_page("film-page", "film-box", 443, "Race films")
        town.serve_shell("film-shell", "film-box", 22)
        for router in ("fibre-box", "club-router"):
            town.serve_router(router, secure=False, more=f"ext_ip={PUBLIC}" if router == "club-router" else "")
        yield town


@pytest.fixture
def town(built: KernelTown, tmp_path: Path) -> Iterator[KernelTown]:
    yield built
    hooper(built, tmp_path, "router", "close")


def command(town: KernelTown, state: Path, *arguments: str, place: str = "here") -> subprocess.Popen[str]:
    """One that goes on."""
    pipes = {"stdin": subprocess.DEVNULL, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE, "text": True}
    site = ("--site", str(town.folder / "site.toml"), "--state", str(state))
    return warm.start([*arguments, *site], wrap=town.wrap(place), **pipes)


def hooper(town: KernelTown, state: Path, *arguments: str) -> Ran:
    site = ("--site", str(town.folder / "site.toml"), "--state", str(state), "--json")
    return run_here(*arguments, *site, place=town.ns("here"))


class Lines:
    """What a command that goes on prints, a JSON document a line."""

    def __init__(self, process: subprocess.Popen[str], schema: str) -> None:
        self.process, self.schema, self.seen = process, schema, list[dict[str, Any]]()

    def until(self, wanted: Callable[[dict[str, Any]], bool]) -> dict[str, Any]:
        assert self.process.stdout is not None
        for line in self.process.stdout:
            self.seen.append(valid(self.schema, json.loads(line)))
            if wanted(self.seen[-1]):
                return self.seen[-1]
        raise AssertionError(f"it ended: {self.seen} {self.process.stderr.read() if self.process.stderr else ''}")


def arrival(town: KernelTown, state: Path, *arguments: str) -> AbstractContextManager[Lines]:
    return going_on("arrival", command(town, state, "arrival", *arguments, "--json"))


@contextmanager
def going_on(schema: str, process: subprocess.Popen[str]) -> Iterator[Lines]:
    """A command while it goes on."""
    try:
        yield Lines(process, schema)
    finally:
        process.kill()
        process.wait(10)
        for stream in (process.stdout, process.stderr):
            if stream is not None:
                stream.close()


def rules(town: KernelTown, gateway: str) -> str:
    """What stands in the kernel, as the router's software has entered it; it has no order."""
    return "\n".join(
        sorted(town.run(gateway, "nft", "list", "chain", "inet", "filter", "prerouting_miniupnpd").splitlines())
    )


def eventually(holds: Callable[[], bool], within: float = 20) -> None:
    until = time.monotonic() + within
    while not holds():
        assert time.monotonic() < until, holds
        time.sleep(0.1)


@contextmanager
def browser(town: KernelTown, name: str, url: str, folder: Path, *more: str) -> Iterator[None]:
    """A real browser that opens a page, and its scripts run. more: of its options."""
    chromium = shutil.which("chromium")
    if chromium is None:
        pytest.skip("needs chromium")
    words = [*town.wrap(name), chromium, "--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage",
             "--no-first-run", "--disable-background-networking", "--window-size=412,915",
             f"--user-data-dir={folder}", "--remote-debugging-port=0", *more, url]  # fmt: skip
    process = subprocess.Popen(
        words, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True
    )
    try:
        yield
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
        process.wait(10)


def test_a_phone_arrives_and_its_browser_tells_what_it_reaches(town: KernelTown, tmp_path: Path) -> None:
    state = tmp_path / "state"
    opened = hooper(town, state, "router", "open")
    assert opened.code == 0, opened.out
    with arrival(town, state, "--for", "60s") as page:
        ready = page.until(lambda line: line["event"] == "ready")
        assert {rule["how"] for rule in ready["rules"]} == {"entered"}
        port = ready["rules"][0]["outside_port"]
        assert f":{port}/" in ready["address"]
        assert str(port) in rules(town, "fibre-box")
        inside = ready["address"].replace(f"{PUBLIC}:{port}", f"10.44.7.105:{ready['rules'][-1]['target_port']}")
        assert "You are still at home" in town.run("film-box", "curl", "-s", "-m", "5", inside)
        assert page.until(lambda line: line["event"] == "visit")["visit"]["came"] == "home"
        with browser(town, "carrier", ready["address"], tmp_path / "phone"):
            visit = page.until(lambda line: line["event"] == "visit")["visit"]
            assert (visit["came"], visit["address"]) == ("outside", CARRIER)
            ended = page.until(lambda line: line["event"] == "ended")
        assert ended["arrived"]
        told = {line["result"]["service"]: line["result"]["verdict"] for line in page.seen if line["result"]}
        assert told == {"film-page": "connected", "film-shell": "unproven"}  # its certificate is nobody's
        assert page.process.wait(20) == 0
    assert str(port) not in rules(town, "fibre-box") + rules(town, "club-router")
    kept = hooper(town, state, "why", "film-page").document
    assert (
        next(step for step in kept["steps"] if step["step"] == "outside")["state"] != "ok"
    )  # which device, is not told


def test_the_port_goes_back_to_its_device_for_the_same_browser(town: KernelTown, tmp_path: Path) -> None:
    """It has the page open, loads the device over the very port that the page came by, and tells home afterwards."""
    state = tmp_path / "state"
    assert hooper(town, state, "router", "open").code == 0
    before = rules(town, "club-router")
    with arrival(town, state, "film-page", "--turn", "5s", "--for", "90s") as page:
        ready = page.until(lambda line: line["event"] == "ready")
        assert "10.44.7.105" in rules(town, "club-router")
        with browser(town, "carrier", ready["address"], tmp_path / "phone"):
            page.until(lambda line: line["event"] == "given-back")
            assert rules(town, "club-router") == before
            page.until(lambda line: line["event"] == "borrowed-again")
            assert "10.44.7.105" in rules(town, "club-router")
            told = page.until(lambda line: (line["result"] or {}).get("service") == "film-page")
            assert told["result"]["verdict"] == "connected"  # its certificate is nobody's
            page.until(lambda line: line["event"] == "given-back")
            town.stop("film-page")
            told = page.until(lambda line: (line["result"] or {}).get("service") == "film-page")
            assert told["result"]["verdict"] in ("unproven", "silent")
            page.process.send_signal(signal.SIGINT)
            assert page.process.wait(20) == 130
    town.serve_page("film-page", "film-box", 443, "Race films")
    assert rules(town, "club-router") == before


def test_a_picture_is_measured_over_https_once_the_certificate_is_let_be(town: KernelTown, tmp_path: Path) -> None:
    """Then the browser loads all of it, which is no proof of whose it is."""
    state, folder = tmp_path / "state", town.folder / "film-page"
    (folder / "index.html").write_text("<title>Race films</title><img src='/logo.png'>")
    (folder / "logo.png").write_bytes(painted(120, 40))
    try:
        assert hooper(town, state, "router", "open").code == 0
        assert hooper(town, state, "host", "know", "film-box").code == 0
        for size, verdict, identity in (((120, 40), "answered", "kind"), ((64, 64), "mismatched", "other")):
            (folder / "logo.png").write_bytes(painted(*size))
            with arrival(town, state, "film-page", "--turn", "5s", "--for", "90s") as page:
                ready = page.until(lambda line: line["event"] == "ready")
                profile = tmp_path / f"phone-{verdict}"
                with browser(town, "carrier", ready["address"], profile, "--ignore-certificate-errors"):
                    told = page.until(lambda line: (line["result"] or {}).get("service") == "film-page")
                    assert (told["result"]["verdict"], told["result"]["identity"]) == (verdict, identity), told
                    assert "picture" in told["result"]["detail"]
                    page.process.send_signal(signal.SIGINT)
                    page.process.wait(20)
    finally:
        town.serve_page("film-page", "film-box", 443, "Race films")


def painted(width: int, height: int) -> bytes:
    """A PNG, all black (ISO/IEC 15948)."""

    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0)
    pixels = zlib.compress(bytes((width + 1) * height))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", pixels) + chunk(b"IEND", b"")


def test_no_temporary_rule_stays_after_a_kill(town: KernelTown, tmp_path: Path) -> None:
    state = tmp_path / "state"
    assert hooper(town, state, "router", "open").code == 0
    before = rules(town, "club-router")
    with arrival(town, state, "film-page", "--for", "60s") as page:
        ready = page.until(lambda line: line["event"] == "ready")
        assert [(rule["gateway"], rule["how"]) for rule in ready["rules"]] == [
            ("fibre-box", "standing"), ("club-router", "entered"),
        ]  # fmt: skip
        assert "10.44.7.105" in rules(town, "club-router")
        _others_leave_it_alone(town, state)
        os.kill(page.process.pid, signal.SIGKILL)
        page.process.wait(20)
    eventually(lambda: rules(town, "club-router") == before)
    assert hooper(town, state, "router", "list").code == 0


def _others_leave_it_alone(town: KernelTown, state: Path) -> None:
    listed = hooper(town, state, "router", "list")
    (row,) = [r for g in listed.document["gateways"] for r in g["rules"] if r["owner"] == "lent"]
    assert row["outside_ports"] == [443, 443]
    again = hooper(town, state, "router", "open").document["changes"]
    assert "a test has this port now" in next(c for c in again if c["outcome"] == "left")["detail"]
    assert hooper(town, state, "arrival").code == 6  # one at a time


def test_a_stand_in_is_told_from_the_device_over_tcp_and_udp(town: KernelTown, tmp_path: Path) -> None:
    """Asked from the laptop's second line; then with the rule to another host, and with the port blocked."""
    state, site = tmp_path / "state", town.folder / "site.toml"
    written = site.read_text()
    site.write_text(
        written + '[services.films]\nhost = "film-box"\ntransport = "both"\nport = 9000\nreach = "public"\n'
    )
    try:
        town.stop("film-page")
        ran = hooper(town, state, "stand-in", "film-page", "--from", "interface:usb0")
        assert ran.code == 0, ran
        lines = [valid("stand-in", json.loads(line)) for line in ran.out.splitlines()]
        assert [line["event"] for line in lines if line["event"] != "came"] == ["ready", "result", "ended"]
        assert [line["caller"]["came"] for line in lines if line["caller"]] == ["outside"]
        town.block(9000)
        shut = hooper(town, state, "stand-in", "films", "--from", "interface:usb0", "--deadline", "1s")
        verdicts = [line["result"] for line in map(json.loads, shut.out.splitlines()) if line["result"]]
        assert (shut.code, {(one["transport"], one["verdict"]) for one in verdicts}) == (
            1, {("tcp", "silent"), ("udp", "answered")},
        )  # fmt: skip
    finally:
        town.unblock()
        site.write_text(written)
        town.serve_page("film-page", "film-box", 443, "Race films")


def test_a_stand_in_on_the_services_own_host_waits_for_whoever_comes(town: KernelTown, tmp_path: Path) -> None:
    """The service is stopped, and its host answers in its place, behind the rule that it asks its router for."""
    state = tmp_path / "state"
    assert hooper(town, state, "router", "open", "film-page").code == 0
    town.stop("film-page")
    try:
        listens = command(town, state, "stand-in", "film-page", "--for", "30s", "--public", PUBLIC, "--json",
                        place="film-box")  # fmt: skip
        with going_on("stand-in", listens) as lines:
            ready = lines.until(lambda line: line["event"] == "ready")
            assert ready["ports"] == ["tcp 443"]
            with inside(town.ns("rented")), socket.create_connection((PUBLIC, 443), 5) as visitor:
                visitor.sendall(b"anybody")
            came = lines.until(lambda line: line["event"] == "came")
            assert (came["caller"]["came"], came["caller"]["address"]) == ("outside", RENTED)
            assert lines.until(lambda line: line["event"] == "ended")["proven"] is True
    finally:
        town.serve_page("film-page", "film-box", 443, "Race films")


def test_the_ports_that_the_provider_lets_in_are_measured_and_written_down(town: KernelTown, tmp_path: Path) -> None:
    state, site = tmp_path / "state", town.folder / "site.toml"
    written = site.read_text()
    try:
        town.block(8080)
        ports = [word for port in ("tcp 80", "tcp 8080", "udp 500", "tcp 443") for word in ("--port", port)]
        ran = hooper(town, state, "survey", "--ports", *ports, "--from", "interface:usb0", "--save", "--deadline", "2s")
        assert ran.code == 0, ran
        rows = {(row["transport"], row["port"]): row["let_in"] for row in valid("ports-in", ran.document)["ports"]}
        assert rows == {("tcp", 80): True, ("tcp", 8080): False, ("udp", 500): True, ("tcp", 443): None}
        assert 'blocked = ["tcp 8080"]' in site.read_text()
        town.unblock()
        again = hooper(town, state, "survey", "--ports", "--port", "tcp 8080", "--from", "interface:usb0", "--save")
        assert again.document["saved"] == [{"key": "lines.fibre.blocked", "before": "tcp 8080", "after": "none"}]
        assert hooper(town, state, "survey", "--ports", "--from", "here").code == 2
    finally:
        town.unblock()
        site.write_text(written)
    assert "10.44.7.105" not in rules(town, "club-router")


def test_with_one_wifi_card_the_laptop_itself_goes_outside(town: KernelTown, tmp_path: Path) -> None:
    """Its second interface moves in from another namespace, as the phone's hotspot; the first goes down."""
    state = tmp_path / "state"
    assert hooper(town, state, "router", "open").code == 0
    town.run("here", "ip", "link", "set", "usb0", "netns", town.ns("hub"))
    process = command(town, state, "check", "film-page", "--from", "hotspot", "--for", "40s")
    try:
        assert process.stderr is not None
        said = [next(process.stderr) for _ in range(2)]
        assert "let this computer join it now" in said[1]
        town.run("here", "ip", "link", "set", "lan0", "down")
        _plug_in(town, "hub")
        out, err = process.communicate(timeout=50)
    finally:
        process.kill()
        _plug_in(town, "hub")
        town.run("here", "ip", "link", "set", "lan0", "up")
        town.run("here", "ip", "route", "replace", "default", "via", "10.44.7.1", "dev", "lan0", "metric", "100")
    assert (process.returncode, "go back to the network at home now" in err) == (0, True)
    assert "From the phone's hotspot: 1 checked, 1 ok. Of 1 answer 1 is proven." in out
    assert "same certificate as inside" in out


def _plug_in(town: KernelTown, where: str) -> None:
    """The phone's line into the laptop, from where it was put away."""
    with contextlib.suppress(AssertionError):
        town.run(where, "ip", "link", "set", "usb0", "netns", town.ns("here"))
    town.run("here", "ip", "link", "set", "usb0", "up")
    town.run("here", "ip", "address", "replace", "100.72.5.20/24", "dev", "usb0")
    town.run("here", "ip", "route", "replace", "default", "via", "100.72.5.9", "dev", "usb0", "metric", "700")


def test_a_visit_from_a_third_network(town: KernelTown, tmp_path: Path) -> None:
    """Packed at home, looked at by the rented machine with that file alone; then with the rule to another host."""
    state, pack = tmp_path / "state", tmp_path / "visit.json"
    assert hooper(town, state, "router", "open").code == 0
    assert hooper(town, state, "visit", "pack", "film-page", "film-shell", "--out", str(pack)).code == 0

    def away() -> dict[str, dict[str, Any]]:
        ran = run_here("visit", "run", "--yes", str(pack), "--json", place=town.ns("rented"), cwd=tmp_path)
        return {row["service"]: row for row in valid("check", ran.document)["results"]}

    told = away()
    assert {row["verdict"] for row in told.values()} == {"answered"}
    assert "same certificate as inside" in told["film-page"]["detail"]
    assert "same host key as inside" in told["film-shell"]["detail"]
    kept = hooper(town, state, "visit", "take", str(tmp_path / "visit-result.json"))
    assert (kept.code, kept.document["from"]["kind"]) == (0, "visit")
    town.serve_page("other", "hub", 443, "Heating")
    hooper(town, state, "router", "close")
    site = town.folder / "site.toml"
    written = site.read_text()
    try:
        site.write_text(
            written.replace('[services.film-page]\nhost = "film-box"', '[services.film-page]\nhost = "hub"')
        )
        assert hooper(town, state, "router", "open").code == 0
        assert away()["film-page"]["verdict"] == "mismatched"
    finally:
        hooper(town, state, "router", "close")
        site.write_text(written)
        town.stop("other")
