"""The way of a service through its chain of gateways: the rule that each of them needs, outermost first."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper.planning.model import Forward, PortPair
from hooper.site.references import chain_of, gateways_for

if TYPE_CHECKING:
    from hooper.site.model import Gateway, Service, Site

RULES_FOR_A_RANGE = 32  # single-port rules that a person may be asked to type for one range


@dataclass(frozen=True, slots=True)
class Way:
    """How a service can be reached from its line.

    translator: the gateway that turns the outside ports into the inside ones; None where they are the same,
    or where no gateway can.
    """

    chain: tuple[str, ...]
    line: str
    translator: str | None
    translates: bool
    keeps_sources: bool


def chains(site: Site) -> dict[str, tuple[str, ...]]:
    """The chain of each host, outermost gateway first."""
    of_gateway = {key: chain_of(site, key) for key in site.gateways}
    return {
        key: of_gateway[host.behind if host.behind is not None else gateways_for(site, host.address)[0]]
        for key, host in site.hosts.items()
    }


def way_of(site: Site, service: Service, chain: tuple[str, ...]) -> Way:
    """The way of `service`, whose host is behind `chain`."""
    line = site.gateways[chain[0]].line
    assert line is not None, "references have been checked: the outermost gateway is on a line"
    translates = service.outside_ports != service.used_ports
    # The innermost gateway that can: further out, the port then stays the one that people type.
    translator = next((key for key in reversed(chain) if site.gateways[key].form.translate), None)
    return Way(
        chain,
        line,
        translator if translates else None,
        translates,
        not service.sources or any(site.gateways[key].form.sources for key in chain),
    )


def forwards_of(site: Site, key: str, service: Service, way: Way) -> list[Forward]:
    """One entry per rule as it is entered, outermost gateway first."""
    out: list[Forward] = []
    outside: PortPair = (service.outside_ports.first, service.outside_ports.last)
    inside: PortPair = (service.used_ports.first, service.used_ports.last)
    ports = outside
    for position, gateway_key in enumerate(way.chain):
        gateway = site.gateways[gateway_key]
        inner = site.gateways[way.chain[position + 1]] if position + 1 < len(way.chain) else None
        target = inner.wan if inner is not None else site.hosts[service.host].address
        target_ports = inside if gateway_key == way.translator else ports
        for transport in _transports(service.used_transport, gateway):
            for one, other in _pieces(ports, target_ports, gateway):
                out.append(
                    Forward(
                        gateway=gateway_key,
                        line=way.line,
                        kind="forward",
                        service=key,
                        transport=transport,
                        outside_address=_outside_address(site, gateway, way.line),
                        outside_ports=one,
                        target_address=str(target),
                        target_ports=other,
                        sources=tuple(str(s) for s in service.sources) if gateway.form.sources else (),
                        by=gateway.control,
                    )
                )
        ports = target_ports
    return out


def _outside_address(site: Site, gateway: Gateway, line: str) -> str | None:
    if gateway.behind is not None:
        return str(gateway.wan)
    fixed = site.lines[line].address
    return str(fixed[0]) if fixed else None


def _transports(transport: str, gateway: Gateway) -> tuple[str, ...]:
    return ("tcp", "udp") if transport == "both" and not gateway.form.both else (transport,)


def needs_splitting(ports: int, gateway: Gateway) -> bool:
    """Whether a range of that many ports takes a rule each on this gateway's page."""
    return ports > 1 and not gateway.form.ranges


def _pieces(outside: PortPair, target: PortPair, gateway: Gateway) -> list[tuple[PortPair, PortPair]]:
    length = outside[1] - outside[0] + 1
    if not needs_splitting(length, gateway) or length > RULES_FOR_A_RANGE:
        return [(outside, target)]
    return [((outside[0] + n, outside[0] + n), (target[0] + n, target[0] + n)) for n in range(length)]
