"""A router of the town that speaks IGD, as real ones were seen to: it caps, cuts and says yes to nonsense."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from ipaddress import IPv4Address, IPv4Network

import anyio
from anyio.abc import ByteStream

from hooper.errors import WireError
from hooper.lab.devices import read_request
from hooper.lab.streets import Streets
from hooper.lab.things import Box, Rule
from hooper.net.types import Endpoint
from hooper.wire import head, natpmp, pcp, ssdp, upnp

WEEK = 604_800  # seconds: what a lease of 0 becomes, and where longer ones are cut
LABEL_BYTES = 60
KIND = "urn:schemas-upnp-org:service:WANIPConnection:2"
ANSWERED = (*ssdp.TARGETS, "urn:schemas-upnp-org:service:WANIPConnection:2", "upnp:rootdevice", "ssdp:all")
DESCRIPTION = """<?xml version="1.0"?>
<root xmlns="urn:schemas-upnp-org:device-1-0"><specVersion><major>1</major><minor>0</minor></specVersion>
<device><deviceType>urn:schemas-upnp-org:device:InternetGatewayDevice:2</deviceType>
<friendlyName>{key}</friendlyName><manufacturer>Streets works</manufacturer><modelName>{key}</modelName>
<UDN>uuid:{key}</UDN><deviceList><device>
<deviceType>urn:schemas-upnp-org:device:WANDevice:2</deviceType><friendlyName>WAN</friendlyName>
<deviceList><device><deviceType>urn:schemas-upnp-org:device:WANConnectionDevice:2</deviceType>
<serviceList><service><serviceType>{kind}</serviceType><serviceId>urn:upnp-org:serviceId:WANIPConn1</serviceId>
<controlURL>/control</controlURL><eventSubURL>/event</eventSubURL><SCPDURL>/service.xml</SCPDURL>
</service></serviceList></device></deviceList></device></deviceList></device></root>
"""


class ActionRefused(Exception):
    """The router's no, with its code."""

    def __init__(self, code: int, text: str) -> None:
        super().__init__(text)
        self.code, self.text = code, text


@dataclass
class IgdRouter:
    """The protocol side of one box. strict: it maps for the asking device only. mute: switched off."""

    town: Streets
    box: Box
    strict: bool = False
    mute: bool = False
    port: int = 49000
    subscribe: Callable[[Box, dict[str, str]], tuple[int, tuple[tuple[str, str], ...]]] | None = None

    def __post_init__(self) -> None:
        self.port_control = PortControl(self.town, self.box)
        self.box.udp[ssdp.PORT] = self.searched
        self.listen()

    def listen(self) -> None:
        self.box.tcp = {port: handler for port, handler in self.box.tcp.items() if port == 80}
        self.box.udp[natpmp.PORT] = self.port_control.answer
        if not self.mute:
            self.box.tcp[self.port] = self.serve
        else:
            del self.box.udp[natpmp.PORT]

    def restart(self) -> None:
        """The control port moves, and the mappings that programs made are lost."""
        self.port = 49000 + (self.port - 49000 + 137) % 1000
        self.box.rules = [rule for rule in self.box.rules if rule.owner == "page"]
        self.port_control.started = self.town.now()
        self.listen()

    # --- searching

    def searched(self, data: bytes, peer: Endpoint) -> bytes | None:
        del peer
        try:
            target = ssdp.parse_search(data)
        except WireError:
            return None
        if self.mute or target not in ANSWERED:
            return None
        location = f"http://{self.box.lan.ip}:{self.port}/description.xml"
        return ssdp.serialize_answer(location, target, f"uuid:{self.box.key}", "town/1 UPnP/1.1 works/1")

    # --- description and control

    async def serve(self, stream: ByteStream, peer: Endpoint) -> None:
        got = await read_request(stream)
        if got is None:
            return
        asked, body = got
        if asked.method == "GET" and asked.target == "/description.xml":
            page = DESCRIPTION.format(key=self.box.key, kind=KIND).encode()
            await self._send(stream, 200, page)
        elif asked.method == "POST" and asked.target == "/control":
            try:
                name, arguments = upnp.parse_action(body)
                await self._send(stream, 200, upnp.serialize_response(KIND, name, self._do(name, arguments, peer)))
            except ActionRefused as no:
                await self._send(stream, 500, upnp.serialize_fault(no.code, no.text))
            except WireError:
                await self._send(stream, 400, b"")
        elif asked.method in ("SUBSCRIBE", "UNSUBSCRIBE") and asked.target == "/event" and self.subscribe is not None:
            status, fields = self.subscribe(self.box, {"method": asked.method, **dict(asked.headers)})
            await self._send(stream, status, b"", fields)
        else:
            await self._send(stream, 404, b"")

    @staticmethod
    async def _send(stream: ByteStream, status: int, body: bytes, more: tuple[tuple[str, str], ...] = ()) -> None:
        fields = (("Content-Type", 'text/xml; charset="utf-8"'), ("Connection", "close"), *more)
        with anyio.move_on_after(10):
            await stream.send(
                head.serialize_response(status, "OK" if status == 200 else "No", "HTTP/1.1", fields, body)
            )

    def _do(self, name: str, given: dict[str, str], peer: Endpoint) -> list[tuple[str, str]]:
        actions: dict[str, Callable[[dict[str, str], Endpoint], list[tuple[str, str]]]] = {
            "GetExternalIPAddress": lambda _, __: [("NewExternalIPAddress", str(self.box.told_wan))],
            "GetStatusInfo": lambda _, __: [
                ("NewConnectionStatus", "Connected" if int(self.box.wan) else "Disconnected"),
                ("NewLastConnectionError", "ERROR_NONE"),
                ("NewUptime", "4711"),
            ],
            "AddPortMapping": self._add,
            "DeletePortMapping": self._delete,
            "GetGenericPortMappingEntry": self._generic,
            "GetSpecificPortMappingEntry": self._specific,
        }
        action = actions.get(name)
        if action is None:
            raise ActionRefused(401, "Invalid Action")
        try:
            return action(given, peer)
        except (KeyError, ValueError):
            raise ActionRefused(402, "Invalid Args") from None

    def _entries(self) -> list[tuple[str, Rule]]:
        """What programs are shown: one entry for each transport; rules with a network as source have no form here."""
        return [
            (transport, rule)
            for rule in self.box.live_rules(self.town.now())
            if rule.interface == "internet"  # another one has a service of its own
            if all(source.prefixlen == 32 for source in rule.sources)
            for transport in (("tcp", "udp") if rule.transport == "both" else (rule.transport,))
        ]

    @staticmethod
    def _key(given: dict[str, str]) -> tuple[str, int, str]:
        """Nonsense is accepted: a port beyond 65535 wraps around, a transport nobody knows becomes TCP."""
        transport = "udp" if given["NewProtocol"].upper() == "UDP" else "tcp"
        return transport, int(given["NewExternalPort"]) % 65536, given.get("NewRemoteHost", "")

    def _add(self, given: dict[str, str], peer: Endpoint) -> list[tuple[str, str]]:
        transport, port, source = self._key(given)
        if port == 0:
            raise ActionRefused(716, "WildCardNotPermittedInExtPort")
        target = IPv4Address(given["NewInternalClient"])
        if target not in self.box.lan.network or (self.strict and target != peer.address):
            raise ActionRefused(606 if target not in self.box.lan.network else 718, "ConflictInMappingEntry")
        asker = str(peer.address)
        for rule in self.box.live_rules(self.town.now()):
            same = rule.transport in (transport, "both") and rule.outside[0] <= port <= rule.outside[1]
            if same and (rule.owner == "page" or (rule.owner != asker and rule.target != target)):
                raise ActionRefused(718, "ConflictInMappingEntry")
        lease = int(given.get("NewLeaseDuration", "0"))
        lease = WEEK if lease <= 0 else min(lease, WEEK)
        inside = int(given["NewInternalPort"]) % 65536
        label = given.get("NewPortMappingDescription", "")
        label = label if len(label.encode()) <= LABEL_BYTES else label.encode()[:LABEL_BYTES].decode("latin-1") + "þ¿"
        fresh = Rule(label, transport, (port, port), target, (inside, inside), owner=asker)
        fresh.sources = (IPv4Network(f"{source}/32"),) if source else ()
        fresh.until = self.town.now() + timedelta(seconds=lease)
        for index, rule in enumerate(self.box.rules):
            if (rule.transport, rule.outside, rule.sources) == (transport, (port, port), fresh.sources):
                fresh.label = rule.label  # an entry that is added again keeps its old label
                self.box.rules[index] = fresh
                return []
        self.box.rules.append(fresh)
        return []

    def _delete(self, given: dict[str, str], peer: Endpoint) -> list[tuple[str, str]]:
        transport, port, _ = self._key(given)
        for rule in list(self.box.rules):
            if rule.transport == transport and rule.outside == (port, port):
                if self.strict and rule.target != peer.address:
                    raise ActionRefused(606, "Action not authorized")
                self.box.rules.remove(rule)
        return []  # one that is not there is fine too

    def _generic(self, given: dict[str, str], _: Endpoint) -> list[tuple[str, str]]:
        index, entries = int(given["NewPortMappingIndex"]), self._entries()
        if not 0 <= index < len(entries):
            raise ActionRefused(713, "SpecifiedArrayIndexInvalid")
        transport, rule = entries[index]
        source = str(rule.sources[0].network_address) if rule.sources else ""
        key = [("NewRemoteHost", source), ("NewExternalPort", str(rule.outside[0])), ("NewProtocol", transport.upper())]
        return [*key, *self._told(rule, rule.outside[0])]

    def _specific(self, given: dict[str, str], _: Endpoint) -> list[tuple[str, str]]:
        transport, port, __ = self._key(given)
        for spoken, rule in self._entries():
            if spoken == transport and rule.outside[0] <= port <= rule.outside[1]:
                return self._told(rule, port)
        raise ActionRefused(714, "NoSuchEntryInArray")

    def _told(self, rule: Rule, port: int) -> list[tuple[str, str]]:
        left = _left(rule, self.town.now())
        return [
            ("NewInternalPort", str(rule.translated(port))),
            ("NewInternalClient", str(rule.target)),
            ("NewEnabled", "1" if rule.enabled else "0"),
            ("NewPortMappingDescription", rule.label),
            ("NewLeaseDuration", str(left)),
        ]


def _left(rule: Rule, now: datetime) -> int:
    return max(1, round((rule.until - now).total_seconds())) if rule.until is not None else 0


@dataclass
class PortControl:
    """NAT-PMP (RFC 6886) and PCP (RFC 6887) of one box."""

    town: Streets
    box: Box
    started: datetime = field(init=False)

    def __post_init__(self) -> None:
        self.started = self.town.now()

    def answer(self, data: bytes, peer: Endpoint) -> bytes | None:
        """Which of the two it is, the first byte says (RFC 6887 section 9)."""
        epoch = round((self.town.now() - self.started).total_seconds())
        if data[:1] == bytes([natpmp.VERSION]):
            return self._natpmp(data, epoch)
        return self._pcp(data, peer, epoch)

    def _natpmp(self, data: bytes, epoch: int) -> bytes | None:
        try:
            asked = natpmp.NatPmpRequest.parse(data)
        except WireError:
            return None
        if asked.opcode != natpmp.ADDRESS:
            return natpmp.NatPmpResponse(asked.opcode, 2, epoch, None, asked.inside_port).serialize()
        result = natpmp.SUCCESS if int(self.box.wan) else natpmp.NETWORK_FAILURE
        return natpmp.NatPmpResponse(natpmp.ADDRESS, result, epoch, self.box.told_wan).serialize()

    def _pcp(self, data: bytes, peer: Endpoint, epoch: int) -> bytes | None:
        try:
            asked = pcp.PcpRequest.parse(data)
        except WireError as exc:
            if exc.field == "version" and len(data) >= 2 and not data[1] & pcp.ANSWER:
                return pcp.PcpResponse(data[1], pcp.UNSUPP_VERSION, 1800, epoch).serialize()
            return None
        result = pcp.SUCCESS if asked.opcode == pcp.ANNOUNCE else pcp.NOT_AUTHORIZED
        if asked.opcode not in (pcp.ANNOUNCE, pcp.MAP):
            result = pcp.UNSUPP_OPCODE
        if asked.client != peer.address:
            result = pcp.ADDRESS_MISMATCH
        return pcp.PcpResponse(asked.opcode, result, 0 if result == pcp.SUCCESS else 1800, epoch).serialize()
