"""Whatever the site file and the rule tables: what plan, audit and check call reachable is what a packet reaches."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date
from ipaddress import IPv4Address
from pathlib import Path

import anyio
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.check.checking import check_services
from hooper.check.wish import Outcome, Wish
from hooper.errors import HooperError
from hooper.jsonform import plain
from hooper.lab import devices
from hooper.lab.router_pages import type_sheets
from hooper.lab.switchboard import Switchboard
from hooper.line.sources import Given
from hooper.net.lab_door import LabAddress, LabDoor
from hooper.net.types import Door
from hooper.planning.audit import audit
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.unfolded import side_doors
from hooper.planning.worksheet import make_sheets
from support.sites import site
from support.virtual import VirtualClock, run_virtually

PUBLIC = "203.0.113.44"
PUBLIC_ADDRESS = IPv4Address(PUBLIC)
HOSTS = {"film-box": "10.44.7.30", "hub": "10.44.7.50"}
INSIDE, OUTSIDE = range(1, 16), range(1, 60)
HEAD = f"""\
version = 1
[lines.fibre]
address = "{PUBLIC}"
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
[gateways.club-router]
behind = "fibre-box"
wan = "192.168.90.2"
lan = "10.44.7.1/24"
"""
Reached = tuple[str, int]  # a host, and a port there


@dataclass
class Drawn:
    """A site, the ports of each service, and the rules that somebody has taken out: gateway and service."""

    text: str
    ports: dict[str, tuple[str, range]]
    public: frozenset[str]
    lost: frozenset[tuple[str, str]]


@st.composite
def sites(draw: st.DrawFn) -> Drawn:
    text = HEAD + "".join(f'[hosts.{key}]\naddress = "{address}"\n' for key, address in HOSTS.items())
    ports, public = {}, set()
    for number in range(draw(st.integers(1, 5))):
        key, host = f"s{number}", draw(st.sampled_from(sorted(HOSTS)))
        first, size = draw(st.integers(1, 9)), draw(st.integers(1, 4))
        ports[key] = host, range(first, first + size)
        text += f'[services.{key}]\nhost = "{host}"\nspeaks = "http"\nport = "{first}-{first + size - 1}"\n'
        if draw(st.integers(0, 2)):
            public.add(key)
            text += 'reach = "public"\n'
            shift = draw(st.sampled_from([None, 0, 20, 30]))
            text += f'outside_port = "{first + shift}-{first + shift + size - 1}"\n' if shift is not None else ""
        else:
            text += 'reach = "lan"\n'
    lost = draw(st.sets(st.tuples(st.sampled_from(["fibre-box", "club-router"]), st.sampled_from(sorted(ports)))))
    return Drawn(text, ports, frozenset(public), frozenset(lost) if draw(st.booleans()) else frozenset())


async def reached(phone: Door, port: int) -> Reached | None:
    """Who answers a packet to that port, by what it says."""
    try:
        with anyio.fail_after(5):
            stream = await phone.connect(PUBLIC_ADDRESS, port)
    except (HooperError, TimeoutError):
        return None
    with anyio.fail_after(5):
        await stream.send(b"GET / HTTP/1.0\r\n\r\n")
        said = b""
        while b"</title>" not in said:
            said += await stream.receive()
    await stream.aclose()
    host, _, inside = said.split(b"<title>")[1].split(b"</title>")[0].decode().partition(" ")
    return host, int(inside)


async def looked(drawn: Drawn) -> tuple[Outcome, Mapping[int, Reached | None]]:
    """What check says, and what packets do, in a town where both devices answer at all these ports."""
    board = Switchboard(clock=VirtualClock())
    for key in HOSTS:
        board.town.nodes[key].tcp = {port: devices.web(f"{key} {port}", "x") for port in INSIDE}
    board.town.boxes["fibre-box"].blocked.clear()
    file = site(drawn.text)
    topology, made = Topology(file.site), make_plan(file, date(2026, 5, 1))
    sheets = plain(make_sheets(topology, made))
    for sheet in sheets:
        sheet["rules"] = [rule for rule in sheet["rules"] if (sheet["gateway"], rule["service"]) not in drawn.lost]
    type_sheets(board.town, sheets)
    async with anyio.create_task_group() as tasks:
        address = LabAddress(await tasks.start(board.serve), board.token, Path())
        here = await LabDoor.open(address)
        doors = tuple(side_doors(topology, made.forwards))
        known = Given({"fibre": PUBLIC_ADDRESS})
        wish = Wish(topology, sorted(drawn.ports), 2.0, known, by_number=True, doors=doors)
        outcome = await check_services(here, wish, here.through("usb0"))
        ports = {*OUTSIDE, *(rule.outside_ports[0] for rule in made.forwards if rule.outside_ports)}
        ports |= {port + step for port in ports for step in range(4)}
        packets = {port: await reached(here.through("usb0"), port) for port in sorted(ports)}
        tasks.cancel_scope.cancel()
    return outcome, packets


@settings(max_examples=30)
@given(sites())
def test_what_is_called_reachable_is_what_a_packet_reaches(drawn: Drawn) -> None:
    outcome, packets = run_virtually(looked, drawn)
    file = site(drawn.text)
    topology = Topology(file.site)
    made = make_plan(file, date(2026, 5, 1))
    seen = {
        key
        for key, (host, ports) in drawn.ports.items()
        if any(end is not None and end[0] == host and end[1] in ports for end in packets.values())
    }
    said = {row.service for row in audit(topology, made, date(2026, 5, 1)).exposed}
    if drawn.lost:
        assert seen <= said
    else:
        assert seen == said
    refused = {one.subject.removeprefix("services.") for one in made.findings if one.severity == "error"}
    for result in outcome.results:
        host, ports = drawn.ports[result.service]
        end = packets.get(result.port)
        arrives = end is not None and end[0] == host and end[1] in ports
        if result.expected == "reachable":
            assert result.ok == arrives, (result, end)
        else:
            assert not (result.ok and arrives), (result, end)
    checked = {result.service for result in outcome.results if not result.ok}
    assert seen - drawn.public <= checked | refused, "what is open and should not be is never called well"
