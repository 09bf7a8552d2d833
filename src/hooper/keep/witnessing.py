"""A witness as a service: it answers its sites, watches over them, and tells people."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import TYPE_CHECKING

import anyio

from hooper.clock import rfc3339
from hooper.errors import HooperError, MachineError, UsageError
from hooper.keep.sending import NoticeText, is_quiet, send
from hooper.net.lab_door import LabDoor, lab_from_environment
from hooper.net.opening import open_door
from hooper.net.types import Endpoint
from hooper.secret import SecretRef
from hooper.visible import shown
from hooper.wire.witness_talk import PORT, SECRET, Invitation
from hooper.witness.looking_back import WitnessServer
from hooper.witness.pinned_keys import own_key, pin_of
from hooper.witness.register import KnownSite, Register
from hooper.witness.silence import ToldOf, Watching

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

    from hooper.net.types import Door, Listener

TICK_S, LAB_MACHINE = 10.0, "rented"
AN_HOUR = timedelta(hours=1)


@dataclass(frozen=True)
class ServedSite:
    """A site that a witness knows. site: by which it is named here. title: as it calls itself. joined: when. seen: when
    it was there last; null: never. tells: it tells somebody.

    told: what people were told last; null: nothing is wrong.
    """

    site: str
    title: str
    joined: str
    seen: str | None
    address: str | None
    tells: bool
    told: str | None


@dataclass(frozen=True)
class ServedDocument:
    """`hooper witness list --served`. sites: one row each. pin: of this witness's key."""

    pin: str
    sites: tuple[ServedSite, ...]


@dataclass(frozen=True)
class InvitedDocument:
    """`hooper witness invite`. code: good once. until: and so long."""

    code: str
    until: str


def register_in(folder: Path) -> Register:
    return Register(folder / "register.sqlite3")


def invite(folder: Path, at: str, tell: str, quiet: str, now: datetime) -> InvitedDocument:
    """Make an invitation. at: HOST:PORT, where this witness is found. Raises: UsageError, StateError, MachineError."""
    import secrets

    host, colon, port = at.rpartition(":")
    if not colon:
        host, port = at, str(PORT)
    host = host.strip("[]")
    try:
        code = Invitation(host, int(port), pin_of(own_key(folder / "key.pem").public), secrets.token_bytes(SECRET))
        Invitation.read(code.code())
    except ValueError:
        remedy = "Write HOST:PORT: a name or an address under which this computer is reached from outside."
        raise UsageError(f"{at!r} is no place at which this witness is found", remedy=remedy) from None
    from hooper.site.fields import hours  # what a silent site needs is not imported before: thousands are served

    for text, read in ((tell, SecretRef.parse), (quiet, hours)):
        try:
            if text:
                read(text)
        except ValueError as exc:
            raise UsageError(f"{text!r}: {exc}", remedy="Write file:PATH, and 22:00-07:00.") from None
    register = register_in(folder)
    try:
        register.invite(code.secret, now + AN_HOUR, tell, quiet, now)
    finally:
        register.close()
    return InvitedDocument(code.code(), rfc3339(now + AN_HOUR))


def served(folder: Path) -> ServedDocument:
    """The sites that the witness of this machine knows. Raises: StateError, MachineError."""
    register = register_in(folder)
    try:
        rows = tuple(
            ServedSite(one.short, one.title, rfc3339(one.joined), rfc3339(one.seen) if one.seen else None,
                       one.address or None, bool(one.tell), one.told or None)
            for one in register.sites()
        )  # fmt: skip
    finally:
        register.close()
    return ServedDocument(f"sha256:{pin_of(own_key(folder / 'key.pem').public).hex()}", rows)


def forget_served(folder: Path, site: str) -> str:
    """Let a site go; its title. Raises: UsageError: there is none such; StateError."""
    register = register_in(folder)
    try:
        found = [one for one in register.sites() if one.short == site or one.title == site]
        if len(found) != 1:
            known = ", ".join(f"{one.short} ({one.title})" for one in register.sites()) or "none"
            raise UsageError(f"there is no site {site!r} here", remedy=f"There are: {known}.")
        register.forget(found[0].key)
        return found[0].title
    finally:
        register.close()


@dataclass
class WitnessAtWork:
    """A witness at work. say: is told what happens, in a line."""

    door: Door
    folder: Path
    register: Register
    say: Callable[[str], None]
    server: WitnessServer = field(init=False)
    watching: Watching = field(init=False)

    def __post_init__(self) -> None:
        self.server = WitnessServer(self.door, self.register, own_key(self.folder / "key.pem"))
        self.watching = Watching(self.door, self.register, self.tell)

    async def tell(self, site: KnownSite, told: ToldOf) -> bool:
        """Tell people; whether that is over. Where nobody can be told, this witness itself may be cut off."""
        now = self.door.clock.now()
        from hooper.site.fields import hours

        if site.quiet and is_quiet(hours(site.quiet), now.astimezone()):
            return False
        self.say(f"{site.title} ({site.short}): {told.says}")
        if not site.tell:
            return True
        lab = "[lab] " if self.door.world == "lab" else ""
        notice = NoticeText(shown(f"{lab}{site.title}: {told.code or 'back again'}"), shown(str(told.says)))
        try:
            await send(self.door, notice, SecretRef.parse(site.tell).read(self.folder).reveal())
        except HooperError as exc:
            self.say(f"nobody could be told: {exc.message}")
            self.watching.start_anew()
            return False
        return True


async def serve(folder: Path, port: int, say: Callable[[str], None]) -> None:
    """Serve until SIGINT or SIGTERM; in the lab, on its rented machine. Raises: MachineError, StateError, LabGone."""
    lab = lab_from_environment()
    door: Door = await LabDoor.open(lab, LAB_MACHINE) if lab is not None else await open_door(lab)
    register = register_in(folder)
    try:
        service = WitnessAtWork(door, folder, register, say)
        async with until_ended() as tasks:
            both = [Endpoint(IPv6Address("::"), port), Endpoint(IPv4Address("0.0.0.0"), port)]  # noqa: S104 - meant
            listening = 0
            for at in both:
                try:
                    listener = await door.listen(at)
                except MachineError:
                    if at is both[-1] and not listening:
                        raise
                    continue
                listening += 1
                tasks.start_soon(_served, service, listener)
            say(f"listening at port {port}, for {len(register.sites())} sites; key sha256:{service.server.pin.hex()}")
            while True:
                try:
                    await service.watching.tick()
                except HooperError as exc:
                    say(exc.message)
                await door.clock.sleep_until(door.clock.now() + timedelta(seconds=TICK_S))
    finally:
        register.close()


async def _served(service: WitnessAtWork, listener: Listener) -> None:
    async with listener:
        await service.server.serve(listener)


@asynccontextmanager
async def until_ended() -> AsyncIterator[anyio.abc.TaskGroup]:
    """A group that SIGINT and SIGTERM end."""
    async with anyio.create_task_group() as tasks:
        if sys.platform != "win32" and threading.current_thread() is threading.main_thread():

            async def watch() -> None:
                heeded = [one for one in (signal.SIGINT, signal.SIGTERM) if signal.getsignal(one) is not signal.SIG_IGN]
                with anyio.open_signal_receiver(*heeded) as received:
                    async for _ in received:
                        tasks.cancel_scope.cancel()
                        return

            tasks.start_soon(watch)
        yield tasks
