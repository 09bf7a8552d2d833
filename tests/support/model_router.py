"""A router in memory, with what real ones do to each other's entries; and runs on it that can be killed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from ipaddress import IPv4Address
from typing import Any

import anyio
import anyio.lowlevel

from hooper.gateways.igd import Igd, IgdRefuses
from hooper.net.plain_http import Url
from hooper.net.system import SystemDoor
from hooper.store.entries import LiveRule

KIND = "urn:schemas-upnp-org:service:WANIPConnection:1"


class Killed(BaseException):
    """As SIGKILL: nothing that handles errors handles it."""


@dataclass
class MemoryRouter:
    """by_source: entries with different sources stand beside each other at a port. sources: what it does with one.

    takes_over: it leads a port elsewhere on demand; else it refuses with 718.
    """

    by_source: bool = True
    sources: str = "kept"  # kept, dropped, refused
    takes_over: bool = True
    table: list[LiveRule] = field(default_factory=list)

    def place(self, rule: LiveRule) -> tuple[str, int, str]:
        return rule.transport, rule.outside_port, rule.source if self.by_source else ""

    def put(self, rule: LiveRule) -> None:
        """As a hand on its own page does."""
        self.table = [*(old for old in self.table if self.place(old) != self.place(rule)), rule]

    def do(self, name: str, given: dict[str, str]) -> dict[str, str]:
        if name == "GetGenericPortMappingEntry":
            index = int(given["NewPortMappingIndex"])
            if index >= len(self.table):
                raise refused(713)
            return shown(self.table[index])
        asked = LiveRule(
            "udp" if given["NewProtocol"] == "UDP" else "tcp",
            int(given["NewExternalPort"]),
            given.get("NewInternalClient", ""),
            int(given.get("NewInternalPort", "0")),
            given["NewRemoteHost"] if self.sources == "kept" else "",
            given.get("NewPortMappingDescription", ""),
            enabled=True,
            lease_s=int(given.get("NewLeaseDuration", "0")),
        )
        there = next((old for old in self.table if self.place(old) == self.place(asked)), None)
        if name == "AddPortMapping":
            if given["NewRemoteHost"] and self.sources == "refused":
                raise refused(726)
            if there is not None and there.target_address != asked.target_address and not self.takes_over:
                raise refused(718)
            self.put(asked)
            return {}
        if there is None:
            raise refused(714)
        if name == "DeletePortMapping":
            self.table.remove(there)
            return {}
        assert name == "GetSpecificPortMappingEntry"
        return {key: value for key, value in shown(there).items() if key != "NewRemoteHost"}


def refused(number: int) -> IgdRefuses:
    return IgdRefuses(f"code {number}", "taken" if number == 718 else "other", str(number), number)


def shown(rule: LiveRule) -> dict[str, str]:
    return {
        "NewRemoteHost": rule.source,
        "NewExternalPort": str(rule.outside_port),
        "NewProtocol": rule.transport.upper(),
        "NewInternalPort": str(rule.target_port),
        "NewInternalClient": rule.target_address,
        "NewEnabled": "1",
        "NewPortMappingDescription": rule.label,
        "NewLeaseDuration": str(rule.lease_s),
    }


@dataclass(frozen=True)
class ModelIgd(Igd):
    """The driver itself, with its requests answered in memory. lives: how many are lived; None: no end."""

    router: MemoryRouter = field(default_factory=MemoryRouter)
    lives: list[int | None] = field(default_factory=lambda: [None])

    async def _do(self, name: str, what: str, arguments: Sequence[tuple[str, str]] = ()) -> dict[str, str]:
        await anyio.lowlevel.checkpoint()  # others may come between
        if name == "GetExternalIPAddress":
            return {"NewExternalIPAddress": "203.0.113.44"}
        answer: Any = None
        problem: IgdRefuses | None = None
        left = self.lives[0]
        if left is not None and left <= 0:
            raise Killed
        try:
            answer = self.router.do(name, dict(arguments))
        except IgdRefuses as exc:
            problem = exc
        if left is not None:
            self.lives[0] = left - 1
            if left <= 1:
                raise Killed  # it was done, and nobody heard of it
        if problem is not None:
            raise problem
        return dict(answer)


def driver(router: MemoryRouter, lives: int | None = None) -> ModelIgd:
    control = Url(IPv4Address("192.0.2.1"), 80, "/")
    return ModelIgd(SystemDoor(), control, KIND, "box", 1.0, router=router, lives=[lives])


def without_lease(rules: Sequence[LiveRule]) -> list[LiveRule]:
    return sorted((replace(rule, lease_s=0) for rule in rules), key=repr)
