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


EVERY_PORT = Ports(0, 65535)


class PortIndex:
    """Whose ports meet others, found without looking at those of everybody."""

    def __init__(self, entries: Iterable[tuple[Ports, str]]) -> None:
        """entries: ports, and who has them. ranges: those of more than one port."""
        self._single: dict[int, list[str]] = {}
        self.ranges: list[tuple[Ports, str]] = []
        for ports, name in entries:
            if ports.size == 1:
                self._single.setdefault(ports.first, []).append(name)
            else:
                self.ranges.append((ports, name))

    def meeting(self, ports: Ports) -> list[str]:
        """Who has one of these, sorted."""
        few = ports.size <= len(self._single)
        numbers = range(ports.first, ports.last + 1) if few else filter(ports.has, self._single)
        found = [name for number in numbers for name in self._single.get(number, ())]
        return sorted(found + [name for own, name in self.ranges if own.overlaps(ports)])


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
