"""What drives one router by one protocol: what it can do, its table if it has one, and adding, renewing, deleting."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Literal, Protocol

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.errors import CounterpartError
from hooper.planning.values import Forward
from hooper.store.entries import LiveRule

Reason = Literal["taken", "not-now", "other"]


class RouterRefuses(CounterpartError):
    """The router says no. reason: another has the port, or it opens none for others; it cannot now; anything else.

    said: how its protocol puts it, such as its code.
    """

    code = "router-refuses"
    remedy = f"Enter the rule by hand: see `{deeds.SHEET}`."

    def __init__(self, message: str, reason: Reason = "other", said: str = "") -> None:
        super().__init__(message)
        self.reason, self.said = reason, said


class RouterLied(CounterpartError):
    """The router said yes, and what it then has says something else."""

    code = "router-lied"
    remedy = f"Look at its list with `{deeds.TABLES}`, and enter the rule by hand if it is not right."


class SourceDropped(RouterLied):
    """The router takes a rule for one source, and does not show that it keeps it to that."""

    code = "sources-not-kept"
    remedy = f"It was taken away again. Enter the rule by hand: see `{deeds.SHEET}`."


class Driver(Protocol):
    """One router, driven by one protocol. Everything raises NoAnswer, ConnectFailed and WireError where it does not
    answer, or not as the protocol wants it.

    protocol: igd, or as the package calls it that adds it. device: what it calls itself. where: where it is spoken to,
    for people who want to know. longest_s: the longest lease that it grants, in seconds.
    """

    @property
    def protocol(self) -> str: ...

    @property
    def device(self) -> str: ...

    @property
    def where(self) -> str: ...

    @property
    def longest_s(self) -> int: ...

    def cannot(self, forward: Forward) -> str | None:
        """Why this rule cannot be entered as it is planned; None: it can. Sources are never silently widened."""
        ...

    def entries(self, forward: Forward, label: str, lease_s: int) -> Iterator[LiveRule]:
        """The entries of its table that a rule of the plan becomes."""
        ...

    async def external_address(self) -> IPAddress | None:
        """The router's outer address; None: it has none, or does not tell. Raises: RouterRefuses."""
        ...

    async def connected(self) -> bool:
        """Whether the router says that its line is up."""
        ...

    async def table(self) -> list[LiveRule] | None:
        """All entries, whoever made them; None: this protocol shows none. Raises: RouterRefuses."""
        ...

    async def add(self, rule: LiveRule) -> LiveRule:
        """Add an entry; gives what the router made of it.

        Raises: RouterRefuses; RouterLied; SourceDropped: then nothing is left there.
        """
        ...

    async def renew(self, rule: LiveRule) -> LiveRule:
        """Let an entry of one's own last longer. Raises: as `add`."""
        ...

    async def delete(self, rule: LiveRule) -> None:
        """Take an entry away. Raises: RouterRefuses; RouterLied: it is still there."""
        ...
