"""From a site to its plan: the forwards of every gateway, and the findings."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from datetime import date
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress, classify
from hooper.planning.catalogue import CATALOGUE, finding, rank
from hooper.planning.model import Finding, Forward, Plan, ports_text
from hooper.planning.paths import RULES_FOR_A_RANGE, Way, chains, forwards_of, needs_splitting, way_of

if TYPE_CHECKING:
    from hooper.site.load import SiteFile
    from hooper.site.model import Ports, Site

Interval = tuple[int, int, str]  # first port, last port, service


def make_plan(file: SiteFile, today: date) -> Plan:
    """The plan for a site file.

    Args: today: accepted risks are judged by it.
    The order of entries in the file does not matter.
    """
    site = file.site
    of_host = chains(site)
    ways = {
        key: way_of(site, service, of_host[service.host])
        for key, service in sorted(site.services.items())
        if service.reach == "public"
    }
    forwards = [forward for key, way in ways.items() for forward in forwards_of(site, key, site.services[key], way)]
    depth = {key: index for chain in set(of_host.values()) for index, key in enumerate(chain)}
    forwards.sort(key=lambda f: (depth[f.gateway], f.gateway, f.outside_ports or (0, 0), f.transport, f.service))
    findings = [
        *_line_findings(site),
        *_clashes(site, forwards),
        *_way_findings(site, ways),
        *_address_findings(site, of_host),
        *_accept(site, _exposure_findings(site, ways), today),
        *_writing_findings(file),
    ]
    return Plan(tuple(forwards), tuple(sorted(findings, key=rank)))


def _line_findings(site: Site) -> Iterator[Finding]:
    for key, line in site.lines.items():
        for address in line.address:
            kind = classify(address)
            if not kind.reachable:
                yield finding(
                    "line-not-public",
                    f"lines.{key}",
                    f"{address} is not a public address: it is {kind.meaning} ({kind.source})",
                    "Give the line's public address; if this is what the provider gave you, ask for a public one.",
                )


def _overlaps(intervals: Iterable[Interval]) -> Iterator[tuple[str, str, int]]:
    """Pairs of services whose intervals overlap, with the first port they share. O(n log n)."""
    reach: Interval | None = None
    for interval in sorted(intervals):
        if reach is not None and interval[0] <= reach[1]:
            yield reach[2], interval[2], interval[0]
        if reach is None or interval[1] > reach[1]:
            reach = interval


def _clashes(site: Site, forwards: list[Forward]) -> Iterator[Finding]:
    taken: dict[tuple[str, str], list[Interval]] = defaultdict(list)
    for forward in forwards:
        if forward.outside_ports is None:
            continue
        for transport in ("tcp", "udp") if forward.transport == "both" else (forward.transport,):
            taken[forward.gateway, transport].append((*forward.outside_ports, forward.service))
    seen: set[tuple[str, str]] = set()
    used: dict[str, set[int]] = {}
    for (gateway, transport), intervals in taken.items():
        for first, second, port in _overlaps(intervals):
            if first == second or (first, second) in seen:
                continue
            seen.update({(first, second), (second, first)})
            if gateway not in used:
                used[gateway] = {
                    p for (g, _), rows in taken.items() if g == gateway for a, b, _ in rows for p in (a, b)
                }
            service = site.services[second]
            start = _free_start(service.used_ports, used[gateway])
            better = ports_text((start, start + len(service.used_ports) - 1))
            written = better if better.isdigit() else f'"{better}"'
            used[gateway].update({start, start + len(service.used_ports) - 1})
            yield finding(
                "port-clash",
                f"services.{second}",
                f"{first} and {second} both want outside port {port}/{transport} on {gateway}",
                f"Give one of them another: `outside_port = {written}` for {second}."
                if site.services[first].outside_ports.overlaps(site.services[second].outside_ports)
                else f"{gateway} cannot translate: make the device of {second} itself listen on another port.",
            )


def _free_start(ports: Ports, used: set[int]) -> int:
    """A memorable outside port near the service's own: 13389 for 3389, 18443 for 8443, else counting up."""
    start = ports.first + 10000 if ports.first < 55000 else ports.first - 10000
    while any(start <= port < start + len(ports) for port in used) and start + len(ports) < 65535:
        start += len(ports)
    return start


def _way_findings(site: Site, ways: dict[str, Way]) -> Iterator[Finding]:
    for key, way in ways.items():
        service, subject = site.services[key], f"services.{key}"
        for blocked in site.lines[way.line].blocked:
            same = blocked.transport == "both" or service.used_transport in ("both", blocked.transport)
            if same and blocked.ports.overlaps(service.outside_ports):
                yield finding(
                    "port-blocked",
                    subject,
                    f"the provider of {way.line} drops {blocked.transport} {blocked.ports} inbound",
                    f"Choose another outside port, such as `outside_port = {_free_start(service.used_ports, set())}`.",
                )
        if way.translates and way.translator is None:
            yield finding(
                "cannot-translate",
                subject,
                f"outside port {service.outside_ports} must become {service.used_ports}, but no gateway on the way"
                f" ({', '.join(way.chain)}) can translate ports",
                f"Make the device itself listen on {service.outside_ports}, or leave outside_port out.",
            )
        if not way.keeps_sources:
            yield finding(
                "sources-not-kept",
                subject,
                f"no gateway on the way ({', '.join(way.chain)}) can limit a rule to allowed sources",
                'Limit the sources on the device itself and remove them here, or make the service `reach = "tunnel"`.',
            )
        length = len(service.outside_ports)
        if length > RULES_FOR_A_RANGE:
            for gateway in way.chain:
                if needs_splitting(length, site.gateways[gateway]):
                    yield finding(
                        "too-many-rules",
                        subject,
                        f"{gateway} takes single ports only, and {service.outside_ports} would be {length} rules",
                        f"Narrow the range on the device to at most {RULES_FOR_A_RANGE} ports.",
                    )


def _address_findings(site: Site, of_host: dict[str, tuple[str, ...]]) -> Iterator[Finding]:
    owners: dict[tuple[str, object], str] = {}
    for key, gateway in site.gateways.items():
        owners[key, gateway.lan.ip] = f"gateways.{key}"
    for key, gateway in site.gateways.items():
        if gateway.behind is not None and gateway.wan is not None:
            yield from _take(owners, gateway.behind, gateway.wan, f"gateways.{key}")
            outer = site.gateways[gateway.behind]
            if outer.pool and gateway.wan in outer.pool:
                yield finding(
                    "address-in-pool",
                    f"gateways.{key}",
                    f"its outer address {gateway.wan} lies in the pool {outer.pool} of {gateway.behind}",
                    f"Reserve {gateway.wan} for it on {gateway.behind}, or give it an address outside the pool.",
                )
    for key, host in sorted(site.hosts.items()):
        gateway_key, subject = of_host[key][-1], f"hosts.{key}"
        yield from _take(owners, gateway_key, host.address, subject)
        pool = site.gateways[gateway_key].pool
        if host.address_from == "pool":
            yield finding(
                "address-moves",
                subject,
                f"{key} has {host.address} from the DHCP pool of {gateway_key}, and nothing keeps it there",
                f'Reserve {host.address} for it on {gateway_key}, then write `address_from = "reservation"`.',
            )
        elif host.address_from == "device" and pool is not None and host.address in pool:
            yield finding(
                "address-in-pool",
                subject,
                f"{host.address} is set on the device but lies in the pool {pool} of {gateway_key}",
                f"Choose an address in {site.gateways[gateway_key].lan.network} outside the pool, or reserve this one.",
            )
        elif host.address_from == "reservation" and host.mac is None:
            yield finding(
                "mac-missing",
                subject,
                f"{key} is to get {host.address} by reservation, but its MAC address is not given",
                'Add `mac = "..."`; it stands on the device\'s label or network page.',
            )


def _take(owners: dict[tuple[str, object], str], gateway: str, address: object, subject: str) -> Iterator[Finding]:
    owner = owners.setdefault((gateway, address), subject)
    if owner != subject:
        yield finding(
            "address-clash",
            subject,
            f"{address} belongs to {owner} already",
            "Give one of the two another address.",
        )


def _exposure_findings(site: Site, ways: dict[str, Way]) -> Iterator[Finding]:
    for key in ways:
        service, subject = site.services[key], f"services.{key}"
        speech, limited = service.speech, ", ".join(str(s) for s in service.sources)
        who = f"to {limited}" if service.sources else "to the whole world"
        safer = 'Make it `reach = "tunnel"`'
        if speech.desktop:
            yield finding(
                "desktop-open",
                subject,
                f"{speech.title} is open {who}",
                safer + (", which is safer still." if service.sources else ", or at least limit it by `sources`."),
            )
        elif speech.clear_text:
            yield finding(
                "clear-text-open",
                subject,
                f"{speech.title} is open {who}, in clear text",
                f"{safer}, use the encrypted kind, or accept the risk in [services.{key}.accepted].",
            )
        elif service.speaks == "unknown":
            yield finding(
                "unknown-protocol-open",
                subject,
                f"{speech.title} is open {who}",
                f"{safer} if its app can use one; keep the device's firmware current.",
            )


def _accept(site: Site, found: Iterable[Finding], today: date) -> Iterator[Finding]:
    """The findings, those that a person has accepted turned into notes."""
    unused = {f"services.{key}": service.accepted for key, service in site.services.items() if service.accepted}
    for item in found:
        accepted = unused.get(item.subject)
        if accepted is None or accepted.finding != item.code or not CATALOGUE[item.code].acceptable:
            yield item
            continue
        del unused[item.subject]
        if today > accepted.until:
            yield item
            yield finding(
                "acceptance-ended",
                item.subject,
                f"the risk {item.code} was accepted until {accepted.until} ({accepted.reason})",
                "Look again: remove the risk, or accept it until a new day.",
            )
        else:
            message = f"{item.message}; accepted until {accepted.until}: {accepted.reason}"
            yield Finding(item.code, "note", item.subject, message, f"Look at it again by {accepted.until}.")
    for subject, accepted in unused.items():
        if accepted is not None:
            yield finding(
                "acceptance-unused",
                f"{subject}.accepted",
                f"{accepted.finding!r} is accepted, but no finding of that code that can be accepted is raised here",
                "Remove [" + subject + ".accepted], or correct its `finding`.",
            )


def _writing_findings(file: SiteFile) -> Iterator[Finding]:
    for path, written, read in file.padded:
        yield finding(
            "leading-zeros",
            path,
            f"{written} is read as {read}",
            f"Write {read}; on the device's own page the padded form is right.",
        )
    site = file.site
    shown: list[IPAddress] = [address for line in site.lines.values() for address in line.address]
    shown += [host.address for host in site.hosts.values()]
    shown += [address for address, _ in site.measure.stun]
    examples = [address for address in shown if classify(address).key == "documentation"]
    if examples:
        others = f" and {len(examples) - 1} more" if len(examples) > 1 else ""
        yield finding(
            "documentation-address",
            "site",
            f"{examples[0]}{others} from the blocks that are kept for examples",
            "Fine in an example; in a site of your own put the real addresses.",
        )
