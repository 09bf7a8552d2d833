"""A lab as a process: its private file, its site file, and its end."""

from __future__ import annotations

import base64
import os
import signal
import sys
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import anyio
from anyio.abc import TaskStatus

from hooper import __version__, deeds
from hooper.errors import HooperError, MachineError
from hooper.files import make_folder, write_atomically
from hooper.lab.boathouse import site_file
from hooper.lab.switchboard import Switchboard
from hooper.net.lab_door import LabLink, read_lab_file
from hooper.wire import lab_link as link


async def serve(
    folder: Path, started: Callable[[Path, Path], None], *, until_stdin_ends: bool = False, hairpin: bool = False
) -> None:
    """Run a town until SIGINT or SIGTERM.

    Args: folder: receives site.toml (unless it has one) and the private lab.json. started: called with both paths.
    until_stdin_ends: end with standard input too, so that no lab outlives the program that started it.
    hairpin: as for Switchboard.
    Raises: MachineError: the files cannot be written.
    """
    board = Switchboard(hairpin=hairpin)
    make_folder(folder, private=True)
    lab, site = folder / "lab.json", folder / "site.toml"
    await _refuse_a_second(lab)
    async with anyio.create_task_group() as tasks:
        await tasks.start(board.serve)
        leave_files(folder, board)
        try:
            await tasks.start(_until_signal, tasks.cancel_scope)  # before anyone is told that it runs
            if until_stdin_ends:
                tasks.start_soon(_until_stdin_ends, tasks.cancel_scope)
            started(lab, site)
            await anyio.sleep_forever()
        finally:
            with suppress(OSError):
                lab.unlink()


def leave_files(folder: Path, board: Switchboard) -> None:
    """What leads into a town that listens: its private file, a site file, and the secrets that this one names.

    Raises: MachineError.
    """
    make_folder(folder / "secrets", private=True)
    town = board.town
    write_atomically(folder / "secrets" / "club-names", f"{town.provider.token}\n".encode(), private=True)
    write_atomically(folder / "secrets" / "own-zone", base64.b64encode(town.zone.secret) + b"\n", private=True)
    write_atomically(folder / "town-ca.pem", town.root_pem)
    if not (folder / "site.toml").exists():
        write_atomically(folder / "site.toml", site_file())
    private = {"hooper": __version__, "port": board.port, "token": board.token, "pid": os.getpid()}
    write_atomically(folder / "lab.json", link.serialize_line(private), private=True)


async def _refuse_a_second(lab: Path) -> None:
    """Raises: MachineError: a lab runs in this folder already. The file of one that was killed is no hindrance."""
    try:
        await LabLink(read_lab_file(lab)).ask("hello")
    except HooperError:  # no such file, or nobody there any more
        return
    raise MachineError(
        f"a lab runs in {lab.parent} already",
        code="lab-running",
        remedy=f"Use it, or choose another folder with {deeds.OUTPUT_FOLDER}.",
    )


async def _until_signal(scope: anyio.CancelScope, *, task_status: TaskStatus[None]) -> None:
    if sys.platform == "win32":  # no signal receiver there; Ctrl-C arrives as KeyboardInterrupt
        task_status.started()
        return
    with anyio.open_signal_receiver(signal.SIGINT, signal.SIGTERM) as received:
        task_status.started()
        async for _ in received:
            scope.cancel()
            return


async def _until_stdin_ends(scope: anyio.CancelScope) -> None:
    from hooper.net.system import in_daemon_thread

    def drain() -> None:
        while os.read(sys.stdin.fileno(), 4096):  # not by the buffered reader: its lock would outlive the loop
            pass

    await in_daemon_thread(drain)
    scope.cancel()
