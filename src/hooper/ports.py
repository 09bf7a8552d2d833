"""Ranges of ports, and the one answer to whether ports are among those that somebody blocks or keeps."""

from __future__ import annotations

from collections.abc import Iterable
from typing import NamedTuple


class Ports(NamedTuple):
    """An inclusive range of ports; a single port has first == last."""

    first: int
    last: int

    @property
    def size(self) -> int:
        """How many ports these are."""
        return self.last - self.first + 1

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"

    def overlaps(self, other: Ports) -> bool:
        return self.first <= other.last and other.first <= self.last

    def has(self, port: int) -> bool:
        return self.first <= port <= self.last


def single(port: int) -> Ports:
    return Ports(port, port)


class Blocked(NamedTuple):
    """Ports that a provider drops inbound, or that a gateway keeps for itself. transport: tcp, udp or both."""

    transport: str
    ports: Ports


def blocking(entries: Iterable[Blocked], transport: str, ports: Ports) -> Blocked | None:
    """The first of `entries` that meets these ports; None: none does. transport: tcp, udp or both."""
    for entry in entries:
        same = "both" in (entry.transport, transport) or entry.transport == transport
        if same and entry.ports.overlaps(ports):
            return entry
    return None


def ports_text(ports: Ports | None) -> str:
    """80, 5000-5010, or a dash where there are none."""
    return "-" if ports is None else str(ports)
