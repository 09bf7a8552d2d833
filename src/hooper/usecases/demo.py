"""The demo: the whole job on a lab in a process of its own, told scene by scene."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path
from typing import Any

import anyio
from anyio.abc import Process

from hooper.certs.order import Ordering
from hooper.certs.rows import CertificateRow
from hooper.certs.store import CertificateStore
from hooper.check.checking import Outcome, Wish, check_outside
from hooper.errors import HooperError, MachineError, RefusedForSafety
from hooper.files import make_folder, read_text, write_atomically
from hooper.gateways.find import find_routers
from hooper.gateways.rules import wanted_rules
from hooper.gateways.tables import Change
from hooper.gateways.work import LEASE_S, Work
from hooper.jsonform import plain
from hooper.lab.boathouse import site_file
from hooper.lab.faults import FAULTS
from hooper.line.gather import gather_line
from hooper.line.judging import document
from hooper.line.public import Given
from hooper.names.update import Names
from hooper.net.lab import LabDoor, LabLink, read_lab_file
from hooper.planning.card import CardDocument, make_card
from hooper.planning.documents import Sheet
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.typed import typed
from hooper.planning.values import Plan
from hooper.planning.worksheet import make_sheets
from hooper.site.load import SiteFile
from hooper.sourced import as_told
from hooper.store.sitefile import read_site
from hooper.store.state import State, store_name
from hooper.why.diagnosis import diagnose
from hooper.why.evidence import Past, gather_service

DEADLINE = 1.0  # seconds for each probe: the town answers at once, and silence need not be waited for
START = 20.0  # seconds for the lab to be up on a slow machine
PATIENCE = 10.0  # seconds for records and certificates to arrive
PROTOCOL, CERTIFIED = "club-router", "hub-page"  # the router that takes rules from a program; what gets a certificate
WRONG, VICTIM = "forward-wrong-host", "film-page"
VISITED = "fibre-box"  # whose status page someone reads
NEXT_FILE = "NEXT.md"
NEXT = """\
# What to try next

This folder holds `site.toml`, the site file of the boathouse. Look at its plan and its sheets:

    hooper plan --site site.toml
    hooper worksheet --site site.toml

Run the simulated town in one terminal, and set the two variables that it prints in another:

    hooper lab run

There, open the inner router's rules by its protocol, enter the sheets for the rest by hand, and look from the phone's
mobile data:

    hooper router open
    hooper worksheet --rest --json | hooper lab type -
    hooper router list
    hooper name list
    hooper check --from interface:usb0

Get a certificate, give it to the hub, and see what to type away from home:

    hooper cert order
    hooper lab install boathouse hub-page
    hooper card hub-page

Break something and look again:

    hooper lab faults
    hooper lab break forward-missing-inner
    hooper check --from interface:usb0 film-page
    hooper why film-page --from interface:usb0
    hooper lab read
    hooper why film-page --from interface:usb0 --rule club-router=missing
    hooper lab mend

For your own network, copy `site.toml`, replace what it says by what you have, and start with
`hooper survey`.
"""


@dataclass(frozen=True)
class Scene:
    """One step that is done. told: what it has to show, by its kind."""

    step: str
    ok: bool
    took_ms: int
    told: Any


def prepare_folder(folder: Path) -> None:
    """Check that the demo may leave its files there. Raises: RefusedForSafety: it holds other things; MachineError."""
    make_folder(folder)
    try:
        others = sorted(entry.name for entry in folder.iterdir() if entry.name not in ("site.toml", NEXT_FILE))
        own_site = (folder / "site.toml").exists() and (folder / "site.toml").read_bytes() != site_file()
    except OSError as exc:
        raise MachineError(f"the folder {folder} cannot be read: {exc.strerror}") from None
    if others or own_site:
        what = f"{others[0]}{' and more' if len(others) > 1 else ''}" if others else "a site file that was changed"
        raise RefusedForSafety(
            f"the folder {folder} holds other things: {what}", remedy="Name a folder that is new or empty."
        )


def leave_files(folder: Path) -> None:
    """The site file and the next commands. Raises: MachineError."""
    write_atomically(folder / "site.toml", site_file())
    write_atomically(folder / NEXT_FILE, NEXT.encode())


@asynccontextmanager
async def lab_process(folder: Path) -> AsyncIterator[Path]:
    """A lab in its own process, which ends with this one; gives its private file. Raises: MachineError."""
    environment = {key: value for key, value in os.environ.items() if key not in ("HOOPER_LAB", "HOOPER_SITE")}
    command = [sys.executable, "-m", "hooper", "lab", "run", "--json", "--quiet", "--while-stdin-open"]
    process = await anyio.open_process(
        [*command, "--out", str(folder)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=None, env=environment
    )
    try:
        yield await _first_line(process)
    finally:
        with anyio.CancelScope(shield=True):
            assert process.stdin is not None
            await process.stdin.aclose()
            with anyio.move_on_after(5):
                await process.wait()
            if process.returncode is None:
                process.kill()
            await process.aclose()


async def _first_line(process: Process) -> Path:
    assert process.stdout is not None
    line = b""
    try:
        with anyio.fail_after(START):
            while b"\n" not in line:
                line += await process.stdout.receive()
        return Path(json.loads(line)["env"]["HOOPER_LAB"])
    except (TimeoutError, anyio.EndOfStream, ValueError, KeyError):
        raise MachineError(
            f"the lab did not start: {line.decode(errors='replace').strip() or 'it said nothing'}"
        ) from None


async def play(folder: Path, today: date) -> AsyncGenerator[Scene, None]:
    """The scenes, each when it is done. folder: for the lab's files. Raises: HooperError: a step cannot be done."""
    clock = time.perf_counter()

    def scene(step: str, told: Any, *, ok: bool = True) -> Scene:
        nonlocal clock
        took, clock = time.perf_counter() - clock, time.perf_counter()
        return Scene(step, ok, round(took * 1000), told)

    async with lab_process(folder) as lab_file:
        yield scene("lab", None)
        file = read_site(folder / "site.toml")
        here = await LabDoor.open(read_lab_file(lab_file))
        link, now = here.link, here.clock.now()
        told = {f"wan:{VISITED}": as_told(await _read_wan(link), now)}
        line = await gather_line(here, file.site, Given(told=told), DEADLINE, now=now)
        seen = document(file.site, line)
        yield scene("survey", seen, ok=seen.can_forward is True)
        plan = make_plan(file, today)
        yield scene("plan", plan, ok=plan.feasible)
        with State(folder / "state" / store_name(file)) as state:
            changes = await _open_by_protocol(here, file, plan, state)
            done = {c.rule.service for c in changes if c.gateway == PROTOCOL and c.outcome == "added"}
            left = [c for c in changes if c.outcome == "by-hand"]
            yield scene("router", changes, ok=len(done) + len(left) == len(changes) and bool(done))
            sheets = _by_hand(make_sheets(Topology(file.site), plan), done)
            yield scene("worksheet", sheets)
            entered = (await link.ask("type", sheets=plain(sheets)))["entered"]
            yield scene("typed", entered, ok=len(entered) + len(done) == len(plan.forwards))
            await link.ask("break", fault="name-stale")
            names = Names(here, file.site, folder, {}, {}, DEADLINE, PATIENCE, state)
            before = await names.look(tuple(file.site.names))
            after = await names.update(tuple(file.site.names), again=False, dry=False)
            yield scene("name", (before, after), ok=all(row.action == "updated" and row.ok for row in after))
            await link.ask("break", fault="certificate-own")
            row = await _certify(here, link, file, folder, state)
            yield scene("certificate", row, ok=row.state == "ordered")
        outcome = await _look(here, file, tuple(file.site.services))
        unproven = [result.service for result in outcome.results if result.verdict == "unproven"]
        good = all(result.ok or result.service in unproven for result in outcome.results)
        yield scene("check", outcome, ok=good and unproven == ["gate"])
        await link.ask("break", fault=WRONG, service=VICTIM)
        outcome = await _look(here, file, (VICTIM,))
        yield scene("broken", outcome, ok=[result.verdict for result in outcome.results] == ["mismatched"])
        usb = here.through("usb0")
        facts, _ = await gather_service(
            here, usb, file.site, plan, VICTIM, Past(Given(told=told)), None, DEADLINE, now=now, base=folder
        )
        found = diagnose(file.site, plan, facts)
        certain = [cause.code for cause in found.causes if cause.certainty == "certain"]
        yield scene("explained", found, ok=certain == [FAULTS[WRONG].cause])
        await link.ask("mend", fault=WRONG)
        outcome = await _look(here, file, (VICTIM,))
        yield scene("mended", outcome, ok=all(result.ok for result in outcome.results))
        yield scene("card", _card(file))


def _card(file: SiteFile) -> CardDocument:
    topology = Topology(file.site)
    what = typed(topology, CERTIFIED)
    assert what is not None
    return make_card(topology, CERTIFIED, what, None)


async def _open_by_protocol(here: LabDoor, file: SiteFile, plan: Plan, state: State) -> list[Change]:
    """Enter what the club's router takes from a program."""
    found = await find_routers(here, file.site, [PROTOCOL], DEADLINE * 2)
    work = Work(PROTOCOL, found.routers[PROTOCOL], str(found.own), state, here.clock)
    await work.open(list(wanted_rules(plan.forwards, PROTOCOL, LEASE_S)), take_over=False)
    return work.changes


def _by_hand(sheets: tuple[Sheet, ...], done: set[str | None]) -> tuple[Sheet, ...]:
    """The sheets without what a program has entered."""
    return tuple(
        replace(sheet, rules=tuple(r for r in sheet.rules if sheet.gateway != PROTOCOL or r.service not in done))
        for sheet in sheets
    )


async def _certify(here: LabDoor, link: LabLink, file: SiteFile, folder: Path, state: State) -> CertificateRow:
    """Order the certificate, and give it to the hub as a person would on its page."""
    store = CertificateStore(state.certificates)
    ordering = Ordering(here, file.site, folder, store, state, DEADLINE * 5, PATIENCE)
    (key,) = file.site.certificates
    row = await ordering.order(key, anew=False)
    chain, private = read_text(store.chain_path(key)), read_text(store.key_path(key))
    await link.ask("install", service=CERTIFIED, chain=chain, key=private)
    return row


async def _read_wan(link: LabLink) -> str:
    """What a person reads off the status page of the provider's box."""
    (page,) = (await link.ask("read", gateways=[VISITED]))["gateways"]
    return str(page["wan_address"])


async def _look(here: LabDoor, file: SiteFile, services: tuple[str, ...]) -> Outcome:
    """Check from the phone's mobile data."""
    wish = Wish(Topology(file.site), services, DEADLINE, base=Path(file.name).parent)
    outcome = await check_outside(here, here.through("usb0"), wish, None)
    if outcome.errors:
        raise HooperError(f"the town did not tell its public address: {outcome.errors[0].message}")
    return outcome
