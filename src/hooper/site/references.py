"""What one table says of another: references, loops, addresses in no network. Without these a file has no meaning.

What can be read but cannot work (a port clash, an address in the pool) is not here: the planner finds it.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address
from itertools import chain, islice
from typing import NamedTuple

from hooper import deeds
from hooper.chosen import nearest
from hooper.dnsnames import base, is_wildcard, may_sign, stands_for
from hooper.site import updating as placeholders
from hooper.site.certificate_tables import Certificate
from hooper.site.fields import CONTROLS
from hooper.site.handed import handed_mistakes
from hooper.site.mistakes import Mistake, Path
from hooper.site.model import Gateway, Host, Name, Site, Updater, UpdaterRequest
from hooper.site.pointers import dangling
from hooper.site.tunnel_references import tunnel_mistakes
from hooper.site.updating import FORMS

MOST = 200  # mistakes that are told at once; who has more has one cause for many
IN_A_ROW, WAYS = 16, 64  # gateways on one way in, and ways in to one network; no house and no office has more


def mistakes_between_tables(site: Site) -> list[Mistake]:
    """The first mistakes of reference in `site`, in no particular order."""
    found = list(islice(chain(dangling(site, gateways=True), _gateways(site)), MOST))
    sound = not found
    rest = [_hosts(site)] if sound else []  # hosts can only be placed once the chains are sound
    rest += [dangling(site, gateways=False), _services(site, sound=sound)]
    rest += [handed_mistakes(site), _names(site), tunnel_mistakes(site)]
    return [*found, *islice(chain.from_iterable(rest), MOST - len(found))]


class Chain(NamedTuple):
    """One way in: the line, and the gateways from the outermost to the one whose LAN it ends on."""

    line: str
    gateways: tuple[str, ...]


def services_by_host(site: Site) -> dict[str, list[str]]:
    """The keys of the services that each host or gateway offers, in the order of the file; each has a list."""
    out: dict[str, list[str]] = {key: [] for key in site.devices}
    for key, service in site.services.items():
        out[service.host].append(key)
    return out


def chains_to(site: Site, gateway: str) -> tuple[Chain, ...]:
    """All ways in to the LAN of `gateway`, in the order in which its lines and outer gateways are written.

    The references have been checked.
    """
    entry = site.gateways[gateway]
    direct = tuple(Chain(line, (gateway,)) for line in entry.line)
    outer = (chain for key in entry.behind for chain in chains_to(site, key))
    return direct + tuple(Chain(chain.line, (*chain.gateways, gateway)) for chain in outer)


def chain_of(site: Site, gateway: str) -> tuple[str, ...]:
    """The gateways from the outermost to `gateway`, this included, on the first way in."""
    return chains_to(site, gateway)[0].gateways


def in_sight(site: Site, at: str | None) -> tuple[str, ...]:
    """The gateways whose LANs a machine on the LAN of `at` can reach: its own, and outward through the NATs."""
    if at is None:
        return ()
    return tuple(dict.fromkeys(key for chain in chains_to(site, at) for key in chain.gateways))


def seen_from(site: Site, at: str | None) -> tuple[str, ...]:
    """The gateways whose LANs a machine on the LAN of `at` can reach, those too that share one of these LANs."""
    sight = in_sight(site, at)
    lans = {site.gateways[key].lan.network for key in sight}
    return (*sight, *(key for key, one in site.gateways.items() if key not in sight and one.lan.network in lans))


def detours(site: Site) -> dict[str, str]:
    """The rented machines that stand for the site on the internet: by tunnel, the gateway whose LAN it is."""
    return {gateway.tunnel: key for key, gateway in site.gateways.items() if gateway.tunnel is not None}


def far_ends(site: Site, tunnel: str) -> dict[str, str]:
    """The site's own ends of a tunnel to a rented machine: by peer, the gateway that it is."""
    outer = detours(site).get(tunnel)
    found: dict[str, str] = {}
    for key, gateway in site.gateways.items():
        wan = gateway.wan_behind(outer) if outer is not None else None
        peers = site.peers.items() if wan is not None else ()
        found |= {name: key for name, peer in peers if peer.tunnel == tunnel and peer.address == wan}
    return found


def is_far_end(site: Site, gateway: str) -> bool:
    """Whether a gateway is the site's own end of a tunnel to a rented machine."""
    return any(gateway in far_ends(site, tunnel).values() for tunnel in detours(site))


def made_gateways(site: Site) -> dict[str, str]:
    """The gateways whose rules come with the files of a tunnel, a rented machine and the site's ends: with that."""
    return {
        gateway: tunnel
        for tunnel, outer in detours(site).items()
        for gateway in (outer, *far_ends(site, tunnel).values())
    }


def first_line(site: Site, chain: tuple[str, ...]) -> str:
    """The line that a chain of gateways is on, the first of its outermost one; without a chain the file's first."""
    if chain:
        return site.gateways[chain[0]].line[0]
    return next(iter(site.lines), "")


def gateways_for(site: Site, address: IPv4Address) -> list[str]:
    """The gateways whose LAN holds `address`; of nested prefixes the longest."""
    fitting = [key for key, gateway in site.gateways.items() if address in gateway.lan.network]
    longest = max((site.gateways[key].lan.network.prefixlen for key in fitting), default=0)
    return [key for key in fitting if site.gateways[key].lan.network.prefixlen == longest]


def _gateways(site: Site) -> Iterator[Mistake]:
    loops = _loops(site)
    for key, gateway in site.gateways.items():
        path: Path = ("gateways", key)
        if gateway.options and gateway.control in CONTROLS:
            message = f'this says nothing with control = "{gateway.control}"'
            yield (*path, "options"), message, "Remove it, or correct `control`."
        if gateway.line and gateway.behind:
            yield (*path, "behind"), "a gateway is either on a line or behind another gateway", "Remove one of the two."
        elif not gateway.line and not gateway.behind:
            remedy = 'Add `line = "..."` for the outermost gateway, `behind = "..."` for an inner one.'
            yield path, "this gateway is neither on a line nor behind another gateway", remedy
        if gateway.pool and not (
            gateway.pool.first in gateway.lan.network and gateway.pool.last in gateway.lan.network
        ):
            remedy = f"The pool lies inside {gateway.lan.network}."
            yield (*path, "pool"), f"{gateway.pool} is not in the gateway's network {gateway.lan.network}", remedy
        if gateway.everything_to is not None:
            inner = site.gateways.get(gateway.everything_to)
            if inner is not None and key not in inner.behind:
                remedy = f'Write `behind = "{key}"` there, or correct the one or the other.'
                yield (*path, "everything_to"), f"{gateway.everything_to} is not behind {key}", remedy
        if not gateway.behind or not all(outer in site.gateways for outer in gateway.behind):
            continue
        if key in loops:
            around = _shortened([*loops[key], key])
            yield (*path, "behind"), f"the chain is a loop: {' behind '.join(around)}", "One of them must be on a line."
        else:
            yield from _inner_wan(site, key, gateway)
    if not loops:
        yield from _too_many(site)


def _inner_wan(site: Site, key: str, gateway: Gateway) -> Iterator[Mistake]:
    path: Path = ("gateways", key, "wan")
    if not gateway.wan:
        outer_key = gateway.behind[0]
        outer = site.gateways[outer_key]
        remedy = f"Add its address on the network of {outer_key} ({outer.lan.network}); its own status page shows it."
        yield path[:-1], "the key 'wan' is missing, and an inner gateway needs it", remedy
    elif len(gateway.wan) != len(gateway.behind):
        message = f"there are {len(gateway.wan)} addresses for {len(gateway.behind)} outer gateways"
        yield path, message, f"Give one for each, in the order of `behind`: {', '.join(gateway.behind)}."
    else:
        for outer_key, wan in zip(gateway.behind, gateway.wan, strict=True):
            outer = site.gateways[outer_key]
            if wan not in outer.lan.network:
                remedy = f"It lies inside {outer.lan.network}."
                yield path, f"{wan} is not in the network {outer.lan.network} of {outer_key}", remedy
            elif wan == outer.lan.ip:
                remedy = "Give the inner gateway an address of its own."
                yield path, f"{wan} is the address of {outer_key} itself", remedy


def _shortened(keys: list[str]) -> list[str]:
    return keys if len(keys) <= 9 else [*keys[:4], f"({len(keys) - 6} more)", *keys[-2:]]


def _loops(site: Site) -> dict[str, list[str]]:
    """The way around from each gateway that stands behind itself; each gateway is looked at once."""
    found: dict[str, list[str]] = {}
    done: set[str] = set()
    for start in site.gateways:
        way: list[str] = []
        places: dict[str, int] = {}  # of those on the way
        left: list[tuple[str, Iterator[str]]] = []

        def enter(key: str) -> None:
            places[key] = len(way)  # noqa: B023 - used within this turn
            way.append(key)  # noqa: B023
            left.append((key, iter(site.gateways[key].behind)))  # noqa: B023

        if start not in done:
            enter(start)
        while left:
            key, outers = left[-1]
            outer = next(outers, None)
            if outer is None:
                left.pop()
                way.pop()
                del places[key]
                done.add(key)
            elif outer in places:
                ring = way[places[outer] :]
                for at, member in enumerate(ring):
                    found.setdefault(member, [*ring[at:], *ring[:at]])
            elif outer in site.gateways and outer not in done:
                enter(outer)
    return found


def _too_many(site: Site) -> Iterator[Mistake]:
    """Chains that no building has: what is planned for them would take for ever."""
    ways: dict[str, tuple[int, int]] = {}  # how many, and how long the longest is
    left = list(site.gateways)
    while left:
        key = left[-1]
        outers = [outer for outer in site.gateways[key].behind if outer in site.gateways]
        missing = [outer for outer in outers if outer not in ways]
        if missing:
            left += missing
            continue
        left.pop()
        count = len(site.gateways[key].line) + sum(ways[outer][0] for outer in outers)
        length = 1 + max((ways[outer][1] for outer in outers), default=0)
        ways.setdefault(key, (min(count, WAYS + 1), length))
    for key, (count, length) in ways.items():
        path: Path = ("gateways", key, "behind")
        if length > IN_A_ROW and all(ways[outer][1] <= IN_A_ROW for outer in site.gateways[key].behind):
            yield (
                path,
                f"it stands behind {length - 1} gateways in a row; {IN_A_ROW - 1} are the most",
                "Correct `behind`.",
            )
        elif count > WAYS and all(ways[outer][0] <= WAYS for outer in site.gateways[key].behind):
            yield path, f"there are more than {WAYS} ways in to it", "Leave out outer gateways that are not used."


def _hosts(site: Site) -> Iterator[Mistake]:
    for key, host in site.hosts.items():
        path: Path = ("hosts", key, "address")
        if host.behind is not None:
            if host.behind in site.gateways and host.address not in site.gateways[host.behind].lan.network:
                network = site.gateways[host.behind].lan.network
                yield (
                    path,
                    f"{host.address} is not in the network {network} of {host.behind}",
                    "Correct one of the two.",
                )
            continue
        fitting = gateways_for(site, host.address)
        if not fitting:
            networks = (
                ", ".join(f"{g.lan.network} ({k})" for k, g in site.gateways.items()) or "none; add a [gateways.*]"
            )
            remedy = (
                f"The networks are: {networks}. Is it mistyped? If the device shows this address itself, it has it from"
                f" its factory, or is on another router: `{deeds.FIND}` hears such devices, and says how to reach them."
            )
            yield path, f"{host.address} is in no network of this site", remedy
        elif len(fitting) > 1:
            remedy = f'Add `behind = "{fitting[-1]}"`, or the one that is right; better, give one LAN another prefix.'
            yield path, f"{host.address} fits the networks of {' and '.join(fitting)}", remedy


def _services(site: Site, *, sound: bool) -> Iterator[Mistake]:
    for key, service in site.services.items():
        path: Path = ("services", key)
        if service.host in site.hosts and service.host in site.gateways:
            remedy = "Give the host another key; the gateway itself is named by its own."
            yield (*path, "host"), f"{service.host!r} is a host and a gateway", remedy
        if service.line in site.lines and service.host in site.devices and sound:
            yield from _service_line(site, key, service.line, site.devices[service.host])
        if not service.has_ports:
            for field in ("port", "outside_port"):
                if getattr(service, field) is not None:
                    yield (*path, field), f"the IP protocol {service.used_transport} has no ports", f"Remove `{field}`."
        elif service.port is None and service.speech.port is None:
            yield path, f"the key 'port' is missing: {service.speaks!r} has no usual port", "Add `port = NUMBER`."
        elif service.outside_port is not None and service.outside_port.size != service.used_ports.size:
            message = f"{service.outside_port} and the port {service.used_ports} differ in length"
            yield (*path, "outside_port"), message, "Make both ranges equally long."


def _service_line(site: Site, key: str, line: str, host: Host) -> Iterator[Mistake]:
    fitting = [host.behind] if host.behind in site.gateways else gateways_for(site, host.address)
    lines = [chain.line for chain in chains_to(site, fitting[0])] if fitting and fitting[0] is not None else []
    if lines and line not in lines:
        message = f"the way to its host comes from the line {' or '.join(map(repr, lines))}"
        yield ("services", key, "line"), message, "Leave `line` out, or correct it."


def name_of_line(site: Site, line: str) -> str | None:
    """The name that people use for a line, where it has exactly one."""
    names = names_of_line(site, line)
    return names[0] if len(names) == 1 else None


def names_of_line(site: Site, line: str) -> list[str]:
    """The names for a line that can be looked up: all but the wildcards."""
    return [key for key, name in site.names.items() if name.line == line and not is_wildcard(key)]


def planned_for(site: Site, service: str) -> str | None:
    """The certificate that the site file has for a service; None: it has none."""
    return next((key for key, entry in site.certificates.items() if service in entry.services), None)


PROOF_PORTS = {"http-01": 80, "tls-alpn-01": 443}  # where an authority looks (RFC 8555 section 8.3, RFC 8737 section 3)


def text_updater(site: Site, certificate: Certificate, name: str) -> str | None:
    """The updater that can set the TXT record by which a name is proven; None: none can."""
    entry = name_entry(site, name)
    key = certificate.text_by or (entry.updated_by if entry is not None else "")
    return key if key in site.updaters and site.updaters[key].sets_text else None


def name_entry(site: Site, name: str) -> Name | None:
    """The entry of [names] that a name belongs to: its own, or a wildcard's; of a wildcard that of its base too."""
    own = site.names.get(name) or next((site.names[key] for key in site.names if stands_for(key, name)), None)
    return own or (site.names.get(base(name)) if is_wildcard(name) else None)


ONLY = {  # keys of an updater that say something with one kind alone
    "http": ("set", "set_text", "clear_text", "trust", "form", "url"),
    "dns-update": ("server", "key", "algorithm"),
    "command": ("command", "time_limit", "texts"),
}


def _updater(key: str, updater: Updater) -> Iterator[Mistake]:
    path: Path = ("updaters", key)
    if updater.kind not in ONLY:
        return  # of another package, which says what it reads
    foreign = ["options", *(field for kind, fields in ONLY.items() if kind != updater.kind for field in fields)]
    foreign += ("answers", "user") if updater.kind == "dns-update" else ()
    for field in foreign:
        if field in updater.model_fields_set:
            yield (*path, field), f'this says nothing with kind = "{updater.kind}"', "Remove it, or correct `kind`."
    if updater.kind == "dns-update":
        for field in ("key", "token"):
            if getattr(updater, field) is None:
                yield path, f"the key {field!r} is missing: dynamic updates are signed", f"Add `{field} = ...`."
        return
    if updater.kind == "command":
        if not updater.command:
            yield path, "the key 'command' is missing", 'Add `command = ["/path/to/program", "argument"]`.'
        return
    if updater.form is not None:
        yield from _form(path, updater)
        if updater.url is None:
            return
    if updater.used_set is None:
        remedy = f"Add `form` and `url`, or [updaters.{key}.set]."
        yield path, "the table 'set' is missing: the request that publishes an address", remedy
    for part, request in (
        ("set" if updater.set is not None else "url", updater.used_set),
        ("set_text", updater.set_text),
        ("clear_text", updater.clear_text),
    ):
        if request is not None:
            yield from _request((*path, part), updater, request)


def _form(path: Path, updater: Updater) -> Iterator[Mistake]:
    assert updater.form is not None
    if updater.set is not None:
        yield (*path, "form"), "a form and a request of one's own exclude each other", "Remove `form`, or `set`."
    for field in FORMS[updater.form].needs:
        if getattr(updater, field) is None:
            yield path, f'the key {field!r} is missing, which form = "{updater.form}" needs', f"Add `{field} = ...`."
    if updater.form == "token" and updater.url is not None and "{token}" not in updater.url:
        yield (*path, "url"), "the address does not hold the {token}", "Put {token} where the provider's guide has it."


def _request(path: Path, updater: Updater, request: UpdaterRequest) -> Iterator[Mistake]:
    texts: list[tuple[Path, str]] = [((*path, "url"), request.url), ((*path, "body"), request.body or "")]
    texts += [((*path, "headers", name), value) for name, value in request.headers.items()]
    words = [(where, word) for where, text in texts for word in placeholders.used(text)]
    for where, word in words:
        if word not in placeholders.WORDS:
            near = nearest(word, placeholders.WORDS)
            hint = f"Write {{{near[0]}}}, or use" if near else "Use"
            remedy = f"{hint} one of {', '.join(f'{{{word}}}' for word in placeholders.WORDS)}."
            yield where, f"{{{word}}} is not known", remedy
        elif word in placeholders.SECRET and updater.token is None:
            yield where, f"{{{word}}} is used, but the updater has no `token`", 'Add `token = "file:PATH"`.'
        elif word in placeholders.SECRET and not request.url.startswith("https://"):
            yield (*path, "url"), "the secret would travel in clear text", "Use https://."
        elif word in ("user", "basic") and updater.user is None:
            yield where, f"{{{word}}} is used, but the updater has no `user`", "Add `user = ...`."
        elif word in ("zone", "host") and updater.zone is None:
            yield where, f"{{{word}}} is used, but the updater has no `zone`", "Add `zone = ...`."


def _names(site: Site) -> Iterator[Mistake]:
    for key, updater in site.updaters.items():
        yield from _updater(key, updater)
    for key, certificate in site.certificates.items():
        of = site.authorities.get(certificate.authority)
        if of is not None and of.kind == "own":
            for index, one in enumerate(certificate.names):
                if of.signs and not may_sign(of.signs, one):
                    remedy = f"Name one that is below {', '.join(of.signs)}, or let another authority issue it."
                    yield (
                        ("certificates", key, "names", index),
                        f"{certificate.authority} may not sign for {one}",
                        remedy,
                    )
        elif certificate.authority != "device":
            for index, one in enumerate(certificate.names):
                if name_entry(site, one) is None:
                    remedy = f'Add [names."{base(one)}"] with its line, or correct the name.'
                    yield ("certificates", key, "names", index), f"the name {one} is in no [names.*]", remedy
    for key, updater in site.updaters.items():
        if updater.trust is not None and updater.trust.kind != "file":
            yield ("updaters", key, "trust"), "a root certificate stands in a file", "Write file:PATH."
    for key, authority in site.authorities.items():
        if (authority.binding_id is None) != (authority.binding_key is None):
            missing = "binding_key" if authority.binding_key is None else "binding_id"
            yield (
                ("authorities", key),
                f"the key {missing!r} is missing: the two go together",
                f"Add `{missing} = ...`.",
            )
        if authority.kind == "acme" and authority.directory is None:
            yield ("authorities", key), "the key 'directory' is missing", 'Add `directory = ...`, or `kind = "own"`.'
        if authority.kind == "own" and (authority.directory is not None or authority.staging is not None):
            yield ("authorities", key, "directory"), "one of your own has no directory", "Take the line away."
        if authority.trust is not None and authority.trust.kind != "file":
            yield ("authorities", key, "trust"), "a root certificate stands in a file", "Write file:PATH."
