"""The hops to one's own public address and outward, by which the NATs on the way are counted."""

from __future__ import annotations

from dataclasses import dataclass, field

import anyio

from hooper.addresses import IPAddress
from hooper.line.facts import Hops, between, nats_before
from hooper.line.ground import Ground
from hooper.line.hops import PATIENCE, confirm, holds, trace
from hooper.line.outside_view import SeenOutside

HOPS_SHARE = 0.16  # of the deadline, for the hops that come first


@dataclass
class Path:
    """counted: they were looked at twice, so that the NATs can be counted by them. done: set once they are read."""

    ground: Ground
    outside: SeenOutside
    to_self: Hops | None = None
    outward: Hops | None = None
    counted: bool = False
    done: anyio.Event = field(default_factory=anyio.Event)

    async def read(self) -> None:
        servers = self.ground.servers(4)
        try:
            asked = servers or self.ground.site.measure.echo
            if asked and self.ground.at is not None and not await self._as_before():
                async with anyio.create_task_group() as tasks:
                    if servers:
                        tasks.start_soon(self._trace_outward, servers[0].address)
                    tasks.start_soon(self._trace_self)
            if self.to_self is not None and not self.counted:
                self.counted = self.to_self.arrived is not None
                if self.outward is not None:
                    self.to_self, self.counted = await confirm(self.ground.door, self.to_self, self.outward)
        finally:
            self.done.set()

    async def _as_before(self) -> bool:
        """Take the hops of an earlier survey from here, where they are still so."""
        ground, kept = self.ground, self.ground.known.ways.get(self.ground.line)
        if kept is None or (kept.own, kept.gateway, kept.chain) != (ground.own, ground.default_gateway, ground.chain):
            return False
        with anyio.move_on_after(self._patience):
            await self.outside.first_answer.wait()
        if self.outside.address() != kept.to_self.to or not await holds(ground.door, kept.to_self, kept.outward):
            return False
        self.to_self, self.outward, self.counted = kept.to_self, kept.outward, True
        return True

    async def _trace_outward(self, to: IPAddress) -> None:
        self.outward = await trace(self.ground.door, to, self._patience)

    async def _trace_self(self) -> None:
        with anyio.move_on_after(self._patience):
            await self.outside.first_answer.wait()
        seen = self.outside.address()
        if seen is not None:
            self.to_self = await trace(self.ground.door, seen, self._patience)

    @property
    def _patience(self) -> float:
        return self.ground.left(min(PATIENCE, HOPS_SHARE * self.ground.deadline))

    def nats(self) -> tuple[int, int | None] | None:
        """How many NATs stand before the public address, at least and at most; None: the hops do not tell."""
        return nats_before(self.to_self, self.outward, counted=self.counted)

    def nats_are(self, count: int) -> bool:
        """Whether exactly so many NATs stand before what is seen outside."""
        if self.to_self is None or not self.counted:
            return False
        return between(self.to_self, self.outward) == (count, count)
