"""A borrowed port by turns: its device's own, so that a phone can open it, and this computer's, to hear what was seen.

A phone away from home has one way in that is known to work, the port that has just been proven. Many routers let no
other port in that nobody typed. So the page stays open on the phone, the rule goes back, and comes again to hear.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import anyio

from hooper.check.browser_visit import PhoneWord, Try
from hooper.errors import HooperError
from hooper.usecases.act.temporary import OpenedWay
from hooper.usecases.run import Run

HEAR_S = 12.0  # seconds that this computer listens, from one turn of the device to the next


@dataclass
class PortTurns:
    """own: the device behind the port, as the page tries it. turn_s: how many seconds the port is the device's.

    leaves_s: seconds for the last answer to be with the phone. most: turns of the device. asked: the page has tried all
    else, and waits for its turn. heard: it has told of the device; over: all of it.
    """

    own: Try
    turn_s: float
    leaves_s: float = 1.0
    most: int = 12
    asked: anyio.Event = field(default_factory=anyio.Event)
    heard: anyio.Event = field(default_factory=anyio.Event)
    over: bool = False

    def hear(self, word: PhoneWord, *, last: bool) -> None:
        """The page has told of the device. last: its person has answered all."""
        self.over |= last
        if word.loads or last:
            self.heard.set()

    async def take(self, run: Run, way: OpenedWay, shown: Callable[[bool], None]) -> None:
        """Until all was told, or so many turns have passed. shown: is told whose turn it is, True: the device's.

        A router that does not play along ends it, and is trouble.
        """
        await self.asked.wait()
        try:
            for _ in range(self.most):
                await run.here.clock.sleep(self.leaves_s)
                await way.give_back()
                shown(True)
                await run.here.clock.sleep(self.turn_s)
                self.heard = anyio.Event()
                await way.take_again()
                shown(False)
                with anyio.move_on_after(HEAR_S):
                    await self.heard.wait()
                if self.over:
                    return
        except HooperError as exc:
            run.trouble.append(exc)


def can_be_given_back(way: OpenedWay) -> bool:
    """Whether a program entered what leads the port here, all of it: what a person typed, a person gives back."""
    return bool(way.entered) and all(rule.how != "by-hand" for rule in way.rules)
