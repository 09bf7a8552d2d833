"""The demo: the whole job on a lab in a process of its own, told scene by scene."""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import AsyncGenerator, AsyncIterator
from contextlib import aclosing, asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from secrets import token_bytes
from typing import Any

import anyio
from anyio.abc import Process

from hooper.check.results import CheckDocument
from hooper.environment import without_names
from hooper.errors import HooperError, MachineError, RefusedForSafety
from hooper.files import machine_error, make_folder, read_text, write_atomically
from hooper.jsonform import plain
from hooper.lab.boathouse import site_file
from hooper.lab.faults import FAULTS
from hooper.net.lab_door import LabAddress, LabDoor, LabLink, read_lab_file
from hooper.net.types import Endpoint
from hooper.places import Place
from hooper.store.sitefile import read_site
from hooper.usecases.act.certificates import CertificatesRequest, order_certificates
from hooper.usecases.act.names import NamesRequest, list_names, update_names
from hooper.usecases.act.routers import RouterRequest, open_rules
from hooper.usecases.prepare.survey import survey
from hooper.usecases.prepare.worksheet import WorksheetRequest, worksheet
from hooper.usecases.private.peers import HandRequest, hand
from hooper.usecases.private.peers import add as add_peer
from hooper.usecases.private.tunnels import MakeRequest, add, make
from hooper.usecases.prove.card import card
from hooper.usecases.prove.check import CheckRequest, check
from hooper.usecases.prove.gathering import WhyRequest
from hooper.usecases.prove.why import why
from hooper.usecases.run import Run, open_state
from hooper.usecases.watch.witnesses import join, say_there
from hooper.wire.witness_talk import PORT, SECRET, Invitation
from hooper.witness.looking_back import WitnessServer
from hooper.witness.pinned_keys import own_key, pin_of
from hooper.witness.register import KnownSite, Register
from hooper.witness.silence import ToldOf, Watching

DEADLINE = 2.0  # seconds for each look: the town answers at once, and silence need not be waited for
START = 20.0  # seconds for the lab to be up on a slow machine
PATIENCE = 10.0  # seconds for records and certificates to arrive
PROTOCOL, CERTIFIED = "club-router", "hub-page"  # the router that takes rules from a program; what gets a certificate
WRONG, VICTIM = "forward-wrong-host", "film-page"
PHONE = Place("interface", "usb0")
TUNNEL, PEER, PRIVATE = "oars", "cox-phone", "film-shell"
VISITED = "fibre-box"  # whose status page someone reads
NEXT_FILE = "NEXT.md"
WITNESS, RENTED, POWER, SILENT_S = "rented", "198.51.100.7", "line-down", 660  # silent for longer than was agreed


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
        raise machine_error(exc, f"the folder {folder} cannot be read") from None
    if others or own_site:
        what = f"{others[0]}{' and more' if len(others) > 1 else ''}" if others else "a site file that was changed"
        raise RefusedForSafety(
            f"the folder {folder} holds other things: {what}", remedy="Name a folder that is new or empty."
        )


def leave_files(folder: Path, next_steps: str) -> None:
    """The site file, and what to try next. Raises: MachineError."""
    write_atomically(folder / "site.toml", site_file())
    write_atomically(folder / NEXT_FILE, next_steps.encode())


@asynccontextmanager
async def lab_process(folder: Path) -> AsyncIterator[Path]:
    """A lab in its own process, which ends with this one; gives its private file. Raises: MachineError."""
    environment = without_names()
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
            f"the lab did not start: {line.decode(errors='replace').strip() or 'it said nothing'}",
            remedy="Start it by itself, and read what it says: `hooper lab run`.",
        ) from None


@dataclass
class Play:
    """The demo under way: a run at the boathouse, and the link by which a person in the town does things by hand."""

    run: Run
    link: LabLink
    moment: float = field(default_factory=time.perf_counter)

    def scene(self, step: str, told: Any, *, ok: bool = True) -> Scene:
        took, self.moment = time.perf_counter() - self.moment, time.perf_counter()
        return Scene(step, ok, round(took * 1000), told)

    async def look(self, *services: str) -> CheckDocument:
        """Check from the phone's mobile data."""
        request = CheckRequest(services or tuple(self.run.site.services), PHONE, deadline=DEADLINE)
        document, trouble = await check(self.run, request)
        if trouble:
            raise HooperError(f"the town did not tell its public address: {trouble[0].message}")
        return document

    async def survey(self) -> Scene:
        """Someone reads a number off the provider's box; the rest is measured."""
        (page,) = (await self.link.ask("read", gateways=[VISITED]))["gateways"]
        told = {f"gateways.{VISITED}/wan": str(page["wan_address"])}
        seen, _ = await survey(self.run, told, deadline=DEADLINE)
        return self.scene("survey", seen, ok=seen.can_forward is True)

    async def enter(self) -> AsyncGenerator[Scene, None]:
        """What the club's router takes from a program, the rest by hand."""
        request = RouterRequest((PROTOCOL,), deadline=DEADLINE * 10)  # a busy machine needs more than the town does
        opened, trouble = await open_rules(self.run, request)
        done = {c.rule.service for c in opened.changes if c.outcome == "added"}
        left = [c for c in opened.changes if c.outcome == "by-hand"]
        good = len(done) + len(left) == len(opened.changes) and bool(done) and not trouble
        yield self.scene("router", list(opened.changes), ok=good)
        sheets = worksheet(self.run, WorksheetRequest(rest=True))[0].sheets
        yield self.scene("worksheet", sheets)
        entered = (await self.link.ask("type", sheets=plain(sheets)))["entered"]
        yield self.scene("typed", entered, ok=len(entered) + len(done) == len(self.run.plan.forwards))

    async def name(self) -> Scene:
        """It has last week's address, and is updated."""
        await self.link.ask("break", fault="name-stale")
        request = NamesRequest(deadline=DEADLINE, patience=PATIENCE, dry_run=False)
        before, _ = await list_names(self.run, request)
        after, trouble = await update_names(self.run, request)
        good = all(row.action == "updated" and row.ok for row in after.names) and not trouble
        return self.scene("name", (before.names, after.names), ok=good)

    async def certificate(self) -> Scene:
        """Ordered, and given to the hub as a person would on its page."""
        await self.link.ask("break", fault="certificate-own")
        request = CertificatesRequest(deadline=DEADLINE * 5, patience=PATIENCE)
        document, trouble = await order_certificates(self.run, request)
        if trouble:
            raise trouble[0]
        (row,) = document.certificates
        assert row.chain is not None
        assert row.key is not None
        chain, key = read_text(Path(row.chain)), read_text(Path(row.key))
        await self.link.ask("install", service=CERTIFIED, chain=chain, key=key)
        return self.scene("certificate", row, ok=row.state == "ordered")

    async def private(self) -> Scene:
        """A peer made, handed its file, and proven by mobile data alone: what is not open to the world."""
        add(self.run, TUNNEL, {"dns": ["10.44.7.1"]})
        add_peer(self.run, PEER, {"tunnel": TUNNEL, "person": "the cox", "into": [PRIVATE]})
        folder = self.run.base
        made, _ = make(self.run, MakeRequest(TUNNEL, folder / "gate"))
        conf, rules = map(Path, made.files)
        await self._load("gate", conf, read_text(rules))
        sheets = worksheet(self.run, WorksheetRequest(keys=(PROTOCOL,)))[0].sheets
        await self.link.ask("type", sheets=[{**sheet, "rules": []} for sheet in plain(sheets)])  # the way back
        given, _ = await hand(self.run, HandRequest(PEER, (folder / f"{PEER}.conf",)))
        await self._load("here", folder / f"{PEER}.conf", "")
        await self.link.ask("plug", where="away")
        services = (PRIVATE, "film-page")
        seen, _ = await check(self.run, CheckRequest(services, Place("interface", PEER), deadline=DEADLINE))
        await self.link.ask("load", on="here", name=PEER, off=True)
        await self.link.ask("plug", where="home")
        proven = [result.service for result in seen.results if result.verdict == "answered" and result.ok]
        return self.scene("private", (given, seen), ok=proven == [PRIVATE] and all(r.ok for r in seen.results))

    async def _load(self, on: str, conf: Path, rules: str) -> None:
        await self.link.ask("load", on=on, name=conf.stem, conf=read_text(conf), rules=rules)

    async def break_and_mend(self) -> AsyncGenerator[Scene, None]:
        """A rule names another device: seen, explained, put right."""
        await self.link.ask("break", fault=WRONG, service=VICTIM)
        seen = await self.look(VICTIM)
        yield self.scene("broken", seen, ok=[result.verdict for result in seen.results] == ["mismatched"])
        found, _ = await why(self.run, WhyRequest(VICTIM, PHONE, deadline=DEADLINE))
        certain = [cause.code for cause in found.causes if cause.certainty == "certain"]
        yield self.scene("explained", found, ok=certain == [FAULTS[WRONG].cause])
        await self.link.ask("mend", fault=WRONG)
        seen = await self.look(VICTIM)
        yield self.scene("mended", seen, ok=all(result.ok for result in seen.results))

    async def witness(self, lab: LabAddress) -> Scene:
        """Nobody at home can tell that the power is gone there: a witness outside can, and that it is back."""
        rented = await LabDoor.open(lab, "rented")
        told: list[ToldOf] = []

        async def tell(site: KnownSite, what: ToldOf) -> bool:
            told.append(what)
            return True

        register, key = Register(None), own_key(self.run.base / "witness" / "key.pem")
        watching, secret = Watching(rented, register, tell), token_bytes(SECRET)
        register.invite(secret, rented.clock.now() + timedelta(hours=1), "", "", rented.clock.now())
        code = Invitation(RENTED, PORT, pin_of(key.public), secret).code()
        listener = await rented.listen(Endpoint(IPv4Address(RENTED), PORT))
        async with listener, anyio.create_task_group() as tasks:
            tasks.start_soon(WitnessServer(rented, register, key).serve, listener)
            await join(self.run, code, WITNESS, dry_run=False)
            await say_there(self.run, WITNESS)
            await self.link.ask("break", fault=POWER)
            moved = await self.link.ask("clock", advance_s=SILENT_S)
            rented.clock.follow(datetime.fromisoformat(moved["now"]))
            await watching.tick()
            await self.link.ask("mend", fault=POWER)
            await say_there(self.run, WITNESS)
            await watching.tick()
            tasks.cancel_scope.cancel()
        register.close()
        return self.scene("witness", told, ok=[one.code for one in told] == ["line-gone", ""])


async def play(folder: Path) -> AsyncGenerator[Scene, None]:
    """The scenes, each when it is done. folder: for the lab's files. Raises: HooperError: a step cannot be done."""
    start = time.perf_counter()
    async with lab_process(folder) as lab_file:
        here = await LabDoor.open(read_lab_file(lab_file))
        path = folder / "site.toml"
        run = Run(read_site(path), here.clock.now(), path, here)
        with open_state(run, folder / "state"):
            demo = Play(run, here.link, start)
            yield demo.scene("lab", None)
            yield await demo.survey()
            yield demo.scene("plan", run.plan, ok=run.plan.feasible)
            async with aclosing(demo.enter()) as scenes:
                async for scene in scenes:
                    yield scene
            yield await demo.name()
            yield await demo.certificate()
            yield await demo.private()
            seen = await demo.look()
            yield demo.scene("check", seen, ok=all(result.ok for result in seen.results))
            async with aclosing(demo.break_and_mend()) as scenes:
                async for scene in scenes:
                    yield scene
            shown, _ = await card(run, CERTIFIED)
            yield demo.scene("card", shown)
            yield await demo.witness(read_lab_file(lab_file))
