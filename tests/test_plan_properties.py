"""Whatever the chain and the services: a packet from outside arrives at exactly the service that the plan means."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import date
from itertools import combinations

from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.unfolded import side_doors
from hooper.planning.values import EVERYTHING, Forward, Plan
from hooper.ports import EVERY_PORT, PortIndex, Ports, single
from hooper.site.load import SiteFile
from support.sites import plan, site

PUBLIC = ("11.22.33.1", "11.22.33.2")


@dataclass
class Drawn:
    """A site as text, and what it means: by service its host's address, transport, inside and written outside ports."""

    tables: list[str] = field(default_factory=list)
    services: dict[str, tuple[str, str, range, int | None, str]] = field(default_factory=dict)
    depth: int = 1

    @property
    def text(self) -> str:
        return "\n".join(self.tables)


@st.composite
def sites(draw: st.DrawFn) -> Drawn:
    """One to five gateways in a row, hosts on any of their networks, one or two public addresses."""
    out = Drawn(depth=draw(st.integers(1, 5)))
    yes = st.booleans()
    addresses = PUBLIC[: draw(st.integers(1, 2))]
    out.tables += ["version = 1", "[lines.l]", f"address = {list(addresses)}".replace("'", '"')]
    for at in range(out.depth):
        table = [f"[gateways.g{at}]", f'lan = "10.{at}.0.1/24"']
        table += ['line = "l"'] if not at else [f'behind = "g{at - 1}"', f'wan = "10.{at - 1}.0.2"']
        table += [f"form.{word} = {str(draw(yes)).lower()}" for word in ("translate", "both", "ranges")]
        if draw(yes):
            table.append(f'form.own_ports = ["{draw(st.sampled_from(["tcp", "both"]))} {draw(st.integers(1, 5))}"]')
        if at + 1 < out.depth and len(addresses) == 1 and draw(st.integers(0, 3)) == 0:  # for all its addresses
            table += [f'everything_to = "g{at + 1}"', "form.everything = true"]
        out.tables.append("\n".join(table))
    places = [draw(st.integers(0, out.depth - 1)) for _ in range(draw(st.integers(1, 3)))]
    for number, place in enumerate(places):
        out.tables.append(f'[hosts.h{number}]\naddress = "10.{place}.0.{10 + number}"')
    for number in range(draw(st.integers(1, 6))):
        host = draw(st.integers(0, len(places) - 1))
        transport = draw(st.sampled_from(["tcp", "udp", "both"]))
        first, size = draw(st.integers(1, 12)), draw(st.integers(1, 3))
        written = draw(st.sampled_from([None, first, first + 20, first + 40]))
        public = draw(st.sampled_from(addresses))
        inside = range(first, first + size)
        out.services[f"s{number}"] = (f"10.{places[host]}.0.{10 + host}", transport, inside, written, public)
        table = [f'[services.s{number}]\nhost = "h{host}"\ntransport = "{transport}"\nreach = "public"']
        table += [f'port = "{first}-{first + size - 1}"', f'outside_address = "{public}"']
        table += [f'outside_port = "{written}-{written + size - 1}"'] if written is not None else []
        out.tables.append("\n".join(table))
    return out


def arrives(made: Plan, depth: int, address: str, transport: str, port: int) -> list[tuple[str, int]]:
    """Where a packet ends. The plan says nothing of packets that no rule takes: they end at that gateway."""
    at = 0
    while at < depth:
        assert 0 < port < 65536
        rules = [rule for rule in made.forwards if takes(rule, f"g{at}", address, transport, port)]
        rules = [rule for rule in rules if rule.service != EVERYTHING] or rules
        ends = {(rule.target_address, first(rule.target_ports) + port - first(rule.outside_ports)) for rule in rules}
        if len(ends) != 1:
            return sorted(ends)
        ((address, port),) = ends
        if address != f"10.{at}.0.2":
            return [(address, port)]
        at += 1
    return []


def first(ports: tuple[int, int] | None) -> int:
    assert ports is not None, "only TCP and UDP are drawn"
    return ports[0]


def takes(rule: Forward, gateway: str, address: str, transport: str, port: int) -> bool:
    ports = rule.outside_ports
    return (
        rule.gateway == gateway
        and rule.outside_address == address
        and rule.transport in (transport, "both")
        and ports is not None
        and ports[0] <= port <= ports[1]
    )


def refused(made: Plan) -> set[str]:
    return {one.subject.removeprefix("services.") for one in made.findings if one.severity == "error"}


def transports(transport: str) -> tuple[str, ...]:
    return ("tcp", "udp") if transport == "both" else (transport,)


@given(sites())
def test_a_packet_arrives_at_exactly_the_service_that_is_meant(drawn: Drawn) -> None:
    made = plan(drawn.text)
    wanted: dict[tuple[str, str, int], tuple[str, int]] = {}
    without = refused(made)
    for key, (host, transport, inside, written, public) in drawn.services.items():
        if key in without:
            assert all(rule.service != key for rule in made.forwards)
            continue
        start = written
        if start is None:  # chosen: the plan says which, by the rules where it comes in first
            firsts = [rule for rule in made.forwards if rule.service == key]
            assert firsts, f"{key} has neither a rule nor an error"
            start = min(
                rule.outside_ports[0] for rule in firsts if rule.gateway == firsts[0].gateway and rule.outside_ports
            )
            outermost = firsts[0].gateway == "g0"
            assert outermost or "everything_to" in drawn.text
        for one in transports(transport):
            for step, port in enumerate(inside):
                assert (public, one, start + step) not in wanted
                wanted[public, one, start + step] = (host, port)
    for public in PUBLIC:
        for transport in ("tcp", "udp"):
            around = {port + near for _, _, port in wanted for near in (-1, 0, 1)}
            for port in (around | {*range(1, 20)}) - {0}:
                ends = arrives(made, drawn.depth, public, transport, port)
                meant = wanted.get((public, transport, port))
                assert ends == ([meant] if meant is not None else []), (public, transport, port)


@given(sites())
def test_no_two_rules_of_a_gateway_overlap(drawn: Drawn) -> None:
    rules = [rule for rule in plan(drawn.text).forwards if rule.service != EVERYTHING]
    for one, other in combinations(rules, 2):
        if (one.gateway, one.outside_address) == (other.gateway, other.outside_address):
            same = "both" in (one.transport, other.transport) or one.transport == other.transport
            a, b = one.outside_ports, other.outside_ports
            assert a is not None
            assert b is not None
            assert not (same and a[0] <= b[1] and b[0] <= a[1]), (one, other)


@given(sites(), st.randoms(use_true_random=False))
def test_the_plan_does_not_depend_on_the_order_of_entries(drawn: Drawn, random: object) -> None:
    tables = drawn.tables[1:]
    head, rest = tables[:2], tables[2:]
    random.shuffle(rest)  # type: ignore[attr-defined]
    assert plan("\n".join([drawn.tables[0], *head, *rest])) == plan(drawn.text)


@settings(max_examples=50)
@given(sites(), sites())
def test_pinned_services_never_move(drawn: Drawn, more: Drawn) -> None:
    """Once every outside port is written down, services that are added later change no rule of theirs."""
    file = site(drawn.text)
    made = make_plan(file, date(2026, 5, 1))
    pinned = file.site.model_copy(update={"services": _pinned(file, made)})
    before = make_plan(SiteFile(file.name, file.text, pinned), date(2026, 5, 1))
    assert before.forwards == made.forwards
    hosts = list(pinned.hosts)
    added = dict(pinned.services)
    for number, (key, service) in enumerate(site(more.text).site.services.items()):
        update = {"outside_port": None, "host": hosts[number % len(hosts)], "outside_address": None}
        added[f"a{key}"] = service.model_copy(update=update)
    after = make_plan(SiteFile(file.name, file.text, pinned.model_copy(update={"services": added})), date(2026, 5, 1))
    assert tuple(rule for rule in after.forwards if rule.service in pinned.services) == tuple(
        rule for rule in before.forwards if rule.service != EVERYTHING
    )


def _pinned(file: SiteFile, made: Plan) -> dict[str, object]:
    from hooper.planning.paths import make_ways
    from hooper.ports import Ports

    del made
    ways = make_ways(file.site)
    return {
        key: service.model_copy(update={"outside_port": Ports(*ways[key].ports[0])}) if ways[key].ports else service
        for key, service in file.site.services.items()
    }


@given(sites(), st.sets(st.integers(0, 5)))
def test_what_a_packet_reaches_unmeant_is_told(drawn: Drawn, inward: set[int]) -> None:
    """A service that is not public is reached from outside exactly where the plan says that a rule lets it in."""
    kept = {f"s{number}" for number in inward} & set(drawn.services)
    tables = [
        re.sub(r"\noutside_(port|address) = .*", "", table.replace('reach = "public"', 'reach = "lan"'))
        if table.startswith(tuple(f"[services.{key}]" for key in kept))
        else table
        for table in drawn.tables
    ]
    text = "\n".join(tables)
    made, topology = plan(text), Topology(site(text).site)
    doors = {
        (door.service, door.transport, port)
        for door in side_doors(topology, made.forwards)
        if door.outside is not None
        for port in range(door.outside.first, door.outside.last + 1)
    }
    reached = {
        (key, transport, port)
        for public in PUBLIC
        for transport in ("tcp", "udp")
        for port in {*range(1, 20), *(port for _, _, port in doors), *range(20, 70)}
        for host, inside in arrives(made, drawn.depth, public, transport, port)
        for key in kept
        if drawn.services[key][0] == host
        and transport in transports(drawn.services[key][1])
        and inside in drawn.services[key][2]
    }
    assert reached == doors
    for service, _, __ in doors:
        assert any(f.code == "open-by-another" and f" {service} " in str(f.message) for f in made.findings)


@settings(max_examples=150)
@given(sites(), st.data())
def test_a_service_of_a_gateway_itself_arrives_there_and_at_no_other(drawn: Drawn, data: st.DataObject) -> None:
    """Forwards on the boxes outside it lead there; on itself no rule takes what is for it; all others stay as right."""
    at = data.draw(st.integers(0, drawn.depth - 1))
    transport, port = data.draw(st.sampled_from(["tcp", "udp", "both"])), data.draw(st.integers(1, 14))
    own = f'[services.own]\nhost = "g{at}"\ntransport = "{transport}"\nreach = "public"\nport = {port}\n'
    file = site(drawn.text + "\n" + own)
    made, ways = plan(drawn.text + "\n" + own), Topology(file.site).ways
    assert not any(rule.service == "own" and rule.gateway == f"g{at}" for rule in made.forwards)
    if "own" in refused(made) or ways["own"].refused is not None:
        return
    outside = ways["own"].ports[0].first
    address = str(ways["own"].outside_address)
    for spoken in transports(transport):
        ended, there = address, outside
        for further in range(at):
            rules = [rule for rule in made.forwards if takes(rule, f"g{further}", ended, spoken, there)]
            rules = [rule for rule in rules if rule.service != EVERYTHING] or rules
            ends = {
                (rule.target_address, first(rule.target_ports) + there - first(rule.outside_ports)) for rule in rules
            }
            assert len(ends) == 1
            ((ended, there),) = ends
            assert ended == f"10.{further}.0.2"
        assert there == port
        mine = [rule for rule in made.forwards if takes(rule, f"g{at}", ended, spoken, port)]
        assert not [rule for rule in mine if rule.service != EVERYTHING]


PORTS = st.tuples(st.integers(1, 60), st.integers(0, 40)).map(lambda at: Ports(at[0], at[0] + at[1]))


@given(st.lists(st.tuples(PORTS | PORTS.map(lambda ports: single(ports.first)), st.sampled_from("abcdef"))), PORTS)
def test_an_index_of_ports_finds_what_looking_at_all_does(entries: list[tuple[Ports, str]], ports: Ports) -> None:
    there = PortIndex(entries)
    assert there.meeting(ports) == sorted(name for own, name in entries if own.overlaps(ports))
    assert there.meeting(EVERY_PORT) == sorted(name for _, name in entries)
