"""Which ports of a gateway's outer side are taken, and which to take next. Pure.

Ports of TCP and UDP are kept apart; a service for both needs the same port in both.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterator

from hooper.ports import Ports

LAST = 65535
STEP = 10_000  # 3389 becomes 13389, then 23389: easy to remember


def transports(transport: str) -> tuple[str, ...]:
    """tcp and udp for both, else the one."""
    return ("tcp", "udp") if transport == "both" else (transport,)


class OuterSide:
    """The ports of one address of one gateway.

    Taken ports have an owner, a service. Closed ones are not to be chosen: taken, kept by the gateway, or blocked.
    """

    __slots__ = ("_closed", "_names", "_numbers", "_owners", "_protocols")

    def __init__(self) -> None:
        self._closed = {"tcp": bytearray(LAST + 1), "udp": bytearray(LAST + 1), "both": bytearray(LAST + 1)}
        self._owners: dict[str, array[int]] = {}
        self._names: list[str] = [""]
        self._numbers: dict[str, int] = {}
        self._protocols: dict[str, str] = {}
        for closed in self._closed.values():
            closed[0] = 1

    def close(self, transport: str, first: int, last: int) -> None:
        """Never choose these ports."""
        for single in transports(transport):
            self._closed[single][first : last + 1] = b"\1" * (last - first + 1)
        self._closed["both"][first : last + 1] = b"\1" * (last - first + 1)

    def take(self, service: str, transport: str, ports: Ports | None) -> None:
        """These ports belong to `service` from now on; ports None: the whole IP protocol."""
        if ports is None:
            self._protocols[transport] = service
            return
        number = self._numbers.get(service)
        if number is None:
            number = self._numbers[service] = len(self._names)
            self._names.append(service)
        first, last = ports
        for single in transports(transport):
            if single not in self._owners:
                self._owners[single] = array("I", bytes(4 * (LAST + 1)))
            if first == last:
                self._owners[single][first] = number
                self._closed[single][first] = 1
            else:
                self._owners[single][first : last + 1] = array("I", [number]) * (last - first + 1)
                self._closed[single][first : last + 1] = b"\1" * (last - first + 1)
        self._closed["both"][first : last + 1] = b"\1" * (last - first + 1)

    def owner(self, transport: str, ports: Ports | None) -> tuple[str, str, int] | None:
        """Who has one of these ports: the service, the transport and the first such port; None: nobody."""
        if ports is None:
            name = self._protocols.get(transport)
            return (name, transport, 0) if name is not None else None
        for single in transports(transport):
            owners = self._owners.get(single)
            if owners is None:
                continue
            if ports[0] == ports[1]:
                if owners[ports[0]]:
                    return self._names[owners[ports[0]]], single, ports[0]
                continue
            for port, number in enumerate(owners[ports[0] : ports[1] + 1], ports[0]):
                if number:
                    return self._names[number], single, port
        return None

    def is_open(self, transport: str, ports: Ports) -> bool:
        """Whether all of these ports can be chosen."""
        if ports[0] == ports[1]:
            return not self._closed[transport][ports[0]]
        return not any(self._closed[transport][ports[0] : ports[1] + 1])

    def choices(self, transport: str, ports: Ports) -> Iterator[Ports]:
        """Ports to choose instead of `ports`, the most memorable first: open ones, as many of them."""
        length = ports[1] - ports[0] + 1
        for start in range(ports[0] + STEP, LAST - length + 2, STEP):
            if self.is_open(transport, Ports(start, start + length - 1)):
                yield Ports(start, start + length - 1)
        closed = self._closed[transport]
        for lowest, end in ((ports[0] + STEP, LAST + 1), (1024, min(ports[0] + STEP, LAST) + length)):
            start = closed.find(bytes(length), lowest, end)
            while start >= 0:
                yield Ports(start, start + length - 1)
                start = closed.find(bytes(length), start + 1, end)
