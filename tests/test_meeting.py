"""Two ends that meet: their keys and notes by the specification's vectors, garbage, which NATs can be opened to each
other, the tries over NATs of each kind, and what a keeper does of it over time.
"""

from __future__ import annotations

import itertools
import json
import os
import random
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address, ip_address
from pathlib import Path
from types import SimpleNamespace
from typing import Any, Self

import anyio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.net.types import Datagram, Endpoint
from hooper.planning.meetings import MeetingEnd
from hooper.tunnels.direct_way import Tries, best_of
from hooper.tunnels.seen import EndSeen, PeerSeen
from hooper.usecases.private.ends_meet import Tended, tend_ends
from hooper.wire import meeting_talk as wire
from hooper.wire import stun
from hooper.wire.meeting_talk import DEPENDENCE, MeetingKeys, NatKind, Note, can_meet
from support import warm
from support.program import LabProcess, Ran, hooper, start_lab, valid
from support.virtual import run_virtually
from test_wire import RFC_5769_2_1, RFC_5769_2_2
from test_witness import DOCS

INDEPENDENT, ADDRESS, PORT = DEPENDENCE
SHARED = bytes(range(32))
ENDS = MeetingKeys.of(SHARED, bytes(32), b"\xff" * 32), MeetingKeys.of(SHARED, b"\xff" * 32, bytes(32))


def test_the_vectors_of_the_specification() -> None:
    told = json.loads(DOCS.read_text(encoding="utf-8").rpartition("```json\n")[2].partition("```")[0])
    first, second = (bytes.fromhex(told[name]) for name in ("first end", "second end"))
    keys, other = (
        MeetingKeys.of(bytes.fromhex(told["shared key"]), *pair) for pair in ((first, second), (second, first))
    )
    assert (keys.box.hex(), keys.seal.hex(), keys.tried.hex()) == (told["box"], told["seal"], told["tries"])
    assert keys[:3] == other[:3]
    assert (keys.side, other.side) == (0, 1)
    note = Note(
        told["note"]["at"], tuple((a, p) for a, p in told["note"]["spots"]), NatKind(*told["note"]["nat"]), True
    )
    nonce = bytes.fromhex(told["nonce"])
    assert note.sealed(keys, nonce).hex() == told["sealed"]
    assert Note.opened(bytes.fromhex(told["sealed"]), other) == note
    assert wire.tried(keys, nonce, "direct").hex() == told["try"]
    came = wire.read_try(other, bytes.fromhex(told["try"]))
    assert came is not None
    assert not came.answer
    assert wire.answered(other, came, (ip_address("198.51.100.130"), 41000)).hex() == told["answer"]
    back = wire.read_try(keys, bytes.fromhex(told["answer"]))
    assert back is not None
    assert (back.answer, back.by, back.transaction) == (True, "direct", nonce)


def test_message_integrity_by_the_vectors_of_rfc_5769() -> None:
    key = b"VOkJxbRl1RmTxUk/WvJxBt"
    for data in (RFC_5769_2_1, RFC_5769_2_2):
        found = stun.opened(data, key)
        assert found is not None
        assert stun.MESSAGE_INTEGRITY not in dict(found.attributes)
        assert stun.opened(data, key + b"x") is None
    changed = bytearray(RFC_5769_2_2)
    changed[35] ^= 1  # of the software's name; the fingerprint is not right any more either
    with pytest.raises(WireError):
        stun.opened(bytes(changed), key)


@given(st.binary(max_size=200), st.integers(0, 1), st.integers(0, 400), st.integers(1, 255))
def test_garbage_is_no_note_and_no_try(data: bytes, side: int, at: int, by: int) -> None:
    assert wire.read_try(ENDS[side], data) is None
    with pytest.raises(WireError):
        Note.opened(data, ENDS[side])
    note = Note(1, (("198.51.100.130", 1),), NatKind())
    sealed = bytearray(note.sealed(ENDS[0], data.ljust(12, b"x")[:12]))
    sealed[at % len(sealed)] ^= by
    with pytest.raises(WireError):
        Note.opened(bytes(sealed), ENDS[1])


def test_ones_own_words_are_not_taken_for_the_others() -> None:
    """Who sends them back, or has another key, is not the other end."""
    note = Note(1, (), NatKind()).sealed(ENDS[0], bytes(12))
    with pytest.raises(WireError):
        Note.opened(note, ENDS[0])
    with pytest.raises(WireError):
        Note.opened(note, MeetingKeys.of(bytes(32), b"\xff" * 32, bytes(32)))
    assert wire.read_try(ENDS[0], wire.tried(ENDS[0], bytes(12), "direct")) is None


@pytest.mark.parametrize("fields", [
    {}, [], {"at": 1, "spots": [["198.51.100.1", 1]] * 5, "nat": ["", ""]}, {"at": "1", "spots": [], "nat": ["", ""]},
    {"at": 1, "spots": [["224.0.0.1", 9]], "nat": ["", ""]}, {"at": 1, "spots": [["0.0.0.0", 9]], "nat": ["", ""]},
    {"at": 1, "spots": [["198.51.100.1", 0]], "nat": ["", ""]}, {"at": 1, "spots": [["name", 9]], "nat": ["", ""]},
    {"at": 1, "spots": [], "nat": ["open", ""]}, {"at": 1, "spots": [], "nat": [""]},
    {"at": 1, "spots": [9], "nat": ["", ""]},
])  # fmt: skip
def test_what_is_sealed_rightly_and_says_nonsense_is_no_note(fields: Any) -> None:
    from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

    bound = ENDS[0].box + b"\0"
    sealed = bytes(12) + ChaCha20Poly1305(ENDS[0].seal).encrypt(bytes(12), json.dumps(fields).encode(), bound)
    with pytest.raises(WireError):
        Note.opened(sealed, ENDS[1])


# --- NATs of each kind


@dataclass
class Nat:
    """One by RFC 4787: which outside port a far end is given, and whom it lets back in."""

    address: IPv4Address
    mapping: str
    filtering: str
    dice: random.Random
    ports: dict[Any, int] = field(default_factory=dict)
    told: dict[int, set[Endpoint]] = field(default_factory=dict)

    def out(self, to: Endpoint) -> Endpoint:
        far = {INDEPENDENT: None, ADDRESS: to.address}.get(self.mapping, to)
        port = self.ports.setdefault(far, self.dice.randrange(1024, 65536))
        self.told.setdefault(port, set()).add(to)
        return Endpoint(self.address, port)

    def lets_in(self, port: int, sender: Endpoint) -> bool:
        known = self.told.get(port)
        if known is None:
            return False
        by_address = any(one.address == sender.address for one in known)
        return {INDEPENDENT: True, ADDRESS: by_address}.get(self.filtering, sender in known)


@dataclass
class End:
    """The tunnel's port behind a NAT. loses: of a hundred datagrams, so many."""

    nat: Nat
    loses: int
    others: list[End] = field(default_factory=list)
    sent: int = 0

    def __post_init__(self) -> None:
        self.local = Endpoint(IPv4Address("192.168.90.2"), 51820)
        self.give, self.take = anyio.create_memory_object_stream[Datagram](1000)

    async def send(self, data: bytes, to: Endpoint) -> None:
        self.sent += 1
        seen = self.nat.out(to)
        for other in self.others:
            if (
                other.nat.address == to.address
                and other.nat.lets_in(to.port, seen)
                and self.nat.dice.random() * 100 >= self.loses
            ):
                other.give.send_nowait(Datagram(data, seen))

    async def receive(self) -> Datagram:
        return await self.take.receive()

    async def aclose(self) -> None: ...

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *exc: object) -> None: ...


STUN = Endpoint(IPv4Address("192.0.2.10"), 3478)


def pairs() -> Iterator[tuple[str, str, str, str]]:
    kinds = itertools.product(DEPENDENCE, repeat=2)
    for one, other in itertools.combinations_with_replacement(kinds, 2):
        yield one[0], one[1], other[0], other[1]


@pytest.mark.parametrize("seed", range(2))
def test_what_is_told_beforehand_is_what_comes_of_it(seed: int) -> None:
    """All kinds of mapping and filtering on both ends: who can meet does, and who cannot does not."""

    async def tries(one: NatKind, other: NatKind, dice: random.Random) -> bool:
        addresses = (IPv4Address("198.51.100.130"), IPv4Address("203.0.113.44"))
        ends = [End(Nat(address, *kind, dice), 20) for address, kind in zip(addresses, (one, other), strict=True)]
        ends[0].others, ends[1].others = [ends[1]], [ends[0]]
        seen = [end.nat.out(STUN) for end in ends]
        found: dict[int, Any] = {}

        async def run(side: int) -> None:
            work = Tries(ends[side], ENDS[side], Clock(), {seen[1 - side]: "direct"})
            found[side] = best_of(await work.run(), "direct")

        async with anyio.create_task_group() as tasks:
            for side in (0, 1):
                tasks.start_soon(run, side)
        for end in ends:
            end.give.close()
            end.take.close()
        assert max(end.sent for end in ends) < 200
        assert (found[0] is None) == (found[1] is None)
        return found[0] is not None

    async def main() -> None:
        dice = random.Random(seed)
        for mapping, filtering, its_mapping, its_filtering in pairs():
            one, other = NatKind(mapping, filtering), NatKind(its_mapping, its_filtering)
            told = can_meet(one, other)
            assert told == can_meet(other, one)
            assert (told == "can") == await tries(one, other, dice), (one, other, told)

    run_virtually(main)


class Clock:
    """The loop's own. off_s: by how much its time of day is wrong."""

    def __init__(self, off_s: float = 0.0) -> None:
        self.off = timedelta(seconds=off_s)

    def now(self) -> datetime:
        return datetime(2026, 5, 1, 12, tzinfo=UTC) + timedelta(seconds=anyio.current_time()) + self.off

    def monotonic(self) -> float:
        return anyio.current_time()

    async def sleep(self, seconds: float) -> None:
        await anyio.sleep(seconds)

    async def sleep_until(self, moment: datetime) -> None:
        raise NotImplementedError


def test_what_is_not_known_is_not_told() -> None:
    steady, moving = NatKind(INDEPENDENT), NatKind("dependent")
    assert can_meet(steady, moving) == can_meet(NatKind(), steady) == can_meet(moving, NatKind()) == "unknown"
    assert can_meet(steady, steady) == "can"
    assert can_meet(moving, moving) == "unknown"
    closed = NatKind("dependent", PORT)
    assert can_meet(closed, closed) == can_meet(closed, NatKind(INDEPENDENT, PORT)) == "cannot"


# --- kept over time


@dataclass(eq=False)
class OneEnd:
    """One end's computer: its clock is off, its keeper looks each ten seconds, and what it did is noted."""

    world: Tunnel
    relay: bool
    off_s: float
    met: list[tuple[float, float]] = field(default_factory=list)  # from and until when it waited for the other
    relayed: list[float] = field(default_factory=list)
    way: str = "none"
    tended: dict[str, Tended] = field(default_factory=dict)


@dataclass
class Tunnel:
    """Two ends, and what lies between them. direct: by when which is possible, and for how long no more."""

    cuts: list[tuple[float, float]]  # no direct way from, until
    kind: str = "can"

    def direct(self) -> bool:
        now = anyio.current_time()
        return self.kind == "can" and not any(first <= now < last for first, last in self.cuts)


def hears(end: OneEnd) -> bool:
    """Whether anything comes in at one end: by the way that it goes."""
    return end.way == "relay" or (end.way == "direct" and end.world.direct())


async def kept(ends: list[OneEnd], for_s: float, monkeypatch: pytest.MonkeyPatch) -> None:
    """Both keepers at work. What is done at the interface, and by the witness, is the model's."""
    boxes: dict[OneEnd, anyio.Event] = {}
    received = {id(end): 0 for end in ends}

    async def end_seen(run: Any, end: Any) -> EndSeen:
        one = run.one
        received[id(one)] += 100 if hears(one) else 0
        last = run.here.clock.now() if received[id(one)] else None
        return EndSeen("", 1, 0, SHARED, PeerSeen("", "", last, one.way, (), received[id(one)], 0))

    async def go_by_relay(run: Any, end: Any, seen: EndSeen) -> bool:
        one = run.one
        if any(other.relay for other in ends) and one.way != "relay":
            one.relayed.append(anyio.current_time())
            for other in ends:  # what is sent by it is answered by it
                other.way = "relay"
        return bool(one.relay)

    async def meet_end(run: Any, end: Any, wait: int) -> tuple[Any, float]:
        one, start = run.one, anyio.current_time()
        there, mine = next((event for other, event in boxes.items() if other is not one), None), anyio.Event()
        if there is not None:
            there.set()
            mine.set()
        boxes[one] = mine
        try:
            with anyio.move_on_after(wait):
                await mine.wait()
            await anyio.sleep(0.1)
        finally:
            del boxes[one]
        came = mine.is_set()
        one.met.append((start, anyio.current_time()))
        if came and one.world.direct():
            one.way = "direct"
        can = one.world.kind if came else "unknown"
        ways = (SimpleNamespace(by="direct", to="direct"),) if came and one.world.direct() else ()
        return SimpleNamespace(way=one.way, came=came, can=can, ways=ways), -one.off_s

    for name, work in (("end_seen", end_seen), ("go_by_relay", go_by_relay), ("meet_end", meet_end)):
        monkeypatch.setattr(f"hooper.usecases.private.ends_meet.{name}", work)
    monkeypatch.setattr("hooper.usecases.private.ends_meet.meeting_ends", lambda site, today: {"oars": END})
    monkeypatch.setattr("hooper.usecases.private.ends_meet.keep_conditions", lambda run, rows: None)

    async def keeper(one: OneEnd) -> None:
        run: Any = SimpleNamespace(
            one=one, site=None, at=Clock(one.off_s).now(), here=SimpleNamespace(clock=Clock(one.off_s), world="real")
        )
        while True:
            started = anyio.current_time()
            again, trouble = await tend_ends(run, one.tended)
            assert not trouble
            left = (again - run.here.clock.now()).total_seconds() if again is not None else 10.0
            await anyio.sleep(max(0.05, min(10.0 - (anyio.current_time() - started), left)))

    with anyio.move_on_after(for_s):
        async with anyio.create_task_group() as tasks:
            for end in ends:
                tasks.start_soon(keeper, end)


END = MeetingEnd("meeting", "oars", "rented", "oars", "", None)


@pytest.mark.parametrize("seed", range(3))
def test_two_keepers_find_each_other_again_whatever_their_clocks_say(
    seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The direct way is cut now and then, and both clocks are wrong: they go by the relay within a minute, and directly
    within six.
    """
    dice = random.Random(seed)

    async def main() -> None:
        cuts = [(first, first + dice.uniform(30, 900)) for first in (600 + dice.uniform(0, 300), 4000, 9000)]
        world = Tunnel(cuts)
        ends = [OneEnd(world, relay, dice.uniform(-500, 500)) for relay in (False, True)]
        looks: list[tuple[float, str, bool]] = []

        async def watch() -> None:
            while True:
                looks.append((anyio.current_time(), ends[1].way, world.direct()))
                await anyio.sleep(5)

        begun = anyio.current_time()
        world.cuts = [(begun + first, begun + last) for first, last in cuts]
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(watch)
            await kept(ends, 12_000, monkeypatch)
            tasks.cancel_scope.cancel()
        assert next(at for at, way, _ in looks if way == "direct") - begun < 60
        for first, last in world.cuts:
            for at, way, _ in looks:
                if first + 60 < at < last:
                    assert way == "relay", (at - begun, first - begun)
                if last + 360 < at < last + 400:
                    assert way == "direct", (at - begun, last - begun)
        asked = sum(len(end.met) for end in ends)
        assert asked < 2 * 12_000 / 300 + 60, asked

    run_virtually(main)


def test_those_that_cannot_meet_ask_once_an_hour(monkeypatch: pytest.MonkeyPatch) -> None:
    async def main() -> None:
        ends = [OneEnd(Tunnel([], "cannot"), relay, 0.0) for relay in (False, True)]
        await kept(ends, 6 * 3600, monkeypatch)
        assert [end.way for end in ends] == ["relay", "relay"]
        assert max(len(end.met) for end in ends) < 12

    run_virtually(main)


# --- as people do it, in the town


HUT = """\
version = 1
[site]
title = "Hut at the quay"
[measure]
stun = ["192.0.2.10:3478", "192.0.2.11:3478", "192.0.2.11:3479", "192.0.2.10:3479"]
"""


@dataclass
class TwoSites:
    """The boathouse and the hut, each with its site file and its state, and the witness between them."""

    lab: LabProcess
    folder: Path

    def at(self, site: str, *words: str) -> Ran:
        return self.lab.start(*words, "--json", HOOPER_SITE=str(self.folder / site), XDG_STATE_HOME=str(self.folder))

    def joined(self, site: str) -> None:
        ran = self.lab.start("witness", "invite", "198.51.100.7:7443", "--folder", f"{self.folder}/witness", "--json")
        assert self.at(site, "witness", "join", ran.document["code"], "--named", "rented").code == 0

    def meet(self) -> dict[str, Any]:
        with ThreadPoolExecutor(2) as both:
            asked = {site: both.submit(self.at, site, "meeting", "now") for site in ("site.toml", "hut.toml")}
            ran = {site: one.result() for site, one in asked.items()}
        assert all(one.code in (0, 1) for one in ran.values()), ran
        return {site: valid("meeting-now", one.document)["ends"][0] for site, one in ran.items()}


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory) -> Iterator[TwoSites]:
    folder = tmp_path_factory.mktemp("sites")
    with start_lab(folder / "town") as lab:
        both = TwoSites(lab.with_site_in(folder), folder)  # type: ignore[arg-type]
        (folder / "hut.toml").write_text(HUT)
        words = ("witness", "serve", "--folder", str(folder / "witness"))
        serves = warm.start(words, env={**os.environ, **lab.env}, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        try:
            assert serves.stdout is not None
            assert any(b"listening" in line for line in serves.stdout)
            for site in ("site.toml", "hut.toml"):
                both.joined(site)
            server, profile = str(folder / "server"), str(folder / "oars.conf")
            for each in (
                ("tunnel", "add", "oars", "--host", "gate", "--meet", "rented"),
                ("peer", "add", "hut", "--tunnel", "oars", "--device", "server"),
                ("tunnel", "make", "oars", "--out", server),
                ("peer", "hand", "hut", "--out", profile),
                ("lab", "load", f"{server}/oars.conf", "--on", "gate"),
                ("lab", "load", profile, "--on", "quay-hut"),
            ):
                ran = both.at("site.toml", *each)
                assert ran.code == 0, ran
            assert both.at("hut.toml", "meeting", "take", profile).code == 0
            yield both
        finally:
            serves.terminate()
            serves.communicate(timeout=10)


def test_two_sites_meet_in_the_town(sites: TwoSites) -> None:
    """Directly; then the hut's carrier gives each far end another port; then nobody is at the hut."""
    assert sites.at("site.toml", "lab", "line", "carrier-nat").code == 0
    met = sites.meet()
    assert {site: (row["way"], row["can"]) for site, row in met.items()} == {
        "site.toml": ("direct", "can"), "hut.toml": ("direct", "can"),
    }  # fmt: skip
    assert met["site.toml"]["ways"][0]["to"] == met["hut.toml"]["seen_at"]
    shown = valid("status", sites.at("site.toml", "status").document)
    (row,) = (one for one in shown["rows"] if one["aspect"] == "way")
    assert (row["kind"], row["subject"], row["state"], row["level"]) == ("peer", "hut", "direct", "well")
    assert "ms" in row["proof"]
    why = valid("why", sites.at("site.toml", "why", "film-page", "--peer", "hut", "--deadline", "1").document)
    assert next(step["state"] for step in why["steps"] if step["step"] == "endpoint") == "ok"

    assert sites.at("site.toml", "lab", "line", "carrier-nat", "--far-mapping", "address-and-port").code == 0
    met = sites.meet()
    assert {site: (row["way"], row["can"]) for site, row in met.items()} == {
        "site.toml": ("none", "cannot"), "hut.toml": ("none", "cannot"),
    }  # fmt: skip
    why = valid("why", sites.at("site.toml", "why", "film-page", "--peer", "hut", "--deadline", "1").document)
    assert "nats-cannot-meet" in {cause["code"] for cause in why["causes"]}

    ran = sites.at("site.toml", "meeting", "now", "--wait", "0")
    (row,) = ran.document["ends"]
    assert (ran.code, row["way"], row["came"]) == (1, "none", False)
    why = valid("why", sites.at("site.toml", "why", "film-page", "--peer", "hut", "--deadline", "1").document)
    assert "other-end-absent" in {cause["code"] for cause in why["causes"]}


def test_what_is_not_there_is_said(sites: TwoSites, tmp_path: Path) -> None:
    """No tunnel on this computer, no profile, no witness, a word that is none."""
    (tmp_path / "oars.conf").write_text("[Interface]\nPrivateKey = x\n")
    ran = sites.at("hut.toml", "meeting", "take", str(tmp_path / "oars.conf"))
    assert (ran.code, "no profile" in ran.document["errors"][0]["message"]) == (2, True)
    assert sites.at("hut.toml", "meeting", "take", str(tmp_path / "none.conf")).code == 6
    assert sites.at("hut.toml", "meeting", "now", "--wait", "99").code == 2
    assert sites.at("hut.toml", "meeting", "now", "nobody").code == 2
    (sites.folder / "alone.toml").write_text("version = 1\n")
    for words in (("meeting", "now"), ("meeting", "take", str(sites.folder / "oars.conf"))):
        ran = sites.at("alone.toml", *words)
        assert (ran.code, bool(ran.document["errors"][0]["remedy"])) == (2, True)
    assert sites.at("site.toml", "lab", "load", str(sites.folder / "oars.conf"), "--on", "quay-hut", "--off").code == 0
    ran = sites.at("hut.toml", "meeting", "now")
    assert (ran.code, ran.document["errors"][0]["code"]) == (6, "no-tunnel-here")
    assert sites.at("site.toml", "lab", "load", str(sites.folder / "oars.conf"), "--on", "quay-hut").code == 0


def test_the_witness_opens_the_page_once_a_hand_has_entered_its_rule(sites: TwoSites, tmp_path: Path) -> None:
    """An arrival that waits for a person, whom no phone is needed for; from here it proves nothing."""
    assert sites.at("site.toml", "lab", "line", "several-nats").code == 0
    assert sites.at("site.toml", "arrival", "--from", "here").code == 2
    environment = {**os.environ, **sites.lab.env, "HOOPER_SITE": str(sites.folder / "site.toml")}
    environment["XDG_STATE_HOME"] = str(sites.folder)
    words = ("arrival", "--from", "witness", "--for", "60s", "--json")
    with warm.start(words, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True) as asks:
        assert asks.stdout is not None
        ready = json.loads(asks.stdout.readline())
        hand = next(rule for rule in ready["rules"] if rule["how"] == "by-hand")
        sheets = sites.at("site.toml", "worksheet").document
        sheet = next(one for one in sheets["sheets"] if one["gateway"] == hand["gateway"])
        port = {"outside_ports": [hand["outside_port"]] * 2, "target_ports": [hand["target_port"]] * 2}
        to = {"target_address": hand["target_address"], "transport": "tcp", "sources": []}
        rule = {**sheet["rules"][0], **port, **to}
        typed = tmp_path / "typed.json"
        typed.write_text(json.dumps({**sheets, "sheets": [{**sheet, "rules": [rule]}]}))
        assert sites.at("site.toml", "lab", "type", str(typed)).code == 0
        events = [json.loads(line) for line in asks.stdout]
        assert asks.wait(60) == 0
    (visit,) = [one["visit"] for one in events if one["event"] == "visit"]
    assert (visit["came"], visit["address"]) == ("outside", "198.51.100.7")
    assert [one["arrived"] for one in events if one["event"] == "ended"] == [True]


def test_a_page_that_the_witness_cannot_open_is_said_so(sites: TwoSites) -> None:
    ran = sites.at("site.toml", "arrival", "--from", "witness", "--for", "9s")
    assert (ran.code, json.loads(ran.out.splitlines()[-1])["arrived"]) == (4, False)
    assert "did not open the page" in ran.err
    assert "Look at the rule on fibre-box." in ran.err


def test_a_keeper_looks_from_its_witness(sites: TwoSites) -> None:
    site = sites.folder / "site.toml"
    before = site.read_text()
    site.write_text(before + '[keep]\nplaces = ["witness:rented"]\n')
    try:
        ran = sites.at("site.toml", "keep", "--once")
    finally:
        site.write_text(before)
    rows = [json.loads(line) for line in ran.out.splitlines()]
    (done,) = (row for row in rows if (row["said"], row["task"]) == ("done", "check witness:rented"))
    assert done["outcome"] == "well", rows
    seen = {row["change"]["aspect"] for row in rows if row["change"] and row["change"]["kind"] == "service"}
    assert seen == {"witness:rented"}


def test_a_keeper_that_meets_has_the_rights_for_it_and_no_more(tmp_path: Path) -> None:
    """As a service: it sets a tunnel's other end and sends from its port; one that meets nobody may nothing."""
    site = tmp_path / "site.toml"
    site.write_text(HUT)
    assert "CapabilityBoundingSet=\n" in hooper("keep", "unit", "systemd", "--site", str(site)).out
    pin, key = "0" * 64, "e3t7" * 10 + "e3s="
    site.write_text(
        f'{HUT}[witnesses.w]\nat = "198.51.100.7:7443"\npin = "sha256:{pin}"\n'
        f'[meetings.oars]\nwitness = "w"\ninterface = "oars"\npeer = "{key}"\n'
    )
    text = hooper("keep", "unit", "systemd", "--site", str(site)).out
    assert "CapabilityBoundingSet=CAP_NET_ADMIN CAP_NET_RAW\nAmbientCapabilities=CAP_NET_ADMIN CAP_NET_RAW\n" in text
