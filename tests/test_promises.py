"""Promises that were once broken on purpose without any test noticing; each has its own here."""

from __future__ import annotations

import contextlib
import os
import tempfile
import time
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from ipaddress import IPv4Address, ip_address
from pathlib import Path

import anyio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper import deeds
from hooper.check.results import Evidence, Expected, Result, Verdict, passes
from hooper.check.targets import Target, is_ok
from hooper.check.tunnel_proof import Proven, _kept_from, _of
from hooper.cli.parts.spelling import COMMANDS, spelled
from hooper.clock import SystemClock
from hooper.errors import HooperError, NoAnswer
from hooper.files import write_atomically
from hooper.gateways.lending import Lending, LentRuleLeft
from hooper.gateways.rules import LABEL, Wanted
from hooper.gateways.work import Work
from hooper.net.exchange import exchange
from hooper.net.plain_http import Url
from hooper.net.system import SystemDoor
from hooper.net.types import Datagram, Endpoint
from hooper.planning.kept_back import kept_back
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.values import Forward
from hooper.ports import single
from hooper.site.load import parse_site
from hooper.store.entries import LiveRule
from hooper.store.state import State
from hooper.words.said import quoted
from support.model_router import KIND, Killed, MemoryRouter, ModelIgd, refused, without_lease
from support.program import BOATHOUSE, ROOT, hooper

# --- the gate


@pytest.mark.parametrize("sources", ["", 'sources = ["198.51.100.0/24"]\n'])
def test_a_default_password_keeps_a_service_back_whoever_may_come(sources: str) -> None:
    """Allowed sources lessen what a desktop or clear text means, never a password that everybody knows."""
    assert 'sources = ["198.51.100.0/24"]\n' in BOATHOUSE
    text = BOATHOUSE.replace('sources = ["198.51.100.0/24"]\n', sources)
    text = text.replace("default_password_changed = true", "default_password_changed = false")
    file = parse_site(text.encode(), "site.toml")
    plan = make_plan(file, date(2026, 5, 1), Topology(file.site))
    found = {key: {item.code for item in items} for key, items in kept_back(file.site, plan).items()}
    assert "default-password" in found["desk"]
    assert "default-password" in found["timing-desk"]
    assert ("desktop-open" in found["desk"]) == (not sources)


# --- who answers


@pytest.mark.parametrize(("address", "port"), [("127.0.0.1", 0), ("127.0.0.2", 0), ("127.0.0.2", None)])
def test_an_answer_counts_from_whom_was_asked_alone(address: str, port: int | None) -> None:
    """A stranger who sees the question answers first, from another port or another address."""

    async def main() -> None:
        loopback = ip_address("127.0.0.1")
        async with (
            await SystemDoor().datagrams(local=Endpoint(loopback, 0)) as server,
            anyio.create_task_group() as tasks,
        ):
            at = server.local
            own = Endpoint(ip_address(address), at.port if port is None else 0)
            stranger = await SystemDoor().datagrams(local=own)

            async def answers() -> None:
                came = await server.receive()
                assert isinstance(came, Datagram)
                await stranger.send(b"forged", came.sender)
                await anyio.sleep(0.05)
                await server.send(b"right", came.sender)

            tasks.start_soon(answers)
            async with stranger:
                came = await exchange(SystemDoor(), at, b"?", schedule=(0.0,), deadline=5, matches=lambda _: True)
        assert came.data == b"right"

    anyio.run(main)


def test_a_stranger_alone_is_no_answer() -> None:
    async def main() -> None:
        loopback = ip_address("127.0.0.1")
        async with (
            await SystemDoor().datagrams(local=Endpoint(loopback, 0)) as server,
            await SystemDoor().datagrams(local=Endpoint(loopback, 0)) as stranger,
            anyio.create_task_group() as tasks,
        ):

            async def forges() -> None:
                came = await server.receive()
                assert isinstance(came, Datagram)
                await stranger.send(b"forged", came.sender)

            tasks.start_soon(forges)
            with pytest.raises(NoAnswer):
                await exchange(SystemDoor(), server.local, b"?", schedule=(0.0,), deadline=0.3, matches=lambda _: True)

    anyio.run(main)


# --- what is not proven


def result(expected: Expected, verdict: Verdict, *, provable: bool = True) -> Result:
    inner = (IPv4Address("10.44.7.30"), 443)
    target = Target("film-page", "https", "tcp", "fibre", ip_address("203.0.113.44"), 443, inner, expected)
    return Result("film-page", expected, is_ok(target, verdict, ()), verdict, (), "ipv4", "203.0.113.44", "tcp", 443,
                  1, None, Evidence(), quoted(""), provable=provable)  # fmt: skip


@pytest.mark.parametrize("expected", ["reachable", "unreachable"])
@pytest.mark.parametrize("strict", [True, False])
def test_unproven_is_never_well(expected: Expected, strict: bool) -> None:
    untold = result(expected, "unproven")
    assert not untold.ok
    assert not passes([untold], strict=strict)
    assert not passes([result("reachable", "answered"), untold], strict=strict)
    assert not passes([result(expected, "unproven", provable=False)], strict=strict)  # alone it proves nothing


def test_what_cannot_be_told_is_no_failure_of_a_tunnel_and_silence_no_proof() -> None:
    assert _of(result("reachable", "unproven")).ok is None
    assert _of(result("reachable", "silent")).ok is False
    silent = Proven("forbidden desk", None, "silent", True, quoted(""))
    assert _kept_from(silent, passes=False).ok is None
    assert _kept_from(silent, passes=True).ok is True
    assert _kept_from(replace(silent, after="refused"), passes=False).ok is True
    assert _kept_from(replace(silent, after="answered", ok=False), passes=False).ok is False


def test_no_remedy_gives_more_than_was_planned() -> None:
    """A command that a message names never opens a LAN, everything, or a service to all."""
    for deed, command in COMMANDS.items():
        if deed == deeds.MAKE_PUBLIC:
            continue  # of the port at which a tunnel that is planned arrives
        assert "--into" not in command, command
        assert "--reach public" not in command, command
        assert "--sources" not in command, command


# --- the journal


@dataclass(frozen=True)
class Forgetful(ModelIgd):
    """A router that keeps no labels; what the journal had at each deed is noted."""

    state: State | None = None
    seen: list[bool] = field(default_factory=list)

    async def _do(self, name: str, what: str, arguments: Sequence[tuple[str, str]] = ()) -> dict[str, str]:
        given = dict(arguments)
        if name in ("AddPortMapping", "DeletePortMapping"):
            assert self.state is not None
            port = int(given["NewExternalPort"])
            self.seen.append(any(entry.rule.outside_port == port for entry in self.state.journal.all()))
        if name == "AddPortMapping":
            arguments = [(key, "" if key == "NewPortMappingDescription" else text) for key, text in arguments]
        return await super()._do(name, what, arguments)


def wanted(port: int) -> Wanted:
    rule = LiveRule("tcp", port, "10.44.7.30", port, "", f"{LABEL}film-page", enabled=True, lease_s=3600)
    ports = single(port)
    forward = Forward("box", "fibre", "forward", "film-page", "tcp", None, ports, "10.44.7.30", ports, (), "igd")
    return Wanted("film-page", forward, rule, "")


@given(st.lists(st.integers(400, 450), min_size=1, max_size=4, unique=True), st.integers(0, 9))
def test_the_journal_is_written_before_each_deed_on_a_router_that_drops_labels(ports: list[int], lives: int) -> None:
    """Only the journal tells there whose a rule is: a run that is killed at any point is taken up by the next."""
    with tempfile.TemporaryDirectory() as folder, State(Path(folder) / "state.sqlite3") as state:
        router = MemoryRouter()

        def work(left: int | None) -> tuple[Work, Forgetful]:
            driver = Forgetful(SystemDoor(), Url(IPv4Address("192.0.2.1"), 80, "/"), KIND, "box", 1.0, router=router,
                               lives=[left], state=state)  # fmt: skip
            return Work("box", driver, "10.44.7.105", state.journal, SystemClock()), driver

        async def opened(left: int | None) -> Forgetful:
            one, driver = work(left)
            with contextlib.suppress(Killed):
                await one.open([wanted(port) for port in ports], take_over=False)
            return driver

        assert all(anyio.run(opened, lives).seen)
        driver = anyio.run(opened, None)
        assert all(driver.seen)
        assert {rule.outside_port for rule in router.table} == set(ports)

        async def closed() -> Forgetful:
            one, used = work(None)
            await one.close(None)
            return used

        assert all(anyio.run(closed).seen)
        assert not router.table


# --- what is lent


@dataclass(frozen=True)
class Stubborn(ModelIgd):
    """A router that will not give some ports back, or that is gone from some deed on."""

    keeps: frozenset[str] = frozenset()
    answers: list[int] = field(default_factory=lambda: [10_000])

    async def _do(self, name: str, what: str, arguments: Sequence[tuple[str, str]] = ()) -> dict[str, str]:
        self.answers[0] -= 1
        if self.answers[0] < 0:
            raise NoAnswer("no answer from 192.0.2.1:80 in 1 s")
        if name == "DeletePortMapping" and dict(arguments)["NewExternalPort"] in self.keeps:
            raise refused(501)
        return await super()._do(name, what, arguments)


@given(
    st.lists(st.integers(1000, 1030), min_size=1, max_size=16, unique=True),
    st.sets(st.integers(1000, 1030)),
    st.one_of(st.none(), st.integers(0, 60)),
)
def test_what_is_lent_is_taken_back_or_named(ports: list[int], keeps: set[int], answers: int | None) -> None:
    """Each by itself: one that stays keeps none of the others, and a router that is gone is no reason to be silent."""
    with tempfile.TemporaryDirectory() as folder, State(Path(folder) / "state.sqlite3") as state:
        router = MemoryRouter()
        there = LiveRule("tcp", ports[0], "10.44.7.40", 80, "", "a game", enabled=True, lease_s=3600)
        router.put(there)
        driver = Stubborn(SystemDoor(), Url(IPv4Address("192.0.2.1"), 80, "/"), KIND, "box", 1.0, router=router,
                          keeps=frozenset(map(str, keeps)))  # fmt: skip
        lending = Lending("box", driver, state.lent, state.journal, SystemClock())

        async def lent_and_tidied() -> list[HooperError]:
            for port in ports:
                driver_keeps, used = driver.keeps, LiveRule("tcp", port, "10.44.7.105", port, "", f"{LABEL}test",
                                                            enabled=True, lease_s=120)  # fmt: skip
                object.__setattr__(driver, "keeps", frozenset())
                await lending.put(used, take_over=False)
                object.__setattr__(driver, "keeps", driver_keeps)
            driver.answers[0] = 10_000 if answers is None else answers
            problems = await lending.tidy()
            driver.answers[0] = 10_000
            return problems

        problems = anyio.run(lent_and_tidied)
        standing = {rule.outside_port for rule in router.table if rule.label == f"{LABEL}test"}
        named = " ".join(problem.message for problem in problems if isinstance(problem, LentRuleLeft))
        assert all(f"tcp {port}" in named for port in standing)
        assert all(problem.exit_code == 4 for problem in problems if isinstance(problem, LentRuleLeft))
        if answers is None:
            assert standing == set(ports) & keeps
            assert not problems or standing
        object.__setattr__(driver, "keeps", frozenset())
        assert not anyio.run(lending.tidy)
        assert without_lease(router.table) == without_lease([there])


def test_every_deed_is_spelled_and_what_only_looks_like_one_is_left() -> None:
    for name, deed in vars(deeds).items():
        if isinstance(deed, deeds.Deed):
            assert "⟦" not in spelled(f"{deed('x; y', 'b')}"), name
            assert "'x; y'" in spelled(f"{deed('x; y', 'b')}") or "x; y" not in spelled(f"{deed('x; y', 'b')}")
    for text in ("⟦no-such-deed⟧", "⟦no-such-deed|a⟧", "⟦⟧", "⟦change-a-tunnels-key⟧", "⟦a|⟦b⟧⟧"):
        assert spelled(text)


@pytest.mark.parametrize("umask", [0o000, 0o022, 0o077])
def test_what_root_runs_is_written_by_nobody_else_whatever_the_umask(tmp_path: Path, umask: int) -> None:
    """Folders of a server's files and what is public in them; a server that is nobody by then reads its peers."""
    before = os.umask(umask)
    try:
        out = made_openvpn(tmp_path)
    finally:
        os.umask(before)
    for path in (out, *out.rglob("*")):
        mode = path.stat().st_mode & 0o777
        assert not mode & 0o022, (path, oct(mode))
        if path.is_dir() and path != out:
            assert mode == 0o755


def made_openvpn(folder: Path) -> Path:
    (folder / "site.toml").write_text(BOATHOUSE)
    env = {"HOOPER_SITE": "", "HOOPER_LAB": ""}
    for words in (
        ("tunnel", "add", "oars", "--kind", "openvpn", "--host", "hub"),
        ("peer", "add", "cox-phone", "--into", "hub-page"),
        ("peer", "hand", "cox-phone", "--out", "cox-phone.ovpn"),
        ("tunnel", "make", "oars", "--out", "files"),
    ):
        ran = hooper(*words, "--state", str(folder / "states"), cwd=folder, env=env)
        assert ran.code == 0, ran
    return folder / "files"


def test_what_killed_edits_left_is_taken_away(tmp_path: Path) -> None:
    path, old = tmp_path / "site.toml", time.time() - 3600
    for name in (".site.toml.abc.unfinished", ".site.toml.now.unfinished", ".other.abc.unfinished", ".site.toml.mine"):
        (tmp_path / name).write_text("half")
        if "now" not in name:
            os.utime(tmp_path / name, (old, old))
    write_atomically(path, b"whole")
    assert sorted(one.name for one in tmp_path.iterdir()) == sorted(
        [".other.abc.unfinished", ".site.toml.mine", ".site.toml.now.unfinished", "site.toml"]
    )


@pytest.mark.parametrize("extra", [(), ("--html", "--out", "gone.html")])
def test_closing_everything_takes_the_static_route_out_too(tmp_path: Path, extra: tuple[str, ...]) -> None:
    text = (ROOT / "src/hooper/lab/boathouse.toml").read_text()
    (tmp_path / "site.toml").write_text(text)
    env = {"HOOPER_SITE": "", "HOOPER_LAB": ""}
    added = hooper(
        "tunnel", "add", "oars", "--host", "hub", "--into", "lan", "--way-back", "route", "--state", "states",
        cwd=tmp_path, env=env,
    )  # fmt: skip
    assert added.code == 0, added
    ran = hooper("worksheet", "--removal", *extra, cwd=tmp_path, env=env)
    assert ran.code == 0, ran
    shown = (tmp_path / "gone.html").read_text() if extra else ran.out
    assert "static routes or routing, delete" in " ".join(shown.split())


def test_two_risks_are_taken_each_for_its_reason(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(DESKS)
    env = {"HOOPER_SITE": "", "HOOPER_LAB": ""}
    for words, said in (
        (("--accept", "one", "--accept", "other"), "two reasons"),
        (("--accept", "desk-one=one", "--accept", "desk-one=other"), "two reasons for desk-one"),
        (("--accept", "desk-one=one", "--accept", " "), "with a reason"),
    ):
        refused = hooper("worksheet", *words, cwd=tmp_path, env=env)
        assert (refused.code, said in refused.err) == (2, True), refused
    assert (tmp_path / "site.toml").read_text() == DESKS
    ran = hooper("worksheet", "--accept", "desk-one=a", "--accept", "desk-two=b", cwd=tmp_path, env=env)
    assert ran.code == 0, ran
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert [site.services[key].accepted[0].reason for key in ("desk-one", "desk-two")] == ["a", "b"]


DESKS = """version = 1
[lines.line]
address = "203.0.113.9"
[gateways.box]
line = "line"
lan = "192.168.7.1/24"
control = "hand"
form = { sources = true }
[hosts.one]
address = "192.168.7.11"
[hosts.two]
address = "192.168.7.12"
[services.desk-one]
host = "one"
speaks = "rdp"
reach = "public"
sources = ["198.51.100.0/24"]
[services.desk-two]
host = "two"
speaks = "rdp"
reach = "public"
sources = ["198.51.100.0/24"]
"""


def test_a_card_names_no_port_that_the_plan_has_not_given(tmp_path: Path) -> None:
    """Where allowed sources are not kept, there is no rule, and the port that it will have is not known yet."""
    env = {"HOOPER_SITE": "", "HOOPER_LAB": ""}
    (tmp_path / "site.toml").write_text(DESKS)
    assert "203.0.113.9:13389" in hooper("card", "desk-two", cwd=tmp_path, env=env).out
    (tmp_path / "site.toml").write_text(DESKS.replace("sources = true", "sources = false"))
    ran = hooper("card", "desk-two", cwd=tmp_path, env=env)
    assert (ran.code, "no rule for desk-two" in ran.err, "3389" in ran.out) == (1, True, False), ran


def test_an_audit_without_a_state_does_not_say_that_nothing_stands(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    ran = hooper("audit", cwd=tmp_path, env={"HOOPER_SITE": "", "HOOPER_LAB": ""})
    assert "By the plan not reachable" in ran.out
    assert "What else stands on a router, `hooper router list` shows." in " ".join(ran.out.split())
