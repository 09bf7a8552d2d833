"""Several keepers in one process, and the signals that end them or make them read their site files again."""

from __future__ import annotations

import signal
import sys
import threading
from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path

import anyio
from anyio.abc import TaskStatus

from hooper.errors import HooperError, SeveralErrors
from hooper.keep.keeper import Keeper
from hooper.net.lab_door import lab_from_environment
from hooper.net.opening import open_door
from hooper.usecases.watch.keeplines import KeepLine


async def keep_sites(
    paths: Sequence[Path], say: Callable[[KeepLine, datetime], None], *, folder: Path | None = None, once: bool = False
) -> list[HooperError]:
    """Keep these sites until SIGINT or SIGTERM; SIGHUP reads their files again. Gives the trouble of one round.

    Args: folder: of the states, where one was named. once: do what is due, and end.
    Raises: SiteFileError, SeveralErrors, KeeperRuns, LabGone, MachineError: before anything was begun.
    """
    door = await open_door(lab_from_environment())
    keepers = [Keeper(path, door, say, folder) for path in paths]
    try:
        wrong: list[HooperError] = []
        for keeper in keepers:
            try:
                keeper.open(once=once)
            except HooperError as exc:
                wrong.append(exc)
        if wrong:
            raise wrong[0] if len(wrong) == 1 else SeveralErrors(wrong)
        async with anyio.create_task_group() as signals:
            await signals.start(_signals, keepers)
            async with anyio.create_task_group() as tasks:
                for keeper in keepers:
                    tasks.start_soon(keeper.run)
            signals.cancel_scope.cancel()
        return [problem for keeper in keepers for problem in keeper.met]
    finally:
        for keeper in keepers:
            keeper.close()


async def _signals(keepers: Sequence[Keeper], *, task_status: TaskStatus[None]) -> None:
    """The first that ends waits for a safe point, the second does not."""
    if sys.platform == "win32" or threading.current_thread() is not threading.main_thread():
        task_status.started()  # no signals are received here; Ctrl-C arrives as KeyboardInterrupt, or by cancellation
        return
    wanted = [signal.SIGINT, signal.SIGTERM, signal.SIGHUP]
    heeded = [number for number in wanted if signal.getsignal(number) is not signal.SIG_IGN]  # as by nohup
    ending = False
    with anyio.open_signal_receiver(*heeded) as received:
        task_status.started()
        async for number in received:
            if number == signal.SIGHUP:
                for keeper in keepers:
                    keeper.reload()
                continue
            if ending:
                raise KeyboardInterrupt
            ending = True
            for keeper in keepers:
                keeper.end()
