"""What a person does by hand in the town: at the routers' pages, and at the machines of a tunnel."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from hooper.errors import UsageError
from hooper.lab.boathouse import PHONE, PHONE6
from hooper.lab.gate import Client
from hooper.lab.openvpn_server import OpenVpnServer, is_openvpn
from hooper.lab.ssh_forwards import SshClient, SshServer, is_config, is_keys
from hooper.lab.tables import read_tables, type_sheets
from hooper.lab.things import Attachment, made_up_mac
from hooper.lab.town import Town
from hooper.site.words import chosen


def _load(town: Town, asked: Mapping[str, Any]) -> dict[str, Any]:
    """Put a tunnel's files onto the gate, or a profile onto another machine. Raises: UsageError."""
    place, name, conf = str(asked["on"]), str(asked["name"]), str(asked.get("conf") or "")
    node = town.nodes.get(place)
    if node is None:
        raise UsageError(f"the town has no machine {place!r}", remedy="Name gate, phone, rented or here.")
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
        peers = town.gate.load(conf, str(asked.get("rules") or ""))
        return {"on": place, "interface": name, "peers": len(peers)}
    return {"on": place, "interface": Client.load(town, node, name, conf).name, "peers": 1}


def _dump(town: Town, _: Mapping[str, Any]) -> dict[str, Any]:
    """What the gate's software tells of its peers."""
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


HANDS: dict[str, Callable[[Town, Mapping[str, Any]], dict[str, Any]]] = {
    "type": lambda town, asked: {"entered": type_sheets(town, asked["sheets"])},
    "read": lambda town, asked: {"gateways": read_tables(town, asked.get("gateways") or [])},
    "load": _load,
    "dump": _dump,
    "roam": _roam,
}
