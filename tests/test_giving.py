"""Giving a certificate to a device: proven or put back, killed at every step, in every form that OpenSSL reads."""

from __future__ import annotations

import itertools
import os
import random
import ssl
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import anyio
import pytest
from anyio.abc import TaskGroup
from cryptography.hazmat.primitives.asymmetric import ec

from hooper.certs.bundles import read_bundle, written
from hooper.certs.inspect import fingerprint_of, load_pem
from hooper.certs.store import CertificateStore, new_key
from hooper.lab.certificates import TownAuthority
from hooper.lab.switchboard import Switchboard
from hooper.net.tls import server_context
from hooper.secret import Secret
from hooper.site.load import SiteFile, parse_site
from hooper.store.place import store_name
from hooper.store.state import State
from hooper.usecases.act import giving
from hooper.usecases.act.giving import GiveRequest, give_certificates
from hooper.usecases.run import Run
from support.mortal import Lives, MortalDoor, only_killed, town
from support.virtual import run_virtually

pytestmark = pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::pytest.PytestUnraisableExceptionWarning")
NAME = "boathouse.heronquay.example"
KILLS = 125  # of each kind of device: 500 in all
DEVICES = ("takes", "late", "never", "half")


class Device:
    """The hub with a share: it reads its files when it is told to, as its kind has it.

    late: some seconds after; never: it goes on with what it had; half: it takes the chain and keeps the key, so that
    no handshake comes to its end.
    """

    def __init__(self, board: Switchboard, folder: Path, kind: str) -> None:
        self.board, self.folder, self.kind = board, folder, kind
        self.shown, self.first, self.read_at = "", "", None
        folder.mkdir(parents=True)

    def put(self, pair: bytes) -> None:
        """What it has from the start."""
        for _, name, data in written(pair, "pem", None):
            (self.folder / name).write_bytes(data)
        self._take()
        self.first = self.shown

    def _take(self) -> None:
        chain, key = ((self.folder / name).read_bytes() for name in ("certificate-with-chain.pem", "key.pem"))
        fingerprint = fingerprint_of(load_pem(chain)[0])
        try:
            context = server_context(chain, key)
        except ssl.SSLError:
            return  # as servers do: two that do not fit are not taken
        if self.kind == "never" and self.first and fingerprint != self.first:
            return
        if self.kind == "half" and self.first and fingerprint != self.first:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)  # without any certificate: no handshake ends
        self.shown = fingerprint if self.kind != "half" or fingerprint == self.first or not self.first else ""
        self.board.town.identities["hub"].context = context

    async def reload(self, tasks: TaskGroup) -> None:
        if self.kind == "late":
            tasks.start_soon(self._later)
        else:
            self._take()

    async def _later(self) -> None:
        await anyio.sleep(3)
        self._take()


@contextmanager
def mortal(lives: Lives, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Each file that takes its place, and each that is taken away, is a step."""
    right, gone = os.replace, Path.unlink

    def replaced(*names: Any, **more: Any) -> None:
        lives.step()
        right(*names, **more)

    def unlinked(path: Path, missing_ok: bool = False) -> None:
        lives.step()
        gone(path, missing_ok=missing_ok)

    with monkeypatch.context() as patched:
        patched.setattr(os, "replace", replaced)
        patched.setattr(Path, "unlink", unlinked)
        yield


def chain_of(board: Switchboard, key: bytes) -> list[Any]:
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    public: Any = load_pem_private_key(key, None).public_key()
    authority = board.town.acme.authority
    return load_pem(authority.issue([NAME], public, board.town.now() - timedelta(hours=1)))


@pytest.mark.parametrize("kind", DEVICES)
def test_killed_at_every_step(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str) -> None:
    """Whatever the device does with it, and wherever the run ends: it shows one of the two, nobody else reads the key,
    and the next run comes to the end that a whole one comes to.
    """
    ends: set[tuple[str, str]] = set()
    kills, numbers = 0, itertools.count()

    async def main() -> None:
        nonlocal kills
        async with town(tmp_path) as (board, door, file), anyio.create_task_group() as tasks:
            for number in range(60):
                died, ended = await one(board, door, file, [number], tasks)
                kills += died
                ends.add(ended)
                if not died:
                    break
            pick = random.Random(kind)
            while kills < KILLS:  # several runs after another, each killed somewhere
                died, ended = await one(board, door, file, [pick.randrange(12) for _ in range(4)], tasks)
                kills += died
                ends.add(ended)

    async def one(
        board: Switchboard, door: MortalDoor, file: SiteFile, lists: list[int], tasks: TaskGroup
    ) -> tuple[int, tuple[str, str]]:
        folder = tmp_path / f"run-{next(numbers)}"
        await anyio.sleep(9)  # what an earlier device was late with is over
        device = Device(board, folder / "share", kind)
        more = f'services = ["hub-page"]\ngive_to = "{device.folder}"\ngive_wait = "6s"'
        site = parse_site(file.text.replace('services = ["hub-page"]', more).encode(), "site.toml")

        lives = Lives(None)

        async def reloaded(*_: Any) -> None:
            lives.step()
            await device.reload(tasks)

        monkeypatch.setattr(giving, "reload", reloaded)
        with State(folder / store_name(site)) as state:
            store = CertificateStore(state.certificates)
            for _ in range(2):  # the former, which the device has, and the new one
                key = store.pending_key("boathouse", fresh=True)
                store.keep("boathouse", key, chain_of(board, key))
                if not device.first:
                    device.put(store.pair("boathouse"))
            new = fingerprint_of(store.kept("boathouse").leaf)  # type: ignore[union-attr]
            died = 0
            for steps in lists:
                lives = Lives(steps)
                try:
                    with mortal(lives, monkeypatch):
                        await give(site, door, state)
                except BaseException as exc:
                    if not only_killed(exc):
                        raise
                    died += 1
                lives.left, lives.dead = None, False
                # a device that breaks by itself is mended by the next run, and by nothing before that
                assert device.shown in (device.first, new) or kind == "half", (kind, steps)
            row = await give(site, door, state)
            outcome = {"already": "shown"}.get(row.outcome, row.outcome)
            for path in (*device.folder.iterdir(), *state.certificates.rglob("*.pem")):
                assert path.stat().st_mode & 0o077 == 0 or path.name.startswith("certificate"), path
            assert not (state.certificates / "boathouse" / "giving" / "begun.json").exists()
            return died, (outcome, "new" if device.shown == new else "former")

    run_virtually(main)
    assert kills >= KILLS
    assert ends == ({("shown", "new")} if kind in ("takes", "late") else {("put-back", "former")})


async def give(site: SiteFile, door: MortalDoor, state: State) -> Any:
    run = Run(site, door.clock.now(), Path("site.toml"), door)
    run.state = state
    document, trouble = await give_certificates(run, GiveRequest(("boathouse",), 2.0))
    assert not trouble, trouble
    return document.certificates[0]


# --- forms


@pytest.mark.parametrize("kind", ["p-256", "p-384", "rsa-2048"])
@pytest.mark.parametrize("form", ["pem", "pem-one", "pkcs1", "pkcs12"])
def test_every_form_is_read_by_openssl_and_by_us(tmp_path: Path, form: Any, kind: str) -> None:
    from cryptography.hazmat.primitives.serialization import Encoding, load_pem_private_key

    authority, key = TownAuthority(datetime.now(UTC)), new_key(kind)
    public: Any = load_pem_private_key(key, None).public_key()
    pair = key + authority.issue([NAME], public, datetime.now(UTC) - timedelta(hours=1))
    leaf = load_pem(pair)[0].public_bytes(Encoding.PEM).decode()
    files = {part: (name, data) for part, name, data in written(pair, form, Secret("oars", "p"))}
    for name, data in files.values():
        (tmp_path / name).write_bytes(data)

    def openssl(*words: str) -> str:
        return subprocess.run(["openssl", *words], cwd=tmp_path, capture_output=True, text=True, check=True,
                              timeout=30).stdout  # fmt: skip

    if form == "pkcs12":
        shown = openssl("pkcs12", "-in", files["bundle"][0], "-passin", "pass:oars", "-nodes")
        assert (shown.count("BEGIN CERTIFICATE"), "BEGIN PRIVATE KEY" in shown) == (2, True)
        found = read_bundle(files["bundle"][1], "b", Secret("oars", "p"))
        assert (found.key_fits, len(found.chain)) == (True, 2)
        return
    key_name, chain_name = (files[part][0] for part in (("both", "both") if form == "pem-one" else ("key", "chain")))
    public_pem = openssl("pkey", "-in", key_name, "-pubout")
    assert openssl("x509", "-in", chain_name, "-pubkey", "-noout") == public_pem
    assert leaf in files["both" if form == "pem-one" else "chain"][1].decode()
    begins = {"pem": b"PRIVATE KEY", "pkcs1": b"RSA PRIVATE KEY" if kind.startswith("rsa") else b"EC PRIVATE KEY"}
    if form in begins:
        assert files["key"][1].startswith(b"-----BEGIN " + begins[form])


@pytest.mark.parametrize("seed", range(3))
def test_names_that_no_sftp_may_be_told(seed: int) -> None:
    from hooper.certs.file_places import quoted
    from hooper.errors import UsageError

    pick = random.Random(seed)
    for _ in range(200):
        name = "".join(pick.choice("ab \"\\\n\t;$`'") for _ in range(pick.randrange(1, 9)))
        if any(ord(sign) < 32 for sign in name):
            with pytest.raises(UsageError):
                quoted(name)
        else:
            assert quoted(name)[0] in "\"'"


def test_a_year_of_six_day_certificates() -> None:
    """By the keeper's own rules of when it looks and what is due then: of sixteen certificates none ever ends, none is
    ordered before two thirds of its life less a tenth are over, and their orders are spread over the hours.
    """
    from hooper.certs.order import state_of
    from hooper.certs.store import Kept
    from hooper.keep.tasks import by_life

    start = datetime(2026, 1, 1, tzinfo=UTC)
    authority, public = TownAuthority(start), ec.generate_private_key(ec.SECP256R1()).public_key()

    def issued(now: datetime) -> Kept:
        return Kept(tuple(load_pem(authority.issue([NAME], public, now - timedelta(hours=1), 6))))

    kept = {number: issued(start) for number in range(16)}  # all on one day, as after a move
    now, orders = start, list[datetime]()
    while now < start + timedelta(days=365):
        for number, one in kept.items():
            left = one.leaf.not_valid_after_utc - now
            assert left > timedelta(hours=30), "a weekend without the authority would end it"
            if state_of(one, (NAME,), now) != "current":
                assert left < timedelta(days=6) * 0.44
                kept[number] = issued(now)
                orders.append(now)
        again = by_life([one.leaf.not_valid_after_utc for one in kept.values()], now)
        assert again is not None
        now = min(again, now + timedelta(hours=6)) + timedelta(minutes=1)
    assert 16 * 365 / 6 < len(orders) < 16 * 365 / 3.2
    late = [at for at in orders if at > start + timedelta(days=60)]
    assert max(late.count(at) for at in set(late)) <= 8, "all in one hour"
