"""Findings on addresses inside: clashes, pools, reservations, prefixes, IPv6."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from ipaddress import IPv4Address, ip_network

from hooper.addresses import IPAddress, classify
from hooper.planning.facts import Facts
from hooper.planning.findings import finding, finds
from hooper.planning.free_addresses import free_addresses, free_prefix, is_common
from hooper.planning.routes import return_routes
from hooper.planning.values import Finding
from hooper.site.references import is_far_end
from hooper.words.said import Said, quoted, say

Owners = dict[tuple[str, object], str]
Better = Callable[[str], Said]  # a gateway's key to the words for a free address on its LAN


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on addresses."""
    owners: Owners = {(key, gateway.lan.ip): f"gateways.{key}" for key, gateway in facts.site.gateways.items()}
    macs: dict[str, str] = {}
    proposed: dict[str, Iterator[IPv4Address]] = {}

    def better(gateway: str) -> Said:
        """A free address on that LAN, another one each time."""
        if gateway not in proposed:
            proposed[gateway] = free_addresses(facts.site, gateway)
        free = next(proposed[gateway], None)
        return say("such-as", free=free) if free is not None else say("once-one-is-free")

    yield from _gateways(facts, owners, macs, better)
    yield from _hosts(facts, owners, macs, better)
    yield from _prefixes(facts)
    yield from _six(facts)
    yield from _writing(facts)


def _gateways(facts: Facts, owners: Owners, macs: dict[str, str], better: Better) -> Iterator[Finding]:
    for key, gateway in sorted(facts.site.gateways.items()):
        subject = f"gateways.{key}"
        if gateway.pool is not None and gateway.lan.ip in gateway.pool:
            yield finds("pool-holds-gateway", subject, pool=gateway.pool, ip=gateway.lan.ip)
        yield from _mac(subject, gateway.mac, macs, reserved=gateway.wan_from == "reservation")
        for outer_key in gateway.behind:
            wan, outer = gateway.wan_behind(outer_key), facts.site.gateways[outer_key]
            if wan is None:
                continue
            yield from _take(owners, outer_key, wan, subject)
            yield from _kept(
                facts, subject, say("its-outer-address", wan=wan), wan, outer_key, gateway.wan_from, better
            )
            if gateway.wan_from == "reservation":
                yield from _reserved(facts, subject, key, wan, outer_key, gateway.mac, better)
            if wan in (outer.lan.network.network_address, outer.lan.network.broadcast_address):
                yield _unusable(subject, wan, outer_key, better)


def _hosts(facts: Facts, owners: Owners, macs: dict[str, str], better: Better) -> Iterator[Finding]:
    for key, host in sorted(facts.site.hosts.items()):
        gateway, subject = facts.place(key), f"hosts.{key}"
        network = facts.site.gateways[gateway].lan.network
        if host.address in (network.network_address, network.broadcast_address):
            yield _unusable(subject, host.address, gateway, better)
        own = facts.site.gateways[gateway].lan.ip == host.address and is_far_end(facts.site, gateway)
        if not own:  # the machine at home that the tunnel to a rented one ends on
            yield from _take(owners, gateway, host.address, subject)
        yield from _mac(subject, host.mac, macs, reserved=host.address_from == "reservation")
        yield from _kept(facts, subject, quoted(str(host.address)), host.address, gateway, host.address_from, better)
        if host.address_from == "reservation":
            yield from _reserved(facts, subject, key, host.address, gateway, host.mac, better)


def _kept(
    facts: Facts, subject: str, what: Said, address: IPv4Address, gateway: str, given: str, better: Better
) -> Iterator[Finding]:
    """Whether a device keeps its address."""
    pool = facts.site.gateways[gateway].pool
    key = "wan_from" if subject.startswith("gateways.") else "address_from"
    if given == "pool":
        yield finds(
            "address-moves", subject, what=what, gateway=gateway, address=address, key=key, better=better(gateway)
        )
    elif given == "device" and pool is not None and address in pool:
        yield finds("address-in-pool", subject, what=what, pool=pool, gateway=gateway, better=better(gateway))
    elif given == "device" and pool is None and subject.startswith("hosts.") and not is_far_end(facts.site, gateway):
        yield finds("pool-unknown", f"gateways.{gateway}", gateway=gateway)


def _reserved(
    facts: Facts, subject: str, key: str, address: IPv4Address, gateway: str, mac: str | None, better: Better
) -> Iterator[Finding]:
    if mac is None:
        yield finds("mac-missing", subject, key=key, address=address)
    if not facts.site.gateways[gateway].form.reservations:
        yield finds("no-reservations", subject, address=address, gateway=gateway, better=better(gateway))


def _unusable(subject: str, address: IPv4Address, gateway: str, better: Better) -> Finding:
    message = say("is-the-own-or", address=address, gateway=gateway)
    return finding("address-not-usable", subject, message, say("address-not-usable.do", better=better(gateway)))


def _take(owners: Owners, gateway: str, address: IPv4Address, subject: str) -> Iterator[Finding]:
    owner = owners.setdefault((gateway, address), subject)
    if owner != subject:
        yield finds("address-clash", subject, address=address, owner=owner)


def _mac(subject: str, mac: str | None, macs: dict[str, str], *, reserved: bool) -> Iterator[Finding]:
    if mac is None:
        return
    owner = macs.setdefault(mac, subject)
    first = int(mac[:2], 16)
    if first & 1:
        yield finds("mac-group", subject, mac=mac)
    elif owner != subject:
        yield finds("mac-clash", subject, severity=None if reserved else "warning", mac=mac, owner=owner)
    elif first & 2 and reserved:
        yield finds("mac-private", subject, mac=mac)


def _prefixes(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    pairs: set[tuple[str, str]] = set()
    for ways in facts.hosts.values():
        for chain in ways:
            pairs.update((outer, inner) for at, inner in enumerate(chain.gateways) for outer in chain.gateways[:at])
    pairs.update((outer, inner) for inner, gateway in site.gateways.items() for outer in gateway.behind)
    for outer, inner in sorted(pairs):
        wide, narrow = site.gateways[outer].lan.network, site.gateways[inner].lan.network
        if wide.overlaps(narrow):
            yield finds(
                "prefix-overlap",
                f"gateways.{inner}",
                narrow=narrow,
                wide=wide,
                outer=outer,
                inner=inner,
                free_prefix=free_prefix(site, narrow.prefixlen),
            )
    for key, tunnel in sorted(site.tunnels.items()):
        for name, gateway in sorted(site.gateways.items()):
            if gateway.tunnel != key and tunnel.subnet is not None and tunnel.subnet.overlaps(gateway.lan.network):
                yield finds(
                    "prefix-overlap.prefixes",
                    f"tunnels.{key}",
                    subnet=tunnel.subnet,
                    network=gateway.lan.network,
                    name=name,
                    free_prefix=free_prefix(site, tunnel.subnet.prefixlen),
                )
    private = site.tunnels or any(service.reach == "tunnel" for service in site.services.values())
    places = {facts.place(host) for host in site.hosts} if private else set()
    for name in sorted(places):
        network = site.gateways[name].lan.network
        if is_common(network):
            yield finds(
                "prefix-common", f"gateways.{name}", network=network, free_prefix=free_prefix(site, network.prefixlen)
            )
    for name, tunnel in sorted(site.tunnels.items()):
        if tunnel.subnet is not None and is_common(tunnel.subnet):
            yield finds(
                "prefix-common.prefixes",
                f"tunnels.{name}",
                subnet=tunnel.subnet,
                free_prefix=free_prefix(site, tunnel.subnet.prefixlen),
            )
    for key, routes in return_routes(site).items():
        for route in routes:
            yield finds("route-needed", f"gateways.{key}", key=key, prefix=route.prefix, via=route.via)


def _six(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key in facts.public:
        service = site.services[key]
        if service.family == "ipv6" and site.devices[service.host].address6 is None:
            yield finds("address6-missing", f"services.{key}", host=service.host)
    exposed = {site.services[key].host: line for key, line in facts.lines6.items()}
    for host, line in sorted(exposed.items()):
        address = site.devices[host].address6
        if address is None:
            continue
        kind = classify(address)
        if not kind.reachable:
            yield finds(
                "address6-not-public", site.entry_of(host), address=address, meaning=kind.meaning, source=kind.source
            )
            continue
        for subject, prefix in (
            (f"lines.{line}", site.lines[line].prefix6),
            (f"gateways.{facts.place(host)}", site.gateways[facts.place(host)].prefix6),
        ):
            if prefix is not None and address not in ip_network(prefix):
                yield finding(
                    "address6-elsewhere",
                    site.entry_of(host),
                    say("address6-elsewhere.says", address=address, prefix=prefix, subject=subject),
                    say("address6-elsewhere.do"),
                )


def _number(address: IPAddress) -> tuple[int, int]:
    return address.version, int(address)


def _writing(facts: Facts) -> Iterator[Finding]:
    for path, written, read in facts.file.padded:
        yield finds("leading-zeros", path, written=written, read=read)
    site = facts.site
    shown: list[IPAddress] = [address for line in site.lines.values() for address in line.address]
    shown += [host.address for host in site.hosts.values()]
    shown += [host.address6 for host in site.hosts.values() if host.address6 is not None]
    shown += [address for address, _ in site.measure.stun]
    examples = sorted({address for address in shown if classify(address).key == "documentation"}, key=_number)
    if examples:
        others = say("and-more", examples=len(examples) - 1) if len(examples) > 1 else ""
        yield finds("documentation-address", "site", examples=examples[0], others=others)
