"""One router driven by IGD (UPnP Internet Gateway Device, WANIPConnection:1 and :2, WANPPPConnection:1).

Routers say yes to nonsense, so everything is checked before it is sent, and read back after.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from ipaddress import ip_network
from typing import Literal, cast

import anyio

from hooper.addresses import IPAddress, parse_address
from hooper.errors import NoAnswer, WireError
from hooper.gateways.driver import Reason, RouterLied, RouterRefuses, SourceDropped
from hooper.net.plain_http import Url, ask
from hooper.net.types import Door
from hooper.planning.free_ports import transports
from hooper.planning.openers import Protocol, cannot_say
from hooper.planning.values import Forward
from hooper.store.entries import LiveRule
from hooper.wire import upnp

LONGEST_S = 604_800  # a week (WANIPConnection:2 section 2.3.21)
LABEL_LENGTH = 30  # letters; some routers turn longer labels into garbage
ENTRIES_READ = 2000  # more than any router keeps; ends the reading of a table that has no end
NO_SUCH_ENTRY, INDEX_TOO_LARGE, INVALID_ARGUMENTS, ACTION_FAILED = 714, 713, 402, 501
PERMANENT_ONLY, CONFLICT = 725, 718
# WANIPConnection:1 section 2.4.16 and :2 section 2.5.16; UPnP Device Architecture 2.0 section 3.2.6
MEANINGS: dict[int, str] = {
    401: "it does not know this action",
    402: "it does not understand the values",
    501: "it cannot do it now, as when it has no public address itself",
    606: "it does not allow this: it lets a device open ports for itself only, or keeps this port",
    713: "there are no more entries",
    714: "there is no such entry",
    715: "it takes no rule for a single source",
    716: "it takes no rule without an outside port",
    718: "another rule has this port, or the router lets a device open ports for itself only",
    724: "it cannot turn one port into another: outside and inside port must be the same",
    725: "it takes only rules that never expire",
    726: "it takes no rule for a single source",
    727: "it takes only rules for all outside ports",
    728: "its table is full",
    729: "another mechanism of the router has this port",
    730: "it takes only rules with an inside port",
    732: "it takes only rules with an inside port",
    733: "it takes no rule that lasts that long",
}


def _refusal(what: str, fault: upnp.SoapFault) -> RouterRefuses:
    meaning = MEANINGS.get(fault.code) or fault.text or "it gives no reason"
    reason: Reason = "taken" if fault.code == CONFLICT else "not-now" if fault.code == ACTION_FAILED else "other"
    said = f"its code {fault.code}"
    return IgdRefuses(f"the router refuses {what}: {meaning} ({said})", reason, said, fault.code)


class IgdRefuses(RouterRefuses):
    """number: the code of WANIPConnection."""

    def __init__(self, message: str, reason: Reason, said: str, number: int) -> None:
        super().__init__(message, reason, said)
        self.number = number


@dataclass(frozen=True)
class Igd:
    """A connection service of one router: a Driver. deadline: seconds for each request.

    events: where what it tells by itself is subscribed to; None: nowhere.
    """

    door: Door
    control: Url
    service: str
    device: str
    deadline: float
    events: Url | None = None
    protocol: Protocol = "igd"
    longest_s: int = LONGEST_S

    @property
    def where(self) -> str:
        return f"{self.control}, {self.service}"

    def cannot(self, forward: Forward) -> str | None:
        """Why IGD cannot enter this rule as it is planned; None: it can."""
        return cannot_say("igd", forward)

    def entries(self, forward: Forward, label: str, lease_s: int) -> Iterator[LiveRule]:
        """One for each transport, port and allowed source: an entry has one of each."""
        assert forward.outside_ports is not None
        assert forward.target_ports is not None
        for transport in transports(forward.transport):
            for step in range(forward.outside_ports.size):
                for source in [str(ip_network(network).network_address) for network in forward.sources] or [""]:
                    yield LiveRule(
                        cast(Literal["tcp", "udp"], transport),
                        forward.outside_ports.first + step,
                        forward.target_address,
                        forward.target_ports.first + step,
                        source,
                        label[:LABEL_LENGTH],
                        enabled=True,
                        lease_s=lease_s,
                    )

    async def _do(self, name: str, what: str, arguments: Sequence[tuple[str, str]] = ()) -> dict[str, str]:
        """One action. Raises: RouterRefuses; NoAnswer, ConnectFailed, WireError."""
        fields = (("Content-Type", 'text/xml; charset="utf-8"'), ("SOAPAction", f'"{self.service}#{name}"'))
        body = upnp.serialize_action(self.service, name, arguments)
        answer = await ask(self.door, self.control, self.deadline, method="POST", fields=fields, body=body)
        if not answer.body.strip():
            if answer.head.status == 200 and name in ("AddPortMapping", "DeletePortMapping"):
                return {}  # nothing to read; what came of it is read back
            raise WireError("answer", 0, f"status {answer.head.status} and nothing else")
        got = upnp.parse_response(answer.body, name)
        if isinstance(got, upnp.SoapFault):
            raise _refusal(what, got)
        return got

    async def external_address(self) -> IPAddress | None:
        """The router's outer address; None: it has none, or does not tell. Raises: as `_do`."""
        got = await self._do("GetExternalIPAddress", "to tell its address")
        try:
            address = parse_address(got.get("NewExternalIPAddress", ""))
        except ValueError:
            return None
        return address if int(address) else None

    async def connected(self) -> bool:
        """Whether the router says that its line is up."""
        try:
            got = await self._do("GetStatusInfo", "to tell its state")
        except IgdRefuses:
            return False
        return got.get("NewConnectionStatus", "").lower() == "connected"

    async def table(self) -> list[LiveRule]:
        """All entries (WANIPConnection:1 section 2.4.14). Raises: NoAnswer: it takes far too long; as `_do`."""
        try:
            with anyio.fail_after(max(30.0, 6 * self.deadline)):
                return await self._entries()
        except TimeoutError:
            raise NoAnswer("the router takes too long to show its table") from None

    async def _entries(self) -> list[LiveRule]:
        found: list[LiveRule] = []
        for index in range(ENTRIES_READ):
            number = (("NewPortMappingIndex", str(index)),)
            try:
                got = await self._do("GetGenericPortMappingEntry", "to show its table", number)
            except IgdRefuses as exc:
                if index == 0 and exc.number not in (INDEX_TOO_LARGE, NO_SUCH_ENTRY, INVALID_ARGUMENTS, ACTION_FAILED):
                    raise
                break
            rule = read_rule(got)
            if rule is None or any(rule.key == old.key and rule.source == old.source for old in found):
                if rule is not None:
                    break  # it shows the same entry again and again
                continue
            found.append(rule)
        return found

    async def entry(self, wanted: LiveRule) -> LiveRule | None:
        """The entry for an outside port, whatever its source; None: there is none. Raises: as `_do`.

        A single entry is shown without its source, so where one is wanted the whole table is read.
        """
        if wanted.source:
            fitting = [rule for rule in await self.table() if rule.key == wanted.key]
            return next((rule for rule in fitting if rule.source == wanted.source), fitting[0] if fitting else None)
        key = _key(wanted)
        try:
            got = await self._do("GetSpecificPortMappingEntry", "to show an entry", key)
        except IgdRefuses as exc:
            if exc.number == NO_SUCH_ENTRY:
                return None
            return next((rule for rule in await self.table() if rule.key == wanted.key), None)
        arguments = {**got, "NewExternalPort": str(wanted.outside_port), "NewProtocol": wanted.transport}
        return read_rule({**arguments, "NewRemoteHost": wanted.source})

    async def add(self, rule: LiveRule) -> LiveRule:
        """Add an entry, or change the target of one's own; gives what the router made of it.

        Raises: RouterRefuses; RouterLied: its table says something else than what it granted; SourceDropped: then
        nothing is left there; as `_do`.
        """
        port = f"{rule.transport} {rule.outside_port}"
        what = f"the rule for {port}"
        try:
            await self._do("AddPortMapping", what, _arguments(rule, rule.lease_s))
        except IgdRefuses as exc:
            if exc.number not in (PERMANENT_ONLY, INVALID_ARGUMENTS) or rule.lease_s == 0:
                raise
            await self._do("AddPortMapping", what, _arguments(rule, 0))
        granted = await self.entry(rule)
        if granted is None:
            raise RouterLied(f"the router said yes to {what}, and has no such rule")
        if rule.source and replace(granted, source=rule.source).leads_as(rule) and not granted.source:
            await self.delete(granted)
            raise SourceDropped(f"the router's table does not show the one source that {port} is for")
        if not granted.leads_as(rule) or not granted.enabled:
            target = f"{granted.target_address}:{granted.target_port}"
            off = "" if granted.enabled else ", switched off"
            if granted.target_address == rule.target_address:  # what it made of ours; somebody else's is not touched
                await self.delete(granted)
            raise RouterLied(f"the router said yes to {what}, but its table leads it to {target}{off}")
        return granted

    async def renew(self, rule: LiveRule) -> LiveRule:
        """Adding one's own entry again lets it last longer. Raises: as `add`."""
        return await self.add(rule)

    async def delete(self, rule: LiveRule) -> None:
        """Delete the entry for an outside port. Raises: RouterRefuses; RouterLied: it is still there; as `_do`."""
        what = f"to remove the rule for {rule.transport} {rule.outside_port}"
        try:
            await self._do("DeletePortMapping", what, _key(rule))
        except IgdRefuses as exc:
            if exc.number != NO_SUCH_ENTRY:
                raise
        if (left := await self.entry(rule)) is not None and left.leads_as(rule):
            raise RouterLied(f"the router said yes {what}, and still has it")


def _key(rule: LiveRule) -> tuple[tuple[str, str], ...]:
    return (
        ("NewRemoteHost", rule.source),
        ("NewExternalPort", str(rule.outside_port)),
        ("NewProtocol", rule.transport.upper()),
    )


def _arguments(rule: LiveRule, lease_s: int) -> tuple[tuple[str, str], ...]:
    """In the order of WANIPConnection:1 section 2.4.16; some routers take them by their place."""
    for port in (rule.outside_port, rule.target_port):
        if not 1 <= port <= 65535:
            raise ValueError(f"{port} is no port")
    return (
        *_key(rule),
        ("NewInternalPort", str(rule.target_port)),
        ("NewInternalClient", rule.target_address),
        ("NewEnabled", "1"),
        ("NewPortMappingDescription", rule.label),
        ("NewLeaseDuration", str(lease_s)),
    )


def read_rule(got: dict[str, str]) -> LiveRule | None:
    """An entry as a router tells it; None: it makes no sense."""
    transport = got.get("NewProtocol", "").strip().lower()
    try:
        outside, inside = int(got.get("NewExternalPort", "")), int(got.get("NewInternalPort", ""))
        target = str(parse_address(got.get("NewInternalClient", "")))
    except ValueError:
        return None
    if transport not in ("tcp", "udp") or not (0 <= outside <= 65535 and 0 <= inside <= 65535):
        return None
    lease = got.get("NewLeaseDuration", "0")
    source = got.get("NewRemoteHost", "")
    return LiveRule(
        cast(Literal["tcp", "udp"], transport),
        outside,
        target,
        inside,
        "" if source in ("0.0.0.0", "*", "::") else source,  # noqa: S104 - how routers write anyone
        label="".join(c if c.isprintable() else "?" for c in got.get("NewPortMappingDescription", ""))[:80],
        enabled=got.get("NewEnabled", "1").strip().lower() not in ("0", "false", "no"),
        lease_s=int(lease) if lease.isascii() and lease.isdigit() and len(lease) < 12 else 0,
    )
