"""The readers of what strangers hand over or say: files, pages, packs, requests. Each with input that it reads."""

from __future__ import annotations

import asyncio
import base64
import json
import random
import shutil
import sqlite3
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import anyio

from fuzz.targets import Target
from hooper.check.browser_visit import browser_result, judge_told, read_told, tries
from hooper.clock import rfc3339
from hooper.errors import HooperError
from hooper.jsonform import plain, read_json
from hooper.keep.metrics import MetricsPage
from hooper.net import serving
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from hooper.planning.saved_page import read_page
from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.store import sealed
from hooper.store.state import State
from hooper.usecases import moving
from hooper.usecases.prepare import profiles
from hooper.usecases.prove import visit
from hooper.usecases.prove.brought import take_in
from hooper.usecases.run import Run
from hooper.wire.images import picture_size
from hooper.words.said import quoted

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from support.exported_openvpn import EXPORTED as OPENVPN
from support.exported_openvpn import SITE as OPENVPN_SITE
from support.profiles import EXPORTED as WIREGUARD
from support.profiles import SITE as WIREGUARD_SITE
from support.program import BOATHOUSE
from support.saved_pages import PAGES

Answers = Callable[[serving.HttpAsked], Any]
NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
FOLDER = Path(tempfile.mkdtemp(prefix="hooper-readers-"))
PEER = Endpoint(ip_address("198.51.100.130"), 4000)
BOATS = parse_site(BOATHOUSE.encode(), "site.toml")
RUNNER = asyncio.Runner()
ODD: tuple[Any, ...] = (
    None,
    True,
    -1,
    2**64,
    1e308,
    "",
    "x" * 5000,
    "::1",
    "10.0.0.1",
    "\ud800",
    "\x1b[2J",
    "2026",
    [],
    {},
    [[]],
    {"a": 1},
)


def varied(document: Any, count: int = 300) -> tuple[bytes, ...]:
    """A document as JSON, and `count` others in which something is missing, of another kind or odd."""
    chance, made = random.Random(5), [json.dumps(document).encode()]
    while len(made) <= count:
        whole = json.loads(made[0])
        inner: list[tuple[Any, Any]] = []
        waiting = [whole]
        while waiting:
            at = waiting.pop()
            keys = list(at) if isinstance(at, dict) else range(len(at)) if isinstance(at, list) else []
            inner += [(at, key) for key in keys]
            waiting += [at[key] for key in keys]
        for at, key in chance.sample(inner, chance.choice((1, 1, 2))):
            if chance.random() < 0.2 and isinstance(at, dict):
                at.pop(key, None)
            elif isinstance(at, dict):
                at[key] = chance.choice(ODD)
            else:
                at[key : key + 1] = [chance.choice(ODD)] * chance.choice((1, 2, 70))
        made.append(json.dumps(whole).encode())
    return tuple(made)


def _file(data: bytes) -> Path:
    path = FOLDER / "brought"
    path.write_bytes(data)
    return path


def _profile(site: str) -> Callable[[bytes], Any]:
    """A profile as `profile check` and `profile mend` read it, up to the copy."""
    run = Run(parse_site(site.encode(), "site.toml"), NOW)

    def decode(data: bytes) -> Any:
        path, out = _file(data), FOLDER / "mended"
        out.unlink(missing_ok=True)
        document, trouble = profiles.check(run, (path,))
        if trouble:
            raise trouble[0]
        profiles.mend(run, profiles.MendRequest(path, out))
        return document

    return decode


# --- visits

SEAL = "5e" * 16
PACK = visit.Pack(
    visit.PACK, "v1", SEAL, rfc3339(NOW), rfc3339(NOW + timedelta(days=7)), "Boathouse", ("film-page", "hub-page"),
    visit._site_part(BOATS), {"fibre": ("203.0.113.44", rfc3339(NOW))}, (), (), "",
)  # fmt: skip
OFFERED = tries(Topology(BOATS.site), {"fibre": ip_address("203.0.113.44")}, ["film-page", "hub-page"])
BROUGHT = visit.Brought(
    visit.RESULT,
    "v1",
    rfc3339(NOW),
    "the café",
    {"kind": "visit", "name": "the café", "proves_outside": True},
    tuple(plain(browser_result(one, "answered", quoted("it loaded"))) for one in OFFERED),
    "",
)


def _pack(data: bytes) -> Any:
    pack = visit.read_pack(_file(data))
    return visit.asks_of(pack, visit.packed_site(pack, "visit.json")).words()


def _result(data: bytes) -> Any:
    """What comes home, with a proof that is right wherever it can be read: so that all behind it is reached too."""
    try:
        read = read_json(visit.Brought, data)
        data = json.dumps(plain(replace(read, proof=visit.proof_of(read, SEAL)))).encode()
    except (ValueError, HooperError):
        pass
    with State(FOLDER / "none.sqlite3", kept=False) as state:
        state.ledger.tell(NOW, {"visit:v1": f"{SEAL} {PACK.expires} {PACK.made}"})
        run = Run(BOATS, NOW, door=SystemDoor(), state=state)
        return RUNNER.run(take_in(run, _file(data)))


# --- what speaks to a page of ours


class Said:
    """A stream that has received all that it will, in pieces."""

    def __init__(self, data: bytes) -> None:
        self.parts = [data[at : at + 1000] for at in range(0, len(data), 1000)]
        self.sent = b""

    async def receive(self, most: int = 65536) -> bytes:
        if not self.parts:
            raise anyio.EndOfStream
        return self.parts.pop(0)

    async def send(self, data: bytes) -> None:
        self.sent += data

    async def send_eof(self) -> None:
        self.parts = []


def _http(answer: Answers) -> Callable[[bytes], Any]:
    def decode(data: bytes) -> Any:
        stream = Said(data)
        RUNNER.run(serving._one(stream, PEER, answer))  # type: ignore[arg-type]
        return stream.sent

    return decode


def _arrival() -> Callable[[bytes], Any]:
    """The arrival's page: a request, and what a browser tells in it."""
    topology = Topology(BOATS.site)
    offered = tries(topology, {"fibre": ip_address("203.0.113.44")}, list(BOATS.site.services))

    async def answer(asked: serving.HttpAsked) -> serving.HttpSaid:
        try:
            service, told = read_told(read_json(dict[str, Any], asked.body))
            one = next(one for one in offered if one.service == service)
        except (ValueError, StopIteration):
            return serving.HttpSaid(400)
        return serving.HttpSaid(200, str(judge_told(topology, one, told, named=True).detail).encode())

    return _http(answer)


def _told(body: bytes) -> bytes:
    return b"POST /x/told HTTP/1.1\r\nHost: a\r\nContent-Length: %d\r\n\r\n" % len(body) + body


# --- a moved site

PHRASE = "four herons"


def _database() -> bytes:
    with closing(sqlite3.connect(":memory:")) as db:
        db.execute("CREATE TABLE told (key TEXT, value TEXT, at TEXT)")
        return db.serialize()


MOVED = {
    "name": "site.toml", "site": BOATHOUSE, "files": {"secrets/own-zone": "aGVyb24="}, "kept": {"tunnels/k": "aGVy"},
    "state": base64.b64encode(_database()).decode(),
}  # fmt: skip


@contextmanager
def _at_once() -> Iterator[None]:
    """Without the passphrase's own work, which is slow on purpose."""
    before, sealed._key = sealed._key, lambda passphrase, salt: bytes(32)
    try:
        yield
    finally:
        sealed._key = before


def _moved(data: bytes) -> Any:
    with _at_once():
        return sealed.unseal(data, PHRASE)


def _moved_inside(data: bytes) -> Any:
    """What somebody has sealed who knows the passphrase; nothing of it stands outside of where it is put."""
    shutil.rmtree(FOLDER / "moved", ignore_errors=True)
    document = read_json(dict[str, Any], data)
    with _at_once():
        return moving.unpacked(
            sealed.seal(document, PHRASE), PHRASE, FOLDER / "moved" / "to", FOLDER / "moved" / "states"
        )


with _at_once():
    SEALED = sealed.seal(MOVED, PHRASE)
OURS = (HooperError,)
READERS: dict[str, Target] = {
    "profile-wireguard": Target(_profile(WIREGUARD_SITE), tuple(one.text.encode() for one in WIREGUARD), OURS),
    "profile-openvpn": Target(_profile(OPENVPN_SITE), tuple(one.text.encode() for one in OPENVPN[:12]), OURS),
    "saved-page": Target(
        lambda data: read_page(data.decode("utf-8", "replace"), "page.html"),
        (*(page.encode() for page in PAGES.values()), b"<![if !IE]><table></table><![endif]><![CDATA[x]]><![>"),
        OURS,
    ),
    "picture": Target(
        picture_size, (b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR\0\0\0\x10\0\0\0\x10", b"\xff\xd8\xff\xc0\0\x11")
    ),
    "visit-pack": Target(_pack, varied(plain(PACK)), OURS),
    "visit-result": Target(_result, varied(plain(BROUGHT)), OURS),
    "arrival-page": Target(
        _arrival(),
        (
            b"GET /x HTTP/1.1\r\nHost: a\r\nUser-Agent: b\r\n\r\n",
            _told(b'{"service": "hub-page", "told": {"tls": {"loaded": true, "ms": 12}}}'),
        ),
    ),
    "metrics-page": Target(
        _http(MetricsPage()._answer), (b"GET /metrics HTTP/1.1\r\nHost: 127.0.0.1:9123\r\nAccept: */*\r\n\r\n",)
    ),
    "moved-site": Target(_moved, (SEALED,), OURS),
    "moved-site-inside": Target(_moved_inside, varied(MOVED), (*OURS, ValueError)),
}
