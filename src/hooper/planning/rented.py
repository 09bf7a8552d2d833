"""A rented machine that stands for a site whose line has no public address, as one edit of the site file. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from ipaddress import IPv4Address
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.errors import UsageError
from hooper.planning.documents import ChangedKey
from hooper.planning.edits import Edited, add, again, change
from hooper.planning.free_addresses import free_prefix
from hooper.planning.paths import gateway_of
from hooper.site.edit import Value

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


def add_rented(
    file: SiteFile, key: str, address: IPv4Address, end: str, keys: Mapping[str, Value], seed: bytes
) -> Edited:
    """The machine as a line, a gateway and the tunnel to it; the host at home that reaches out to it, as a gateway too.

    Args: key: of the tunnel. address: of the machine. end: the host. keys: the public ones of the tunnel and of its
    peer. seed: by chance. Public services of hosts on the end's LAN, and the names of their line, go by it then.
    Raises: UsageError, CannotEdit.
    """
    site = file.site
    if end not in site.hosts:
        raise UsageError(f"{end} is no host of this site", remedy="Name the host at home that is to reach out.")
    machine, inner, peer = f"{key}-machine", f"{key}-end", f"{key}-end"
    taken = {machine, inner} & {*site.devices, *site.lines, *site.peers}
    if key in site.tunnels or key in site.services or taken:
        raise UsageError(f"there is something called {key} already", remedy="Choose another name.")
    home = gateway_of(site, site.hosts[end])
    lan, subnet = site.gateways[home].lan.network, free_prefix(site, 24, seed)
    old = {line for entry in site.gateways.values() for line in entry.line}
    changes: list[ChangedKey] = []

    def put(table: str, name: str, rows: dict[str, Value]) -> None:
        nonlocal file
        made = change(file, table, name, rows) if name in getattr(file.site, table) else add(file, table, name, rows)
        changes.extend(replace(one, key=f"{table}.{name}.{one.key}") for one in made.changes)
        file = replace(file, text=made.text)

    put("lines", machine, {"address": str(address)})
    outer: dict[str, Value] = {"line": machine, "lan": f"{subnet[1]}/24", "tunnel": key, "control": "hand"}
    put("gateways", machine, {**outer, "form": {"sources": True}})
    own = f"{site.hosts[end].address}/{lan.prefixlen}"
    put("gateways", inner, {"behind": machine, "wan": str(subnet[2]), "lan": own, "control": "hand"})
    put("services", key, {"host": machine, "speaks": "wireguard", "reach": "public"})
    put("tunnels", key, {"kind": "wireguard", "service": key, "subnet": str(subnet), "way_back": "nat",
                         **{name: value for name, value in keys.items() if name != "peer"}})  # fmt: skip
    put("peers", peer, {"tunnel": key, "device": "server", "address": str(subnet[2]),
                        **({"public_key": keys["peer"]} if "peer" in keys else {})})  # fmt: skip
    exposed = {service.host for service in site.services.values() if service.reach == "public"}
    for name, host in site.hosts.items():
        if host.address in lan and gateway_of(site, host) == home:
            put("hosts", name, {"behind": inner if name in exposed else home})
    for name, entry in site.names.items():
        if entry.line in old:
            put("names", name, {"line": machine})
    again(file, file.text)
    follows = (
        f"on {machine} and on {end}: the files that `{deeds.MAKE_TUNNEL(key)}` writes, and its file, which"
        f" `{deeds.HAND_FILE(peer, f'{peer}.conf')}` gives {end}",
        f"at the firewall of who rents {machine} out: let UDP 51820 in, and the ports of the plan",
        f"the names of this site: they lead to that machine from now on; `{deeds.PUBLISH}` tells who keeps them",
        *_kept_elsewhere(file, old),
    )
    return Edited(file.text, "added", f"tunnels.{key}", tuple(changes), follows)


def _kept_elsewhere(file: SiteFile, lines: set[str]) -> Iterator[str]:
    """Names that a router or device keeps: it would go on writing the line's own address."""
    for name, entry in file.site.names.items():
        if entry.line in lines and entry.updated_by in ("router", "device"):
            yield (
                f"{name}: the {entry.updated_by} keeps it, and would write the line's own address: switch that off"
                " there, and set it to the machine's address where it is registered"
            )
