"""A town in this process, and a door through which a run can be killed at any point."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any, Protocol

import anyio
from anyio.abc import ByteStream

from hooper.addresses import IPAddress
from hooper.lab.boathouse import site_file
from hooper.lab.switchboard import Switchboard
from hooper.net.lab_door import LabAddress, LabDoor
from hooper.site.load import SiteFile
from hooper.store.sitefile import read_site
from support.virtual import VirtualClock


class Killed(BaseException):
    """As SIGKILL: nothing that is written to handle errors handles it, and nothing can be tidied up over the door."""


class Lives:
    """How many steps over the network are still to be lived; None: no end."""

    def __init__(self, left: int | None) -> None:
        self.left, self.dead = left, False

    def step(self) -> None:
        if self.left is None:
            return
        self.left -= 1
        if self.left < 0:
            self.dead = True
        if self.dead:
            raise Killed


class MortalStream(ByteStream):
    def __init__(self, inner: ByteStream, lives: Lives) -> None:
        self.inner, self.lives = inner, lives

    async def receive(self, max_bytes: int = 65536) -> bytes:
        self.lives.step()
        return await self.inner.receive(max_bytes)

    async def send(self, item: bytes) -> None:
        self.lives.step()
        await self.inner.send(item)

    async def send_eof(self) -> None:
        await self.inner.send_eof()

    async def aclose(self) -> None:
        await self.inner.aclose()

    @property
    def extra_attributes(self) -> Mapping[Any, Callable[[], Any]]:
        return self.inner.extra_attributes


class MortalDoor(LabDoor):
    """The lab's door; each connection, sending and receiving on a stream is a step."""

    lives = Lives(None)

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        self.lives.step()
        return MortalStream(await super().connect(to, port, source=source), self.lives)

    def through(self, interface: str) -> MortalDoor:
        door = MortalDoor(self.link, self.clock, self.spot, interface)
        door.lives = self.lives
        return door


@asynccontextmanager
async def town(folder: Path) -> AsyncIterator[tuple[Switchboard, MortalDoor, SiteFile]]:
    """A town that runs here, a door into it, and the boathouse's site file with its secrets."""
    board = Switchboard(clock=VirtualClock())
    (folder / "secrets").mkdir(parents=True, exist_ok=True)
    (folder / "secrets" / "club-names").write_text(board.town.provider.token)
    (folder / "town-ca.pem").write_bytes(board.town.root_pem)
    (folder / "site.toml").write_bytes(site_file())
    async with anyio.create_task_group() as tasks:
        port = await tasks.start(board.serve)
        door = await MortalDoor.open(LabAddress(port, board.token, folder))
        assert isinstance(door, MortalDoor)
        try:
            yield board, door, read_site(folder / "site.toml")
        finally:
            tasks.cancel_scope.cancel()


class HasLives(Protocol):
    """A door whose user may be killed."""

    lives: Lives


def only_killed(error: BaseException) -> bool:
    """Whether this is the end by Killed, alone or in a group."""
    if isinstance(error, BaseExceptionGroup):
        return all(only_killed(one) for one in error.exceptions)
    return isinstance(error, Killed)


async def lived(door: HasLives, steps: int | None, work: Callable[[], Any]) -> bool:
    """Run until the lives are spent; whether it came to its end. Anything else that goes wrong is raised."""
    door.lives.left, door.lives.dead = steps, False
    try:
        await work()
    except BaseException as error:
        if door.lives.dead and only_killed(error):
            return False
        raise
    finally:
        died, door.lives.left, door.lives.dead = door.lives.dead, None, False
    return not died


Steps = Sequence[int]
