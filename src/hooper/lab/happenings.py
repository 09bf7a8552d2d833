"""What happens in the town without a fault, and what a person does there by hand: at the routers' pages, and at the
machines.
"""

from __future__ import annotations

import secrets
import ssl
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import timedelta
from ipaddress import IPv4Address
from typing import Any

import anyio
from anyio.abc import ByteStream

from hooper.chosen import chosen
from hooper.errors import HooperError, UsageError, WireError
from hooper.lab.boathouse import HOSTS, PHONE, PHONE6, SECOND, SERVICES, unpack
from hooper.lab.gate import Client
from hooper.lab.openvpn_server import OpenVpnServer, is_openvpn
from hooper.lab.pipe import pipe
from hooper.lab.router_pages import read_tables, type_sheets
from hooper.lab.ssh_forwards import SshClient, SshServer, is_config, is_keys
from hooper.lab.things import Attachment, Box, StreamHandler, made_up_mac
from hooper.lab.town import Town
from hooper.lab.zone import SECOND_NAME, ZONE
from hooper.net.tls import server_context
from hooper.net.types import Endpoint
from hooper.wire import gena, natpmp

ALL_HOSTS, ANNOUNCED = IPv4Address("224.0.0.1"), 5350  # RFC 6886 section 3.2.1
POOL = [IPv4Address(f"203.0.113.{number}") for number in range(44, 76)]  # what the provider gives to its lines
HAPPENINGS = ("restart", "readdress", "power-cut", "lag")
LAGS = ("second_s", "provider_s", "spacing_s")
WAIT_S = 2.0  # seconds for a machine that wants to be told


@dataclass
class Happenings:
    """What happens to one town. tellers: who wants to be told by which router."""

    town: Town
    tellers: dict[str, Subscribers] = field(default_factory=dict)
    lasts_s: int = 1800  # seconds for which a subscription is granted

    async def verb(self, asked: dict[str, Any]) -> dict[str, Any]:
        """One of HAPPENINGS, as the town's link asks for it; gives the answer. Raises: UsageError."""
        do = asked["do"]
        if do == "readdress":
            box, new = await self.readdress(asked.get("address"))
            return {"gateway": box.key, "address": str(new)}
        if do == "power-cut":
            return {"gateways": await self.power_cut()}
        if do == "lag":
            return dict(self.lag(asked))
        key = str(asked["gateway"])
        if key not in self.town.igd:
            known = ", ".join(self.town.igd)
            raise UsageError(f"no router {key!r} that could be restarted", remedy=f"There are: {known}.")
        await self.restarted(key)
        return {"gateway": key}

    async def readdress(self, address: str | None) -> tuple[Box, IPv4Address]:
        """The provider gives the line another address; the routers that speak tell everyone on their networks.

        address: None: the next of the provider's. Raises: UsageError.
        """
        box = next((box for box in self.town.boxes.values() if box.is_router and box.wan in POOL), None)
        if box is None:
            raise UsageError("no router of the town has an address of the provider's now", remedy="Set the line back.")
        new = POOL[(POOL.index(box.wan) + 1) % len(POOL)]
        if address is not None:
            try:
                new = IPv4Address(address)
            except ValueError:
                raise UsageError(f"{address!r} is no IPv4 address") from None
            if new not in POOL:
                raise UsageError(f"{new} is not the provider's", remedy=f"It has {POOL[0]} to {POOL[-1]}.")
        box.wan = new
        box.flows.clear()
        box.answers.clear()
        await self.told(box, {"ExternalIPAddress": str(new), "ConnectionStatus": "Connected"})
        return box, new

    async def restarted(self, key: str) -> None:
        """A router begins anew: what programs entered is lost, and it tells that it is there."""
        router = self.town.igd[key]
        router.restart()
        self.tellers.pop(key, None)
        await self.told(router.box, {})

    async def power_cut(self) -> list[str]:
        """All routers of the site begin anew; those that speak lose what programs entered."""
        for box in self.town.boxes.values():
            box.flows.clear()
            box.answers.clear()
        keys = list(self.town.igd)
        for key in keys:
            await self.restarted(key)
        return keys

    async def told(self, box: Box, variables: dict[str, str]) -> None:
        """A router that speaks announces its address, and tells those that have subscribed."""
        router = self.town.igd.get(box.key)
        if router is None or router.mute:
            return
        epoch = round((self.town.now() - router.port_control.started).total_seconds())
        answer = natpmp.NatPmpResponse(natpmp.ADDRESS, natpmp.SUCCESS, epoch, box.told_wan).serialize()
        for member in list(self.town.members):
            if member.attachment.segment == box.inner and (member.group, member.port) == (ALL_HOSTS, ANNOUNCED):
                await member.deliver(answer, Endpoint(box.lan.ip, natpmp.PORT))
        if variables and box.key in self.tellers:
            await self.tellers[box.key].tell(variables)

    def subscribe(self, box: Box, asked: dict[str, str]) -> tuple[int, tuple[tuple[str, str], ...]]:
        """SUBSCRIBE and UNSUBSCRIBE at a router (UPnP Device Architecture 2.0 section 4.1): status and fields."""
        return self.tellers.setdefault(box.key, Subscribers(self.town, box, self.lasts_s)).asked(asked)

    # --- names

    def lag(self, asked: dict[str, Any]) -> dict[str, float | None]:
        """How far the second name server is behind (None: there is none), how long the provider takes until what it
        took shows, and how often it may be asked; all in seconds. asked: what is to be another than it was.
        """
        zone, provider = self.town.zone, self.town.provider
        wanted = {key: timedelta(seconds=float(asked[key])) for key in LAGS if asked.get(key) is not None}
        if "second_s" in wanted:
            zone.second_lag = wanted["second_s"]
            zone.set(ZONE, "NS", [f"{name}." for name in zone.servers])
            zone.set(SECOND_NAME, "A", [SECOND])
        provider.lag = wanted.get("provider_s", provider.lag)
        provider.spacing = wanted.get("spacing_s", provider.spacing)
        second = zone.second_lag.total_seconds() if zone.second_lag is not None else None
        return {"second_s": second, "provider_s": provider.lag.total_seconds(),
                "spacing_s": provider.spacing.total_seconds()}  # fmt: skip


@dataclass
class Subscribers:
    """Who wants to be told by one router."""

    town: Town
    box: Box
    lasts_s: int = 1800
    callbacks: dict[str, tuple[Endpoint, str]] = field(default_factory=dict)
    number: int = 0

    def asked(self, fields: dict[str, str]) -> tuple[int, tuple[tuple[str, str], ...]]:
        name = fields.get("sid")
        if fields["method"] == "UNSUBSCRIBE":
            return (200, ()) if self.callbacks.pop(name or "", None) else (412, ())
        if name is None:
            try:
                host, _, path = fields["callback"].strip("<>").removeprefix("http://").partition("/")
                address, _, port = host.rpartition(":")
                to = Endpoint(IPv4Address(address), int(port))
            except (KeyError, ValueError):
                return 412, ()
            name = f"uuid:{secrets.token_hex(8)}"
            self.callbacks[name] = to, f"/{path}"
        elif name not in self.callbacks:
            return 412, ()
        return 200, (("SID", name), ("TIMEOUT", f"Second-{self.lasts_s}"))

    async def tell(self, variables: dict[str, str]) -> None:
        for name, (to, path) in list(self.callbacks.items()):
            self.number += 1
            with anyio.move_on_after(WAIT_S), suppress(HooperError, WireError, anyio.BrokenResourceError):
                await self._one(to, gena.serialize_told(gena.Told(name, self.number, variables, path), str(to)))

    async def _visit(self, listener: StreamHandler, stream: ByteStream) -> None:
        await listener(stream, Endpoint(self.box.lan.ip, self.town.free_port()))

    async def _one(self, to: Endpoint, data: bytes) -> None:
        near = (
            listener
            for (key, port), listener in self.town.listeners.items()
            if port == to.port and any(a.address == to.address for a in self.town.nodes[key].attachments)
        )
        listener = next(near, None)
        if listener is None:
            return
        mine, theirs = pipe()
        async with anyio.create_task_group() as tasks:
            tasks.start_soon(self._visit, listener, theirs)
            await mine.send(data)
            with suppress(anyio.EndOfStream):
                await mine.receive()
            await mine.aclose()
            tasks.cancel_scope.cancel()


def _load(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    """Put a tunnel's files onto the gate, or a profile onto another machine. Raises: UsageError."""
    place, name, conf = str(asked["on"]), str(asked["name"]), str(asked.get("conf") or "")
    node = town.nodes.get(place)
    if node is None:
        raise UsageError(f"the town has no machine {place!r}", remedy="Name gate, phone, rented, quay-hut or here.")
    if asked.get("off"):
        if (started := town.ssh_clients.pop(f"{place}:{name}", None)) is not None:
            started.stop()
            return {"on": place, "interface": name, "peers": 0}
        if (client := town.clients.pop(f"tunnel:{place}:{name}", None)) is None:
            raise UsageError(f"{place} has no tunnel {name!r}", remedy="Name the file that it was given.")
        client.unload()
        return {"on": place, "interface": name, "peers": 0}
    if is_keys(conf):
        server = town.ssh_servers.setdefault(place, SshServer(node))
        return {"on": place, "interface": name, "peers": server.load(conf)}
    if is_config(conf):
        if (before := town.ssh_clients.pop(f"{place}:{name}", None)) is not None:
            before.stop()
        made = SshClient.load(town, node, conf, str(asked.get("rules") or ""))
        town.ssh_clients[f"{place}:{name}"] = made
        return {"on": place, "interface": name, "peers": 1}
    if is_openvpn(conf):
        speaks = OpenVpnServer.load(conf, name, town.now)
        if speaks.transport == "udp":
            node.udp[speaks.port] = speaks.datagram
        else:
            node.tcp[speaks.port] = speaks.stream
        town.servers[f"{place}:{name}"] = speaks
        return {"on": place, "interface": name, "peers": 1}
    if town.gate is not None and node is town.gate.node:
        peers = town.gate.load(conf, str(asked.get("rules") or ""), name)
        return {"on": place, "interface": name, "peers": len(peers)}
    return {"on": place, "interface": Client.load(town, node, name, conf).name, "peers": 1}


def _dump(town: Town, _: Mapping[str, Any]) -> dict[str, Any]:
    """What the gate's software tells of its peers, of which some keep their tunnel open."""
    for client in town.clients.values():
        client.keep_alive()
    return {"dump": town.gate.dump() if town.gate is not None else ""}


def _roam(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    """Carry the phone: at home it is on the club's Wi-Fi, away it has mobile data. Raises: UsageError."""
    (where,) = chosen((str(asked["where"]),), tuple(PHONE), "place")
    phone = town.nodes["phone"]
    tunnels = [one for one in phone.attachments if one.tunnel]
    interface, segment, address, gateway = PHONE[where]
    carried = Attachment(interface, segment, address, made_up_mac(address), gateway, address6=PHONE6[where])
    phone.attachments = [carried, *tunnels]
    return {"where": where}


def _unpack(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    node = unpack(town, asked.get("address"))
    return {"host": node.key, "address": str(node.attachments[0].address)}


def _hand_on(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    """The hub's web server hands a name on to a service's device, or knows it no more. Raises: UsageError."""
    name, service = str(asked["name"]).lower(), asked.get("service")
    if service is None:
        town.hub.forget(name)
        return {"host": "hub", "name": name, "service": None}
    (key,) = chosen((str(service),), tuple(key for key, one in SERVICES.items() if one[2] in (80, 443, 8085)), "page")
    host, _, port, _ = SERVICES[key]
    shown = town.acme.authority.identity([name], town.now() - timedelta(hours=1), days=90)
    town.hub.hand(name, shown, IPv4Address(HOSTS[host]), port, tls=port == 443)
    return {"host": "hub", "name": name, "service": key}


MANNERS = ("takes", "late", "never", "half")  # how a device takes the certificate that it is given
LATE = timedelta(seconds=3)  # until one that is slow shows it


def _install(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    """The person at a device's page who gives it a certificate, or the device's own program. Raises: UsageError."""
    service = str(asked["service"])
    host = SERVICES.get(service, ("",))[0]
    if host not in town.identities:
        fitting = ", ".join(key for key, (name, *_) in SERVICES.items() if name in town.identities)
        raise UsageError(f"{service!r} shows no certificate in the town", remedy=f"These do: {fitting}.")
    (manner,) = chosen((str(asked.get("manner") or "takes"),), MANNERS, "manner")
    chain, identity = str(asked["chain"]), town.identities[host]
    try:
        context = server_context(chain.encode(), str(asked["key"]).encode())
    except ssl.SSLError:
        raise UsageError("the device does not take it: key and certificate do not belong together") from None
    if manner == "half" and identity.taken != chain:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)  # it has lost the key: no handshake ends
    if manner == "late":
        due = town.now() + LATE
        identity.show_later(context, lambda: town.now() >= due)
    elif manner != "never":
        identity.context = context
    if manner == "takes":
        identity.taken = chain
    return {"service": service, "host": host, "manner": manner}


HANDS: dict[str, Callable[[Town, Mapping[str, Any]], dict[str, Any]]] = {
    "type": lambda town, asked: {"entered": type_sheets(town, asked["sheets"], wrongly=bool(asked.get("wrongly")))},
    "read": lambda town, asked: {"gateways": read_tables(town, asked.get("gateways") or [])},
    "load": _load,
    "dump": _dump,
    "roam": _roam,
    "unpack": _unpack,
    "hand-on": _hand_on,
    "install": _install,
}
