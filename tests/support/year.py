"""A year of keeping in a town of this process: addresses change, providers fail, routers restart, keepers die."""

from __future__ import annotations

import random
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path

import anyio
import psutil

from hooper.clock import read_moment
from hooper.keep.keeper import Keeper
from hooper.lab.lines import Shape
from hooper.lab.switchboard import Switchboard
from hooper.lab.things import Rule
from hooper.site.edit import remove_table
from hooper.store.state import State
from hooper.usecases.watch.history import OutageRow, outages
from hooper.usecases.watch.keeplines import KeepLine
from support.mortal import Lives, lived, town
from support.towndoor import TownDoor

NAME = "boathouse.heronquay.example"
OTHERS = [
    Rule("a game", "tcp", (6112, 6112), IPv4Address("10.44.7.40"), (6112, 6112), owner="page"),
    Rule("a song", "udp", (6000, 6000), IPv4Address("10.44.7.41"), (6000, 6000), owner="page"),
]
DAY = 86_400.0
NAP_S = 4 * 3600.0  # seconds between looks at the clocks: real ones are seconds
STEPS_A_DAY = 400  # over the network, about; by how many of them a keeper's life is measured


@dataclass
class Year:
    """What was done to the town, and what it did. updates: time, value, what was published before."""

    seed: int
    days: int
    changes: int
    failures: int
    restarts: int
    kills: int
    outages: int
    sleeps: int = 6
    steps: int = 8
    updates: list[tuple[datetime, str, str]] = field(default_factory=list)
    addressed: list[tuple[datetime, str]] = field(default_factory=list)
    broken: list[tuple[datetime, datetime, str]] = field(default_factory=list)
    restarted: list[datetime] = field(default_factory=list)
    failing: list[tuple[datetime, datetime]] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)
    resident: list[int] = field(default_factory=list)
    killed: int = 0
    moved: timedelta = timedelta(0)

    def say(self, line: KeepLine) -> None:
        """What a keeper says; what is of use to no test is let go, so that the memory that is seen is the keeper's."""
        if line.trouble is not None:
            self.lines.append(line.trouble.message)

    def happenings(self) -> list[tuple[float, str]]:
        """When what happens, in seconds from the begin: none of the same kind at the same time."""
        chance = random.Random(self.seed)
        out: list[tuple[float, str]] = []
        counts = {"change": self.changes, "fail": self.failures, "restart": self.restarts, "outage": self.outages,
                  "sleep": self.sleeps, "step": self.steps}  # fmt: skip
        for what, count in counts.items():
            width = self.days * DAY / max(count, 1)
            out += [(width * (number + chance.uniform(0.2, 0.6)), what) for number in range(count)]
        return sorted(out)


KEEP = """\
[keep]
addresses = "1d"
rules = "3d"
checks = "1d"
certificates = "4d"
places = ["interface:usb0"]
"""


def of_days(days: int, seed: int) -> Year:
    """As much as a year has, for so many days."""
    changes, failures, restarts, kills, outages_, sleeps, steps = (
        round(days / 365 * count) for count in (400, 100, 50, 30, 20, 6, 8)
    )
    return Year(seed, days, changes, failures, restarts, kills, outages_, sleeps, steps)


SITE = (
    ('stun = ["192.0.2.10:3478", "192.0.2.11:3478"]', 'stun = ["192.0.2.10:3478"]'),
    ("[measure]", KEEP + "\n[measure]"),
    ('kind = "http"', 'kind = "http"\nrefresh = "25d"'),
)  # fmt: skip


LEAN = ("recorder-page", "recorder-stream", "recorder-app", "desk", "timing-desk", "film-shell")  # less is looked at


def prepare(folder: Path, *, lean: bool) -> None:
    """One router, which speaks; the provider drops names that are not updated for 25 days. lean: fewer services."""
    (folder / "secrets" / "club-names").chmod(0o600)
    path = folder / "site.toml"
    text = path.read_text()
    a, b = text.index("[gateways.fibre-box]"), text.index("[gateways.club-router]")
    text = text[:a] + text[b:]
    text = text.replace('behind = "fibre-box"\nwan = "192.168.90.2"\n', 'line = "fibre"\n')
    for old, new in SITE:
        assert old in text, old
        text = text.replace(old, new, 1)
    for service in LEAN if lean else ():
        text = remove_table(text, ("services", service))
    path.write_text(text)


async def live(year: Year, folder: Path) -> tuple[Switchboard, Path]:
    """The whole year; gives the town as it is then, and the folder of the state."""
    state = folder / "state"
    async with town(folder) as (board, _, __):
        prepare(folder, lean=year.days > 100)
        board.lines.set(Shape(kind="one-nat"))
        board.town.boxes["club-router"].rules += list(OTHERS)
        board.happenings.lasts_s = 80_000
        board.town.ledger = deque(maxlen=200)
        _watch_updates(year, board)
        async with anyio.create_task_group() as tasks:
            quiet = TownDoor(board, tasks, Lives(None))
            ended = anyio.Event()
            tasks.start_soon(_keep, year, folder, state, quiet, ended)
            await _author(year, board)
            await quiet.clock.sleep(DAY)
            ended.set()
            tasks.cancel_scope.cancel()
        return board, state


def _watch_updates(year: Year, board: Switchboard) -> None:
    """What the provider took."""
    provider = board.town.provider
    set_before = provider.zone.set

    def watched(name: str, kind: str, values: list[str]) -> bool:
        if (name, kind) == (NAME, "A"):
            before = provider.zone.records.get((NAME, "A"), [""])[0]
            year.updates.append((board.now(), values[0], before))
        return set_before(name, kind, values)

    provider.zone.set = watched  # type: ignore[method-assign]


async def _keep(year: Year, folder: Path, state: Path, door: TownDoor, ended: anyio.Event) -> None:
    """One keeper after the other: each ends by being killed somewhere, but for the last."""
    chance = random.Random(year.seed + 1)
    each = STEPS_A_DAY * year.days // max(year.kills, 1)
    lives = [chance.randrange(each // 10, each) for _ in range(year.kills)]
    while not ended.is_set():
        keeper = Keeper(folder / "site.toml", door, lambda line, at: year.say(line), state, nap_s=NAP_S)
        keeper.open()
        try:
            died = not await lived(door, lives.pop() if lives else None, keeper.run)
        finally:
            keeper.close()
        year.killed += died
        await door.clock.sleep(60)


async def _author(year: Year, board: Switchboard) -> None:
    """Everything that happens, when it does."""
    chance = random.Random(year.seed + 2)
    at = 0.0
    async with anyio.create_task_group() as tasks:
        for moment, what in year.happenings():
            await anyio.sleep(max(moment - at, 0))
            if int(moment / DAY) > len(year.resident):
                year.resident.append(psutil.Process().memory_info().rss)
            at = max(at, moment)
            if what == "change":
                box, new = await board.happenings.readdress(None)
                year.addressed.append((board.now(), str(new)))
                del box
            elif what == "fail":
                tasks.start_soon(_fail, year, board, chance.uniform(600, 5 * 3600))
            elif what == "restart":
                await board.happenings.restarted("club-router")
                year.restarted.append(board.now())
            elif what == "outage":
                tasks.start_soon(_break, year, board, chance.uniform(1.2 * DAY, 1.6 * DAY))
            elif what == "sleep":
                _jump(year, board, timedelta(days=chance.randrange(2, 6)))
            else:
                _jump(year, board, timedelta(seconds=chance.choice((-90, 75, 400, -45))))
        await anyio.sleep(max(year.days * DAY - at, 0))


def _jump(year: Year, board: Switchboard, by: timedelta) -> None:
    """The time of day moves and the steady clock does not: this computer slept, or its clock was set."""
    board.ahead += by
    year.moved += by


async def _fail(year: Year, board: Switchboard, seconds: float) -> None:
    """The provider asks everybody to wait."""
    begin = board.now()
    board.town.provider.busy = True
    await anyio.sleep(seconds)
    board.town.provider.busy = False
    year.failing.append((begin, board.now()))


async def _break(year: Year, board: Switchboard, seconds: float) -> None:
    """The hub's page ends, and is started again."""
    begin = board.now()
    board.town.nodes["hub"].stopped.add(("tcp", 8443))
    await anyio.sleep(seconds)
    board.town.nodes["hub"].stopped.discard(("tcp", 8443))
    year.broken.append((begin, board.now(), "hub-page"))


def judged(year: Year, board: Switchboard, state: Path) -> dict[str, int]:
    """What was counted, once everything that a year must hold is seen to hold. Raises: AssertionError."""
    (path,) = state.glob("*.sqlite3")
    secrets = [board.town.provider.token.encode(), board.town.zone.secret]
    kept = b"".join(file.read_bytes() for file in state.rglob("*") if file.is_file())
    said = "\n".join(year.lines).encode()
    assert not any(secret in kept + said for secret in secrets), "a secret stands in the state, or was said"
    with State(path) as opened:
        assert opened._database.row("PRAGMA integrity_check") == ("ok",)
        assert not opened.aside
        events = opened.history.events()
    rules = board.town.boxes["club-router"].rules
    assert [rule for rule in rules if rule.label in ("a game", "a song")] == OTHERS, "rules of others"
    assert board.town.zone.get(NAME, "A") == [str(board.town.boxes["club-router"].wan)]
    refreshes = _needed_only(year)
    found = list(outages(events, board.now()))
    _outages_told(year, found)
    lost = [one for one in found if one.kind == "rule" and one.subject == "film-page" and one.cause == "rules-lost"]
    stale = [one for one in found if one.kind == "name" and one.cause is not None]
    assert all(one.cause is not None for one in found if one.kind in ("name", "rule", "service"))
    return {
        "updates": len(year.updates), "addressed": len(year.addressed), "refreshes": refreshes, "killed": year.killed,
        "rules lost": len(lost), "restarts": len(year.restarted), "names stale": len(stale),
        "certificates": board.town.acme.issued, "outages": len(found), "events": len(events),
        "grown kB": (year.resident[-1] - year.resident[len(year.resident) // 4]) // 1024 if year.resident else 0,
    }  # fmt: skip


def _needed_only(year: Year) -> int:
    """How many updates were made because the provider drops what never is: all others changed what was published."""
    refreshes, last = 0, None
    current = "203.0.113.44"
    changes = list(year.addressed)
    for at, value, before in year.updates:
        while changes and changes[0][0] <= at:
            current = changes.pop(0)[1]
        assert value == current, (at, value, current)
        if value == before:
            assert last is None or at - last >= timedelta(days=24.9), (at, value, last)
            refreshes += 1
        last = at
    return refreshes


def _outages_told(year: Year, found: Sequence[OutageRow]) -> None:
    """Every outage of the device stands there with its cause."""
    for begin, end, service in year.broken:
        mine = [
            one for one in found
            if one.subject == service and one.kind == "service"
            and read_moment(one.begin) <= end and (one.end is None or read_moment(one.end) >= begin)
        ]  # fmt: skip
        assert any(one.cause for one in mine), (begin, end, [(one.begin, one.end, one.cause) for one in mine])
