"""Letting a port in to this computer while an authority proves a name, by the same lending as an arrival."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass
from ipaddress import IPv4Address

import anyio

from hooper.certs.challenges import NoProof
from hooper.errors import HooperError
from hooper.gateways.lending import PortNotLent
from hooper.planning.openers import not_driven
from hooper.planning.temporary import temporary
from hooper.ports import blocking, single
from hooper.site.references import PROOF_PORTS, chains_to
from hooper.usecases.act.temporary import Borrow, let_in, own_place
from hooper.usecases.run import Run

SOME_PORT = 8443  # of this computer: which one it will be does not change whether it can come in


@dataclass(frozen=True)
class ProofPorts:
    """The ports that proofs need, at one site."""

    run: Run

    async def own(self) -> IPv4Address:
        """Where this computer is on the LAN. Raises: NoNetwork, NotAtTheSite."""
        return (await own_place(self.run))[1]

    async def unlendable(self, line: str) -> dict[int, str]:
        """Why each port cannot be let in here from a line; empty: it can."""
        try:
            at, own = await own_place(self.run)
        except HooperError as exc:
            return dict.fromkeys(PROOF_PORTS.values(), exc.message)
        if line not in [chain.line for chain in chains_to(self.run.site, at)][:1]:
            return dict.fromkeys(PROOF_PORTS.values(), f"this computer is not behind {line}")
        return {port: self._why_not(line, own, port) for port in PROOF_PORTS.values()}

    def _why_not(self, line: str, own: IPv4Address, port: int) -> str:
        site = self.run.site
        if blocking(site.lines[line].blocked, "tcp", single(port)) is not None:
            return f"the provider of {line} blocks port {port}"
        found = temporary(
            self.run.file, self.run.at.date(), own, service=None, transport="tcp", inside=SOME_PORT, outside=port,
            planned=self.run.plan.forwards,
        )  # fmt: skip
        if found is None:
            return "no line leads in to this computer"
        by_hand = next((rule.gateway for rule in found.new if not_driven(site, rule.gateway) is not None), None)
        if by_hand is not None:
            return f"Hooper cannot let it in for the proof alone: {by_hand}: {not_driven(site, by_hand)}"
        return ""

    @asynccontextmanager
    async def lent(self, outside: int, inside: int) -> AsyncIterator[None]:
        """While this is open, a port outside leads to one of this computer. Raises: NoProof; as `let_in`."""
        problem: HooperError | None = None
        try:
            async with let_in(self.run, [Borrow(None, "tcp", inside, outside)]) as way:
                if by_hand := next(iter(way.ports[0].by_hand), None):
                    raise NoProof(f"port {outside} was not let in at {by_hand.gateway}: {by_hand.reason}")
                async with anyio.create_task_group() as tasks:
                    tasks.start_soon(way.keep_open)
                    try:
                        yield
                    except HooperError as exc:  # kept, since the task group would wrap it up
                        problem = exc
                    tasks.cancel_scope.cancel()
        except PortNotLent as exc:
            raise NoProof(
                f"port {outside} is not lent for the proof: {exc.message}",
                remedy="Take that rule away for the while, or give the name an updater that sets TXT records.",
            ) from None
        if problem is not None:
            raise problem
