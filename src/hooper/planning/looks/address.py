"""Findings on addresses inside: clashes, pools, reservations, prefixes, IPv6."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from ipaddress import IPv4Address, ip_network

from hooper.addresses import IPAddress, classify
from hooper.planning.addresses import free_addresses, free_prefix, is_common
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.routes import return_routes
from hooper.planning.values import Finding
from hooper.site.references import is_far_end

Owners = dict[tuple[str, object], str]
Better = Callable[[str], str]  # a gateway's key to the words for a free address on its LAN


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on addresses."""
    owners: Owners = {(key, gateway.lan.ip): f"gateways.{key}" for key, gateway in facts.site.gateways.items()}
    macs: dict[str, str] = {}
    proposed: dict[str, Iterator[IPv4Address]] = {}

    def better(gateway: str) -> str:
        """A free address on that LAN, another one each time."""
        if gateway not in proposed:
            proposed[gateway] = free_addresses(facts.site, gateway)
        free = next(proposed[gateway], None)
        return f"such as {free}" if free is not None else "once one is free"

    yield from _gateways(facts, owners, macs, better)
    yield from _hosts(facts, owners, macs, better)
    yield from _prefixes(facts)
    yield from _six(facts)
    yield from _writing(facts)


def _gateways(facts: Facts, owners: Owners, macs: dict[str, str], better: Better) -> Iterator[Finding]:
    for key, gateway in sorted(facts.site.gateways.items()):
        subject = f"gateways.{key}"
        if gateway.pool is not None and gateway.lan.ip in gateway.pool:
            yield finding(
                "pool-holds-gateway",
                subject,
                f"its pool {gateway.pool} contains its own address {gateway.lan.ip}",
                f"Have the pool start after {gateway.lan.ip}.",
            )
        yield from _mac(subject, gateway.mac, macs, reserved=gateway.wan_from == "reservation")
        for outer_key in gateway.behind:
            wan, outer = gateway.wan_behind(outer_key), facts.site.gateways[outer_key]
            if wan is None:
                continue
            yield from _take(owners, outer_key, wan, subject)
            yield from _kept(facts, subject, f"its outer address {wan}", wan, outer_key, gateway.wan_from, better)
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
        yield from _kept(facts, subject, str(host.address), host.address, gateway, host.address_from, better)
        if host.address_from == "reservation":
            yield from _reserved(facts, subject, key, host.address, gateway, host.mac, better)


def _kept(
    facts: Facts, subject: str, what: str, address: IPv4Address, gateway: str, given: str, better: Better
) -> Iterator[Finding]:
    """Whether a device keeps its address."""
    pool = facts.site.gateways[gateway].pool
    key = "wan_from" if subject.startswith("gateways.") else "address_from"
    if given == "pool":
        yield finding(
            "address-moves",
            subject,
            f"{what} comes from the DHCP pool of {gateway}, and nothing keeps it there",
            f'Reserve {address} for it on {gateway}, then write `{key} = "reservation"`; or set a free address on the'
            f" device, {better(gateway)}.",
        )
    elif given == "device" and pool is not None and address in pool:
        yield finding(
            "address-in-pool",
            subject,
            f"{what} is set on the device but lies in the pool {pool} of {gateway}",
            f"Set a free address on it, {better(gateway)}, or reserve this one on {gateway}.",
        )
    elif given == "device" and pool is None and subject.startswith("hosts.") and not is_far_end(facts.site, gateway):
        yield finding(
            "pool-unknown",
            f"gateways.{gateway}",
            f"which addresses {gateway} hands out is not known, so an address set on a device may be one of them",
            "Add its `pool`, or reserve the addresses there: then the pool does not matter.",
        )


def _reserved(
    facts: Facts, subject: str, key: str, address: IPv4Address, gateway: str, mac: str | None, better: Better
) -> Iterator[Finding]:
    if mac is None:
        yield finding(
            "mac-missing",
            subject,
            f"{key} is to get {address} by reservation, but its MAC address is not given",
            'Add `mac = "..."`; it stands on the device\'s label or network page.',
        )
    if not facts.site.gateways[gateway].form.reservations:
        yield finding(
            "no-reservations",
            subject,
            f"{address} is to be reserved on {gateway}, whose form cannot do that",
            f"Set a free address on the device instead, {better(gateway)}.",
        )


def _unusable(subject: str, address: IPv4Address, gateway: str, better: Better) -> Finding:
    message = f"{address} is the own or the broadcast address of the network of {gateway}"
    return finding("address-not-usable", subject, message, f"Give it a free address, {better(gateway)}.")


def _take(owners: Owners, gateway: str, address: IPv4Address, subject: str) -> Iterator[Finding]:
    owner = owners.setdefault((gateway, address), subject)
    if owner != subject:
        yield finding(
            "address-clash",
            subject,
            f"{address} belongs to {owner} already",
        )


def _mac(subject: str, mac: str | None, macs: dict[str, str], *, reserved: bool) -> Iterator[Finding]:
    if mac is None:
        return
    owner = macs.setdefault(mac, subject)
    first = int(mac[:2], 16)
    if first & 1:
        yield finding("mac-group", subject, f"{mac} is a group address, no device's own", "Read the MAC once more.")
    elif owner != subject:
        yield finding(
            "mac-clash",
            subject,
            f"{mac} belongs to {owner} already",
            "Read both labels once more; one device with two addresses can have one of them reserved only.",
            severity=None if reserved else "warning",
        )
    elif first & 2 and reserved:
        yield finding(
            "mac-private",
            subject,
            f"{mac} was made up by the device or a person, not by its maker, and an address is reserved for it",
            'If it is a phone or computer, switch "private" or "random" addresses off for this network.',
        )


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
            yield finding(
                "prefix-overlap",
                f"gateways.{inner}",
                f"its LAN {narrow} overlaps {wide}, the LAN of {outer}, which it is behind",
                f"Give {inner} another LAN, such as {free_prefix(site, narrow.prefixlen)}.",
            )
    for key, tunnel in sorted(site.tunnels.items()):
        for name, gateway in sorted(site.gateways.items()):
            if gateway.tunnel != key and tunnel.subnet is not None and tunnel.subnet.overlaps(gateway.lan.network):
                yield finding(
                    "prefix-overlap",
                    f"tunnels.{key}",
                    f"its network {tunnel.subnet} overlaps {gateway.lan.network}, the LAN of {name}",
                    f"Give the tunnel another, such as {free_prefix(site, tunnel.subnet.prefixlen)}.",
                )
    private = site.tunnels or any(service.reach == "tunnel" for service in site.services.values())
    places = {facts.place(host) for host in site.hosts} if private else set()
    for name in sorted(places):
        network = site.gateways[name].lan.network
        if is_common(network):
            yield finding(
                "prefix-common",
                f"gateways.{name}",
                f"{network} is what hotels and routers out of the box use: from such a place a tunnel leads nowhere",
                f"Change it to a rarer one while it is easy, such as {free_prefix(site, network.prefixlen)}.",
            )
    for name, tunnel in sorted(site.tunnels.items()):
        if tunnel.subnet is not None and is_common(tunnel.subnet):
            yield finding(
                "prefix-common",
                f"tunnels.{name}",
                f"its network {tunnel.subnet} is one that hotels and routers out of the box use too",
                f"Give the tunnel a rarer one, such as {free_prefix(site, tunnel.subnet.prefixlen)}.",
            )
    for key, routes in return_routes(site).items():
        for route in routes:
            yield finding(
                "route-needed",
                f"gateways.{key}",
                f"the devices behind {key} answer to the tunnel's network {route.prefix} only by a route to it",
                f"Enter on {key}: {route.prefix} by {route.via}; its sheet has it.",
            )


def _six(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key in facts.public:
        service = site.services[key]
        if service.family == "ipv6" and site.devices[service.host].address6 is None:
            yield finding(
                "address6-missing",
                f"services.{key}",
                f"it is for IPv6 alone, but {service.host} has no `address6`",
                f"Add `address6` to [hosts.{service.host}], or leave `family` out.",
            )
    exposed = {site.services[key].host: line for key, line in facts.lines6.items()}
    for host, line in sorted(exposed.items()):
        address = site.hosts[host].address6
        if address is None:
            continue
        kind = classify(address)
        if not kind.reachable:
            yield finding(
                "address6-not-public",
                f"hosts.{host}",
                f"{address} cannot be reached from outside: it is {kind.meaning} ({kind.source})",
                "Give the device's address that starts with the line's prefix.",
            )
            continue
        for subject, prefix in (
            (f"lines.{line}", site.lines[line].prefix6),
            (f"gateways.{facts.place(host)}", site.gateways[facts.place(host)].prefix6),
        ):
            if prefix is not None and address not in ip_network(prefix):
                yield finding(
                    "address6-elsewhere",
                    f"hosts.{host}",
                    f"{address} is not in {prefix}, the prefix of {subject}",
                    "Read the device's address again; where the prefix has changed, correct it too.",
                )


def _number(address: IPAddress) -> tuple[int, int]:
    return address.version, int(address)


def _writing(facts: Facts) -> Iterator[Finding]:
    for path, written, read in facts.file.padded:
        yield finding(
            "leading-zeros",
            path,
            f"{written} is read as {read}",
            f"Write {read}; on the device's own page the padded form is right.",
        )
    site = facts.site
    shown: list[IPAddress] = [address for line in site.lines.values() for address in line.address]
    shown += [host.address for host in site.hosts.values()]
    shown += [host.address6 for host in site.hosts.values() if host.address6 is not None]
    shown += [address for address, _ in site.measure.stun]
    examples = sorted({address for address in shown if classify(address).key == "documentation"}, key=_number)
    if examples:
        others = f" and {len(examples) - 1} more" if len(examples) > 1 else ""
        yield finding(
            "documentation-address",
            "site",
            f"{examples[0]}{others} from the blocks that are kept for examples",
            "Fine in an example; in a site of your own put the real addresses.",
        )
