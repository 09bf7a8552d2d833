"""Entries of routers' own tables, as the journal keeps them. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

Key = tuple[str, int, str]  # transport, outside port, source


@dataclass(frozen=True)
class LiveRule:
    """An entry of a router's own table. source: the one address it is limited to, empty: anyone. lease_s: 0: no end."""

    transport: Literal["tcp", "udp"]
    outside_port: int
    target_address: str
    target_port: int
    source: str
    label: str
    enabled: bool
    lease_s: int

    @property
    def key(self) -> tuple[str, int]:
        return self.transport, self.outside_port

    def leads_as(self, other: LiveRule) -> bool:
        """Whether both send the same packets to the same place."""
        mine = (self.key, self.target_address, self.target_port, self.source)
        return mine == (other.key, other.target_address, other.target_port, other.source)


@dataclass(frozen=True)
class Entered:
    """An entry of ours as the journal keeps it.

    state: opening or closing while it is being done, so that a run that was killed is taken up; open when it is done.
    before: somebody else's entries that it took the place of. until: when it ends; None: not by itself.
    """

    gateway: str
    service: str
    rule: LiveRule
    state: Literal["opening", "open", "closing"]
    before: tuple[LiveRule, ...]
    until: datetime | None

    @property
    def key(self) -> Key:
        return key_of(self.rule)


@dataclass(frozen=True)
class Lent:
    """A rule of ours that stands at a port for as long as a test takes, to be taken away again.

    before: what stood at that port until then, and is put back. until: when it ends by itself; None: it does not.
    """

    gateway: str
    rule: LiveRule
    before: tuple[LiveRule, ...]
    until: datetime | None


def key_of(rule: LiveRule) -> Key:
    return rule.transport, rule.outside_port, rule.source
