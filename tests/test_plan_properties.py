"""Whatever the chain and the services: a packet from outside arrives at exactly the service that the plan means."""

from __future__ import annotations

from collections.abc import Iterator

from hypothesis import given
from hypothesis import strategies as st

from hooper.planning.model import Forward, Plan
from support.sites import plan

PORTS = st.integers(1, 12)
Service = tuple[str, str, int, int, int]  # host, transport, first port, length, offset of the outside ports


@st.composite
def sites(draw: st.DrawFn) -> tuple[str, list[str], dict[str, Service]]:
    """The text of a site, its chain, and its public services."""
    length = draw(st.integers(1, 4))
    chain = [f"g{number}" for number in range(length)]
    lines = ["version = 1", "[lines.l]"]
    for number, key in enumerate(chain):
        lines += [f"[gateways.{key}]", f'lan = "10.{number}.0.1/24"']
        lines += ['line = "l"'] if not number else [f'behind = "g{number - 1}"', f'wan = "10.{number - 1}.0.2"']
        lines += [f"form.{word} = {str(draw(st.booleans())).lower()}" for word in ("translate", "both", "ranges")]
    hosts = {f"h{number}": draw(st.integers(0, length - 1)) for number in range(draw(st.integers(1, 3)))}
    for number, (key, place) in enumerate(hosts.items()):
        lines += [f"[hosts.{key}]", f'address = "10.{place}.0.{10 + number}"']
    services: dict[str, Service] = {}
    for number in range(draw(st.integers(1, 5))):
        host, transport = draw(st.sampled_from(list(hosts))), draw(st.sampled_from(["tcp", "udp", "both"]))
        first, size, offset = draw(PORTS), draw(st.integers(1, 3)), draw(st.sampled_from([0, 0, 20, 40]))
        services[f"s{number}"] = (host, transport, first, size, offset)
        lines += [f"[services.s{number}]", f'host = "{host}"', f'transport = "{transport}"', 'reach = "public"']
        lines += [
            f'port = "{first}-{first + size - 1}"',
            f'outside_port = "{first + offset}-{first + offset + size - 1}"',
        ]
    return "\n".join(lines), chain, services


def arrivals(made: Plan, chain: list[str], transport: str, port: int) -> Iterator[tuple[str, int]]:
    """Where a packet for an outside port ends: every rule of each gateway is tried."""
    reached = [("10.0.0.2", port)] if len(chain) > 1 else []
    for number, gateway in enumerate(chain):
        taking = [(address, at) for address, at in reached if number == 0 or address == f"10.{number - 1}.0.2"]
        taking = [("outside", port)] if number == 0 else taking
        reached = [
            (rule.target_address, rule.target_ports[0] + at - rule.outside_ports[0])
            for _, at in taking
            for rule in made.forwards
            if takes(rule, gateway, transport, at) and rule.outside_ports and rule.target_ports
        ]
        yield from (row for row in reached if row[0] != f"10.{number}.0.2")


def takes(rule: Forward, gateway: str, transport: str, port: int) -> bool:
    ports = rule.outside_ports
    return (
        rule.gateway == gateway
        and rule.transport in (transport, "both")
        and bool(ports and ports[0] <= port <= ports[1])
    )


@given(sites())
def test_a_packet_arrives_where_the_plan_means_and_only_there(drawn: tuple[str, list[str], dict[str, Service]]) -> None:
    text, chain, services = drawn
    made = plan(text)
    wanted: dict[tuple[str, int], list[tuple[str, int]]] = {}
    hosts = {block.split("]")[0]: block.split('address = "')[1].split('"')[0] for block in text.split("[hosts.")[1:]}
    for host, transport, first, size, offset in services.values():
        for one in ("tcp", "udp") if transport == "both" else (transport,):
            for number in range(size):
                wanted.setdefault((one, first + offset + number), []).append((hosts[host], first + number))
    clash = any(len(targets) > 1 for targets in wanted.values())
    codes = {finding.code for finding in made.findings if finding.severity == "error"}
    assert "port-clash" in codes or not clash
    if "port-clash" in codes and not clash:  # translated too far out, since a box further in cannot
        assert "translate = false" in text
    if codes:
        return
    for transport in ("tcp", "udp"):
        for port in range(1, 60):
            assert list(arrivals(made, chain, transport, port)) == wanted.get((transport, port), [])
