"""Which rules let a port in to this computer for a while: those of the plan, with this computer at their end. Pure."""

from __future__ import annotations

import random
from collections.abc import Iterable
from dataclasses import replace
from datetime import date
from ipaddress import IPv4Address
from typing import NamedTuple

from hooper.planning.free_ports import transports
from hooper.planning.plan import gather
from hooper.planning.topology import Topology
from hooper.planning.values import EVERYTHING, Forward
from hooper.ports import blocking, single
from hooper.site.load import SiteFile
from hooper.site.model import Host, Service, Site

HERE = "(this computer)"  # no key of a site file is written so
FREE = range(40_000, 49_152)  # of the registered ports, those that hardly anything uses; dynamic ones begin at 49152


class Temporary(NamedTuple):
    """The rules that let one port in.

    line: by which line. outside_port: on its public address. standing: rules of the plan that serve as they are. new:
    those that are needed for a while, outermost gateway first.
    """

    line: str
    outside_port: int
    standing: tuple[Forward, ...]
    new: tuple[Forward, ...]


def with_this_machine(
    file: SiteFile, own: IPv4Address, service: str | None, transport: str, inside: int, outside: int | None
) -> tuple[SiteFile, str]:
    """The site with this computer in place of a service's host, or with one service more, and the key of that.

    inside: the port here. outside: on the public address; None: as the service has it.
    """
    site = file.site
    port = single(inside)
    if service is None:
        assert outside is not None
        key = HERE
        entry = Service.model_construct(
            host=HERE, transport=transport, port=port, reach="public", outside_port=single(outside), family="ipv4"
        )
    else:
        key, old = service, site.services[service]
        chosen = single(outside if outside is not None else (old.outside_port or old.used_ports).first)
        change = {"host": HERE, "transport": transport, "port": port, "reach": "public", "outside_port": chosen}
        entry = Service.model_construct(**{**dict(old), **change, "family": "ipv4"})
    host = Host.model_construct(address=own)
    parts = {name: getattr(site, name) for name in Site.model_fields}
    parts["hosts"] = {**site.hosts, HERE: host}
    parts["services"] = {**site.services, key: entry}
    return replace(file, site=Site.model_construct(**parts)), key


def temporary(
    file: SiteFile,
    today: date,
    own: IPv4Address,
    *,
    service: str | None,
    transport: str,
    inside: int,
    outside: int | None,
    planned: Iterable[Forward],
) -> Temporary | None:
    """The rules for one port; None: there is no way in to this computer.

    Args: own: this computer's address. service: whose place it takes; None: nobody's, then `outside` is given. inside:
    the port here. planned: the forwards of the plan.
    """
    other, key = with_this_machine(file, own, service, transport, inside, outside)
    topology = Topology(other.site)
    if key not in topology.ways:
        return None
    rules = [rule for rule in gather(other, today, topology).forwards if rule.service == key]
    known = [rule for rule in planned if rule.kind == "forward"]
    standing = tuple(rule for rule in rules if any(serves(old, rule) for old in known))
    new = tuple(rule for rule in rules if rule not in standing)
    ports = topology.outside_ports[key]
    return Temporary(topology.lines[key], ports.first, standing, new)


def serves(old: Forward, wanted: Forward) -> bool:
    """Whether a rule that is planned sends the packets of another one to the same place."""
    a, b = old.outside_ports, wanted.outside_ports
    if a is None or b is None or old.target_ports is None or wanted.target_ports is None:
        return False
    at_it = old.gateway == wanted.gateway and old.service != EVERYTHING and a.first <= b.first and b.last <= a.last
    takes = set(transports(wanted.transport)) <= set(transports(old.transport))
    for_all = not old.sources or (bool(wanted.sources) and set(wanted.sources) <= set(old.sources))
    inside = old.target_ports.first + b.first - a.first
    leads = (old.target_address, inside) == (wanted.target_address, wanted.target_ports.first)
    return at_it and takes and for_all and leads


def free_ports(site: Site, line: str, transport: str, planned: Iterable[Forward], count: int = 1) -> list[int]:
    """Outside ports that no rule of the plan has and that the provider is not known to drop, at random."""
    taken = [rule.outside_ports for rule in planned if rule.outside_ports is not None and rule.service != EVERYTHING]
    blocked = site.lines[line].blocked
    free = [
        port
        for port in FREE
        if not any(ports.first <= port <= ports.last for ports in taken)
        and blocking(blocked, transport, single(port)) is None
    ]
    return random.sample(free, min(count, len(free)))
