"""The witness's own protocol and its watching: vectors, garbage, who may, what people are told, a quiet year."""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import anyio
import pytest
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import HooperError, WireError
from hooper.lab.things import Rule
from hooper.net.types import Endpoint
from hooper.usecases.watch.witnesses import of_seen
from hooper.wire import witness_talk as wire
from hooper.witness.client import WitnessFound, WitnessRefuses, asked_once, beat, new_nonce
from hooper.witness.looking_back import Rates, WitnessServer
from hooper.witness.pinned_keys import OwnKey, own_key, pin_of
from hooper.witness.register import KnownSite, Register
from hooper.witness.silence import ToldOf, Watching
from support.mortal import Lives, town
from support.program import hooper, valid
from support.towndoor import TownDoor
from support.virtual import run_virtually

DOCS = Path(__file__).parents[1] / "docs" / "witness-protocol.md"
NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)


def key_of(seed: bytes) -> OwnKey:
    private = Ed25519PrivateKey.from_private_bytes(hashlib.sha256(seed).digest())
    return OwnKey(private, private.public_key().public_bytes_raw())


# --- the protocol


def vectors() -> dict[str, Any]:
    """Those of the specification."""
    text = DOCS.read_text(encoding="utf-8")
    found: dict[str, Any] = json.loads(text.partition("```json\n")[2].partition("```")[0])
    return found


def test_the_vectors_of_the_specification() -> None:
    told = vectors()
    witness, site = key_of(told["witness seed"].encode()), key_of(told["site seed"].encode())
    assert (witness.public.hex(), site.public.hex()) == (told["witness key"], told["site key"])
    pin, nonce = pin_of(witness.public), bytes.fromhex(told["nonce"])
    assert pin.hex() == told["pin"]
    assert wire.Hello((1,), nonce, told["now"]).serialize().hex() == told["hello"]
    body = told["body"]
    assert site.sign(wire.signed(pin, nonce, body)).hex() == told["sign"]
    ask = wire.Ask(1, site.public, bytes.fromhex(told["sign"]), body)
    assert ask.serialize().hex() == told["ask"]
    assert wire.Ask.parse(bytes.fromhex(told["ask"])[2:]) == ask
    assert witness.sign(wire.signed_time(nonce, told["now"])).hex() == told["time sign"]
    invited = wire.Invitation(told["host"], told["port"], pin, bytes.fromhex(told["secret"]))
    assert invited.code() == told["code"]
    assert wire.Invitation.read(told["code"]) == invited


@given(st.binary(max_size=400))
def test_garbage_is_a_wire_error_and_nothing_else(data: bytes) -> None:
    for parse in (wire.Hello.parse, wire.Ask.parse, wire.parse):
        with pytest.raises(WireError):
            parse(data)


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=30),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=9), inner, max_size=4), max_leaves=12,
)  # fmt: skip
FIELDS = ("do", "version", "key", "sign", "body", "nonce", "witness", "now", "agreed", "watch", "names", "ends", "port",
          "transport")  # fmt: skip


@given(st.dictionaries(st.sampled_from(FIELDS), JSON, max_size=8))
def test_messages_of_strangers_are_read_or_refused(message: dict[str, Any]) -> None:
    data = json.dumps(message).encode()
    for parse in (wire.Hello.parse, wire.Ask.parse):
        try:
            parse(data)
        except WireError:
            continue
    for of in (wire.Beat.of, wire.PortAsked.of):
        try:
            of(message)
        except WireError:
            continue


@given(
    st.integers(60, 604_800),
    st.lists(st.tuples(st.text("abc-", min_size=1, max_size=9), st.sampled_from(["tcp", "udp"]), st.integers(1, 65535),
                       st.sampled_from(["https", "ssh"]), st.sampled_from(["", "a.example"])), max_size=5),
)  # fmt: skip
def test_a_beat_comes_back_as_it_was(agreed: int, rows: list[tuple[str, str, int, str, str]]) -> None:
    said = wire.Beat(
        bytes(32), agreed, tuple(wire.Watched(*row) for row in rows), ("a.example",), (("c", "2026-05-02"),)
    )
    assert wire.Beat.of(json.loads(json.dumps(said.body()))) == said


@pytest.mark.parametrize("host", ["198.51.100.7", "2001:db8::7", "witness.example"])
def test_an_invitation_that_was_not_copied_whole_is_refused(host: str) -> None:
    code = wire.Invitation(host, 7443, bytes(range(32)), bytes(16)).code()
    assert wire.Invitation.read(f"  {code[:-20]}\n {code[-20:].lower()} ").host == host
    draw = random.Random(host)
    for _ in range(200):
        at = draw.randrange(len(code))
        changed = code[:at] + draw.choice("ABCDEFGHIJKLMNOPQRSTUVWXYZ234567") + code[at + 1 :]
        if changed != code:
            with pytest.raises(ValueError, match=r"copied|invitation"):
                wire.Invitation.read(changed)
    for cut in (code[:-1], code[1:], code[:30], "", code + "A"):
        with pytest.raises(ValueError, match=r"copied|invitation"):
            wire.Invitation.read(cut)


def test_how_often_somebody_may_is_bounded_and_so_is_what_is_remembered() -> None:
    rates = Rates(60, most=100)
    assert [rates.may("a", 0.0) for _ in range(61)] == [True] * 60 + [False]
    assert rates.may("b", 0.0)
    assert [rates.may("a", 1.0), rates.may("a", 1.0)] == [True, False]
    for who in range(1000):
        rates.may(who, 2.0)
    assert len(rates._left) == 100


# --- in the town


class People:
    """Who is told."""

    def __init__(self) -> None:
        self.all: list[tuple[str, str]] = []
        self.taken = True

    async def __call__(self, site: KnownSite, told: ToldOf) -> bool:
        if self.taken:
            self.all.append((told.code, str(told.says)))
        return self.taken


class Watch:
    """A witness on the town's rented machine, and a site that speaks to it."""

    def __init__(self, board: Any, rented: TownDoor, here: TownDoor, folder: Path) -> None:
        self.board, self.rented, self.here = board, rented, here
        self.register, self.key, self.site = Register(None), own_key(folder / "key.pem"), key_of(b"site")
        self.server = WitnessServer(rented, self.register, self.key)
        self.told = People()
        self.watching = Watching(rented, self.register, self.told)
        self.to = WitnessFound("rented", "198.51.100.7", 7443, pin_of(self.key.public))

    def invited(self) -> dict[str, Any]:
        secret = hashlib.sha256(str(random.random()).encode()).digest()[:16]
        self.register.invite(secret, self.rented.clock.now() + timedelta(hours=1), "", "", self.rented.clock.now())
        return {"do": "join", "secret": wire.in_base64(secret), "title": "Boathouse"}

    async def ask(self, body: dict[str, Any], key: OwnKey | None = None) -> dict[str, Any]:
        return await asked_once(self.here, self.to, key or self.site, body, 5.0)

    async def beat(self, *watch: tuple[str, int, str], names: tuple[str, ...] = (), ends: str = "") -> Any:
        rows = tuple(wire.Watched(name, "tcp", port, speaks, "") for name, port, speaks in watch)
        said = wire.Beat(new_nonce(), 300, rows, names, (("boathouse", ends),) if ends else ())
        return await beat(self.here, self.to, self.site, said, 5.0)

    async def for_(self, minutes: float) -> None:
        """So long nothing but the watching goes on."""
        step = 10 if minutes < 60 else 600  # seconds
        for _ in range(round(minutes * 60 / step)):
            await anyio.sleep(step)
            await self.watching.tick()


@asynccontextmanager
async def watch(folder: Path) -> AsyncIterator[Watch]:
    async with town(folder) as (board, _, _), anyio.create_task_group() as tasks:
        rented, here = (TownDoor(board, tasks, Lives(None), name) for name in ("rented", "here"))
        made = Watch(board, rented, here, folder)
        async with await rented.listen(Endpoint(IPv4Address("198.51.100.7"), 7443)) as listener:
            tasks.start_soon(made.server.serve, listener)
            try:
                yield made
            finally:
                tasks.cancel_scope.cancel()


def test_who_is_not_invited_is_refused_and_an_invitation_is_good_once(tmp_path: Path) -> None:
    async def main() -> None:
        async with watch(tmp_path) as here:
            for body in ({"do": "who"}, {"do": "open", "transport": "tcp", "port": 443}):
                with pytest.raises(WitnessRefuses, match="not invited"):
                    await here.ask(body)
            join = here.invited()
            for wrong in (bytes(16), bytes(range(16))):
                with pytest.raises(WitnessRefuses, match="used, is over, or never was"):
                    await here.ask({**join, "secret": wire.in_base64(wrong)})
            assert (await here.ask(join))["joined"] is True
            with pytest.raises(WitnessRefuses):
                await here.ask(join, key_of(b"another"))
            assert (await here.ask({"do": "who"}))["you"] == "203.0.113.44"
            with pytest.raises(WitnessRefuses, match="not invited"):
                await here.ask({"do": "who"}, key_of(b"another"))
            late = here.invited()
            await anyio.sleep(3700)
            with pytest.raises(WitnessRefuses):
                await here.ask(late, key_of(b"late"))
            await here.ask({"do": "leave"})
            with pytest.raises(WitnessRefuses):
                await here.ask({"do": "who"})

    run_virtually(main)


def test_another_key_at_its_place_is_told_nothing(tmp_path: Path) -> None:
    """Whoever answers there without the witness's key hears neither a key nor a question."""

    async def main() -> None:
        async with watch(tmp_path) as here:
            here.to = here.to._replace(pin=bytes(32))
            with pytest.raises(HooperError, match="is not the witness"):
                await here.ask(here.invited())
            assert here.register.sites() == []

    run_virtually(main)


def test_the_time_is_signed_and_measures_this_clock(tmp_path: Path) -> None:
    async def main() -> None:
        async with watch(tmp_path) as here:
            await here.ask(here.invited())
            said = await here.beat()
            assert said.you == "203.0.113.44"
            assert abs((said.now - said.ours).total_seconds()) <= said.within_s

    run_virtually(main)


def test_people_are_told_what_it_is_once_and_that_it_is_back(tmp_path: Path) -> None:
    async def main() -> None:
        async with watch(tmp_path) as here:
            await here.ask(here.invited())
            seen = (("hub-page", 8443, "https"), ("film-page", 443, "https"))
            for _ in range(30):
                await here.beat(*seen)
                await here.for_(1)
            assert here.told.all == []
            start = here.rented.clock.now()
            while not here.told.all:
                await here.for_(1)
            assert here.rented.clock.now() - start <= timedelta(minutes=6)
            await here.for_(600)
            assert [code for code, _ in here.told.all] == ["line-gone"], "no rule was entered: nothing answers"
            await here.beat(*seen)
            await here.for_(1)
            assert here.told.all[-1][0] == ""
            assert here.told.all[-1][1].startswith("it is back, after 10h")
            assert len(here.told.all) == 2

            # the line answers, and the keeper does not
            town_ = here.board.town
            box, club = town_.boxes["fibre-box"], town_.boxes["club-router"]
            enter(box, club, 8443, "10.44.7.50")
            await here.beat(*seen)
            await here.for_(7)
            assert here.told.all[-1][0] == "keeper-gone"
            assert "hub-page" in here.told.all[-1][1]
            await here.beat(*seen)
            await here.for_(1)

            # the name leads elsewhere: it is asked for, and not gone to
            name = "boathouse.heronquay.example"
            await here.beat(*seen, names=(name,))
            town_.zone.set(name, "A", ["203.0.113.77"])
            before = len(town_.ledger)
            await here.for_(7)
            assert here.told.all[-1][0] == "name-elsewhere"
            assert all("203.0.113.77" not in entry["to"] for entry in list(town_.ledger)[before:])
            town_.zone.set(name, "A", ["203.0.113.44"])
            await here.beat(*seen)
            await here.for_(1)

            # a certificate ends meanwhile
            day = (here.rented.clock.now() + timedelta(days=3)).date()
            await here.beat(*seen, ends=str(day))
            await here.for_(7)
            assert here.told.all[-1][0] == "keeper-gone"
            await here.for_(60 * 24 * 3)
            assert here.told.all[-1] == (f"keeper-gone/boathouse={day}", here.told.all[-1][1])
            assert "nobody renews it" in here.told.all[-1][1]
            count = len(here.told.all)
            await here.for_(60 * 24)
            assert len(here.told.all) == count

    run_virtually(main)


def enter(box: Any, club: Any, port: int, to: str) -> None:
    """The rules for one port, as a person types them."""
    for router, target in ((box, "192.168.90.2"), (club, to)):
        router.rules.append(Rule("hub", "tcp", (port, port), IPv4Address(target), (port, port)))


class Clock:
    def __init__(self) -> None:
        self.at = NOW

    def now(self) -> datetime:
        return self.at


class Deaf:
    """A door that must not be used."""

    def __init__(self) -> None:
        self.clock = Clock()

    def __getattr__(self, name: str) -> Any:
        raise AssertionError(name)


@pytest.mark.parametrize("seed", range(3))
def test_nothing_is_told_in_a_quiet_year(seed: int) -> None:
    """With restarts on both sides, the witness away for hours, another address each few days."""
    draw, door, told = random.Random(seed), Deaf(), People()
    register, key = Register(None), bytes(32)
    register.invite(bytes(16), NOW + timedelta(hours=1), "", "", NOW)
    assert register.join(bytes(16), key, "Boathouse", NOW)
    beat_of = json.dumps({"agreed": 7200, "watch": [["a", "tcp", 443, "https", ""]], "names": [], "ends": []})
    address, watching = "203.0.113.44", Watching(door, register, told)  # type: ignore[arg-type]

    async def main() -> None:
        nonlocal address, watching
        while door.clock.at < NOW + timedelta(days=365):
            kind = draw.random()
            if kind < 0.005:  # the witness restarts, or is away for hours
                door.clock.at += timedelta(minutes=draw.choice((1, 1, 1, 300)))
                watching = Watching(door, register, told)  # type: ignore[arg-type]
            elif kind < 0.02:
                address = f"203.0.113.{draw.randrange(1, 255)}"
            elif kind < 0.05:  # the keeper restarts
                door.clock.at += timedelta(minutes=draw.choice((1, 2, 3)))
            register.heard(key, address, beat_of, door.clock.at)
            for _ in range(2):
                await watching.tick()
                door.clock.at += timedelta(minutes=30)
            await watching.tick()

    anyio.run(main)
    assert told.all == []


def test_what_cannot_be_told_is_told_later_and_never_twice(tmp_path: Path) -> None:
    """A notice that is not taken: this witness may be cut off itself, so the silence is counted anew."""

    async def main() -> None:
        async with watch(tmp_path) as here:
            await here.ask(here.invited())
            await here.beat(("hub-page", 8443, "https"))
            here.told.taken = False
            await here.for_(20)
            here.told.taken = True
            await here.for_(20)
            assert len(here.told.all) == 1

    run_virtually(main)


def test_a_silent_site_is_looked_at_once_however_late_people_are_told(tmp_path: Path) -> None:
    """Whose address it is an hour later nobody knows."""

    async def main() -> None:
        async with watch(tmp_path) as here:
            await here.ask(here.invited())
            enter(here.board.town.boxes["fibre-box"], here.board.town.boxes["club-router"], 8443, "10.44.7.50")
            await here.beat(("hub-page", 8443, "https"))
            here.told.taken = False  # people sleep
            await here.for_(7)
            looks = len(here.board.town.ledger)
            await here.for_(60 * 8)
            assert len(here.board.town.ledger) == looks
            here.told.taken = True
            await here.for_(1)
            assert [code for code, _ in here.told.all] == ["keeper-gone"]
            assert "hub-page" in here.told.all[0][1]

            # a witness that was away does not look at where the site was before that
            await here.beat(("hub-page", 8443, "https"))
            await here.for_(1)
            await anyio.sleep(5 * 3600)
            looks = len(here.board.town.ledger)
            here.watching.start_anew()
            await here.for_(20)
            assert here.told.all[-1][0] == "not-looked"
            assert len(here.board.town.ledger) == looks

    run_virtually(main)


def test_hundreds_that_are_silent_at_once_are_told_of_in_time(tmp_path: Path) -> None:
    """A provider's line is gone: each of their people is told, though a service of notices takes its time."""

    async def main() -> None:
        async with watch(tmp_path) as here:
            now = here.rented.clock.now()
            beat_of = {"agreed": 300, "watch": [["hub-page", "tcp", 8443, "https", ""]], "names": [], "ends": []}
            for number in range(300):
                secret, key = number.to_bytes(16, "big"), number.to_bytes(32, "big")
                here.register.invite(secret, now + timedelta(hours=1), "", "", now)
                assert here.register.join(secret, key, "Boathouse", now)
                here.register.heard(key, "203.0.113.44", json.dumps(beat_of), now)
            told = here.told

            class Slow:
                async def __call__(self, site: KnownSite, one: ToldOf) -> bool:
                    await anyio.sleep(5)
                    return await told(site, one)

            here.watching.tell = Slow()
            start = here.rented.clock.now()
            while len(told.all) < 300:
                await here.for_(1)
            assert here.rented.clock.now() - start < timedelta(minutes=8)

    run_virtually(main)


def test_a_damaged_register_is_told_and_none_is_overwritten(tmp_path: Path) -> None:
    path = tmp_path / "register.sqlite3"
    path.write_bytes(b"no database at all" * 200)
    before = path.read_bytes()
    with pytest.raises(HooperError, match="cannot be used"):
        Register(path)
    assert path.read_bytes() == before
    (tmp_path / "key.pem").write_text("no key")
    with pytest.raises(HooperError, match="no key of a witness"):
        own_key(tmp_path / "key.pem")


def test_of_several_witnesses_the_odd_one_is_told_each_family_by_itself() -> None:
    seen = {"a": "203.0.113.44", "b": "203.0.113.44", "c": "198.51.100.9", "d": "2001:db8::1", "e": "2001:db8::2"}
    stands = {one.subject: (one.state, one.level) for one in of_seen(seen)}
    well = ("there", "well")
    assert stands == {"a": well, "b": well, "c": ("odd", "unknown"), "d": well, "e": well}
    assert [one.state for one in of_seen({"a": "203.0.113.44", "c": "198.51.100.9"})] == ["there", "there"]


@pytest.mark.parametrize("system", ["systemd", "launchd", "windows"])
def test_a_witness_runs_by_itself_without_rights(tmp_path: Path, system: str) -> None:
    ran = hooper("witness", "unit", system, "--folder", str(tmp_path / "its own"), "--user", "eyes", "--json")
    text = str(valid("keep-unit", ran.document)["text"])
    assert "witness" in text
    assert "7443" in text
    if system == "systemd":
        assert "CapabilityBoundingSet=\n" in text
        assert "ExecReload" not in text
    assert hooper("witness", "unit", "cron").code == 2
    assert hooper("witness", "invite", "no place at all").code == 2
    assert hooper("witness", "serve", "--port", "0").code == 2
