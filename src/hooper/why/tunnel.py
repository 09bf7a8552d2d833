"""Why a peer does not reach a service through its tunnel: the links from the device to the service. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime, timedelta

from hooper import deeds
from hooper.addresses import IPNetwork
from hooper.check.results import Result, Seen
from hooper.planning.access import enforced, grants, hidden_by, on_gateway, server_addresses
from hooper.planning.routes import return_routes
from hooper.planning.topology import Topology
from hooper.planning.tunnel_edits import device_of, handing
from hooper.planning.values import Plan
from hooper.site.model import Site
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Handed, Heard
from hooper.why.case import ORDER, THERE, Case, Certainty, WhyDocument
from hooper.why.facts import ServiceFacts

CLOCKS_DIFFER = timedelta(minutes=2)


@dataclass(frozen=True)
class PeerFacts:
    """What is known of a peer and its tunnel.

    gate: the diagnosis of the tunnel's own service. target: what is known of the service itself. handed: its file.
    mark, endpoint: of the file that it should have. made: the server's files were made with it as it is now; None: we
    do not make them. heard: what the server told of it; unheard: the server told, and does not know it. through: the
    service, probed through the tunnel; server: the server's own address in it; None: this machine is not the peer.
    around: the networks that this machine is in beside it. ticked: the gateways whose sheet is ticked off.
    certificate_ends: of its certificate, where it has one of our making. home: this machine is the peer, its tunnel is
    on, and it is at home, on the LAN of this gateway.
    """

    peer: str
    gate: WhyDocument
    target: ServiceFacts
    now: datetime
    handed: Handed | None = None
    mark: str | None = None
    endpoint: str | None = None
    made: bool | None = None
    heard: Heard | None = None
    unheard: bool = False
    through: Result | None = None
    server: Seen | None = None
    around: tuple[IPNetwork, ...] = ()
    ticked: frozenset[str] = field(default_factory=frozenset)
    certificate_ends: datetime | None = None
    home: str | None = None

    @property
    def today(self) -> date:
        return self.now.date()


def diagnose_peer(topology: Topology, plan: Plan, facts: PeerFacts) -> WhyDocument:
    """The first broken link between a peer's device and a service."""
    case = Case(topology, plan, facts.target)
    _peer(case, facts)
    _file(case, facts)
    _server(case, facts)
    _gate(case, facts)
    _tunnel(case, facts)
    _beyond(case, facts)
    order = ("peer", "profile", "server", "endpoint", "overlap", "tunnel", "way-back", "service")
    steps = tuple(case.steps[name] for name in order)
    through = facts.through.verdict if facts.through is not None else None
    ok: bool | None = None
    if through in THERE and facts.through is not None and facts.through.ok and case.steps["overlap"].state != "broken":
        ok, case.causes = True, [cause for cause in case.causes if cause.code == "peer-ended"]
    elif any(step.state == "broken" for step in steps) or any(
        cause.certainty != "possible" and cause.code != "asker-inside" for cause in case.causes
    ):
        ok = False
    causes = tuple(sorted(case.causes, key=lambda cause: ORDER[cause.certainty]))
    return WhyDocument(facts.target.service, ok, steps, causes, facts.gate.comparisons, facts.gate.findings)


def _peer(case: Case, facts: PeerFacts) -> None:
    """Its entry in the site file: the key, the last day, what it may reach."""
    site, key, service = case.site, facts.peer, facts.target.service
    peer, entry = site.peers[key], site.services[service]
    device = site.devices[entry.host]
    port = entry.used_ports.first if entry.has_ports else 0
    transport = "tcp" if entry.used_transport == "both" else entry.used_transport
    granted = any(grant.takes(device.address, transport, port) for grant in grants(site, key))
    if peer.until is not None and peer.until < facts.today:
        case.step("peer", "broken", f"its last day was {peer.until}")
        remedy = f"Give {key} a new `until`, make the server's files anew, and load them."
        case.cause("peer-ended", "certain", f"the time of {key} was over on {peer.until}", remedy)
    elif facts.certificate_ends is not None and facts.certificate_ends < facts.now:
        case.step("peer", "broken", f"its certificate ended on {facts.certificate_ends:%Y-%m-%d}")
        remedy = f"`{deeds.RENEW_PEER(key)}`, then hand it over, and load the server's new files."
        case.cause("peer-certificate-ended", "certain", f"the certificate of {key} has ended", remedy)
    elif peer.public_key is None and (site.tunnels[peer.tunnel].made_by == "hooper" or _wireguard(site, peer)):
        case.step("peer", "broken", "it has no key")
        remedy = f"`{deeds.RENEW_PEER(key)}`, then hand it over."
        case.cause("peer-without-key", "certain", f"{key} has no key, or it was revoked", remedy)
    elif not granted:
        case.step("peer", "broken", f"{service} is not among what it reaches")
        remedy = (
            f"Nothing is broken: so it was planned. Should {key} reach {service}, whoever keeps the site adds it"
            f" to its `into`, and loads the server's new files."
        )
        case.cause("peer-not-granted", "certain", f"{key} is not to reach {service}, by the site file", remedy)
    else:
        kept = "kept to that by the server" if enforced(site.tunnels[peer.tunnel]) == "server" else "kept by nobody"
        case.step("peer", "ok", f"it may reach {service}, {kept}")


def _wireguard(site: Site, peer: Peer) -> bool:
    return site.tunnels[peer.tunnel].kind == "wireguard"


def _how_to_hear(case: Case, tunnel: str) -> str:
    """How one hears from a server whom it saw."""
    entry = case.site.tunnels[tunnel]
    host = case.site.services[entry.service].host
    if entry.kind == "wireguard":
        return f"On {host}, as root: wg show all dump > FILE; then `{deeds.SEEN(tunnel)} FILE`."
    if entry.kind == "openvpn":
        return f"Bring the status file of OpenVPN's server from {host}; then `{deeds.SEEN(tunnel)} FILE`."
    return f"Look into the log of {host}, or at the list of who is connected on its page."


def _file(case: Case, facts: PeerFacts) -> None:
    """The file that its device has."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    tunnel, given = case.site.tunnels[peer.tunnel], facts.handed
    again = f"`{deeds.RENEW_PEER(key)}`, then `{handing(case.site, key)}`."
    if tunnel.made_by == "device":
        case.step("profile", "unknown", f"its file was made by the device; `{deeds.CHECK_PROFILE}` looks at it")
    elif given is None or given.public_key != peer.public_key:
        case.step("profile", "unknown", "nothing shows that its device has its file")
        if facts.through is None and peer.public_key is not None:
            message = f"{device_of(peer, key)} does not have the file with its key"
            case.cause("profile-outdated", "likely", message, f"`{handing(case.site, key)}`.", "Look on the device.")
    elif facts.mark is not None and given.mark != facts.mark and facts.endpoint not in (None, given.endpoint):
        case.step("profile", "broken", f"its file leads to {given.endpoint}, the server is at {facts.endpoint}")
        message = f"the file of {key} leads to {given.endpoint}, and the server is at {facts.endpoint} now"
        case.cause("endpoint-stale", "certain", message, again)
    elif facts.mark is not None and given.mark != facts.mark:
        case.step("profile", "unknown", f"its file of {given.at:%Y-%m-%d} is not what it would be given now")
        message = f"something has changed since {key} got its file on {given.at:%Y-%m-%d}"
        case.cause("profile-outdated", "likely", message, again, "Compare its file: `" + deeds.CHECK_PROFILE + "`.")
    else:
        case.step("profile", "ok", f"handed over on {given.at:%Y-%m-%d}, leads to {given.endpoint}")


def _server(case: Case, facts: PeerFacts) -> None:
    """Whether the server knows the peer, and its clock."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    tunnel = case.site.tunnels[peer.tunnel]
    host = case.site.services[tunnel.service].host
    files = f"`{deeds.MAKE_TUNNEL(peer.tunnel)}` writes its files; load them on {host}."
    dump = _how_to_hear(case, peer.tunnel)
    if facts.unheard:
        case.step("server", "broken", f"{host} does not know {key}, by what it told")
        case.cause("tunnel-peer-missing", "certain", f"the server on {host} does not know {key}", files)
    elif facts.heard is not None and facts.heard.handshake is not None:
        last = facts.heard.handshake
        if last - facts.now > CLOCKS_DIFFER:
            case.step("server", "unknown", f"its last handshake is dated {last:%Y-%m-%d %H:%M}, in the future")
            message = f"a clock has gone back: the last handshake of {key} is dated {last:%Y-%m-%d %H:%M}"
            remedy = f"Set the clocks of {device_of(peer, key)} and of {host} right."
            case.cause("peer-clock", "likely", message, remedy, "Look at both clocks.")
        else:
            case.step("server", "ok", f"{host} had its handshake on {last:%Y-%m-%d %H:%M}")
    elif facts.made is False:
        case.step("server", "unknown", "its files were made before the last change, or not at all")
        message = f"the server on {host} has not got the files that name {key} as it is now"
        case.cause("tunnel-peer-missing", "likely", message, files, dump)
    else:
        case.step("server", "unknown", "it has not told whether the peer was there")


def _gate(case: Case, facts: PeerFacts) -> None:
    """The way to the server: its own diagnosis, in one step."""
    broken = [step for step in facts.gate.steps if step.state == "broken"]
    there = facts.server is not None and comes_from(facts.server, case, facts.peer)
    if there or (facts.gate.ok and not broken):
        case.step("endpoint", "ok", "the server answers at the public address, and is the right one")
        return
    if broken:
        case.step("endpoint", "broken", *(f"{step.step}: {'; '.join(step.evidence)}" for step in broken))
    else:
        case.step("endpoint", "unknown", "nobody has looked from outside whether the server answers")
    for cause in facts.gate.causes:
        case.cause(cause.code, cause.certainty, cause.message, cause.remedy, cause.would_make_certain)


def _tunnel(case: Case, facts: PeerFacts) -> None:
    """The peer's own handshake, where this machine is the peer, and the network that it is in."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    if case.site.tunnels[peer.tunnel].kind == "ssh":
        _started(case, facts)
        return
    host = case.site.services[case.site.tunnels[peer.tunnel].service].host
    target = case.site.devices[case.site.services[facts.target.service].host].address
    if facts.home is not None and (facts.server is None or not comes_from(facts.server, case, key)):
        _at_home(case, facts, facts.home)
        return
    hidden = hidden_by(case.site, key, target, facts.around)
    up = facts.server is not None and comes_from(facts.server, case, key)
    if hidden is not None:
        case.step("overlap", "broken", f"this machine is in {hidden}, which holds {target} too")
        message = f"the network here is {hidden}: {target} is looked for among the neighbours, not in the tunnel"
        case.cause("network-overlap", "certain", message, "Use another network, such as a phone's mobile data.")
    else:
        known = facts.server is not None
        case.step(
            "overlap", "ok" if known else "skipped", "the network here is another" if known else "not on the peer"
        )
    if facts.server is None:
        case.step("tunnel", "unknown", "this machine is not the peer; look from its tunnel's interface there")
        return
    if up:
        case.step("tunnel", "ok", f"the server answers in the tunnel: {facts.server.detail}")
        return
    case.step("tunnel", "broken", f"nothing comes out of the tunnel: {facts.server.detail}")
    if facts.gate.ok or not facts.gate.causes:
        files = f"`{deeds.MAKE_TUNNEL(peer.tunnel)}` writes its files; load them on {host}."
        dump = _how_to_hear(case, peer.tunnel)
        message = f"the server answers the probe, and not {key}: it does not know its key"
        case.cause("tunnel-peer-missing", "likely", message, files, dump)
        message = f"the clock of {device_of(peer, key)} has gone back since its last handshake"
        case.cause("peer-clock", "possible", message, "Set it right, from the network.", "Look at its clock.")
        message = f"the file on {device_of(peer, key)} leads elsewhere than to the server"
        decide = f"`{deeds.CHECK_PROFILE} FILE` with the file that it has."
        case.cause("endpoint-stale", "possible", message, f"`{deeds.RENEW_PEER(key)}`, then hand it over.", decide)


def _at_home(case: Case, facts: PeerFacts, home: str) -> None:
    """The peer is at home with its tunnel on: it leads out and back in again, which few routers do."""
    case.step("overlap", "skipped", "this computer is at home")
    case.step(
        "tunnel", "unknown", f"this computer is {facts.peer}, at home on the LAN of {home}: it proves nothing here"
    )
    message = f"{facts.peer} is at home: its tunnel is for elsewhere, and here it leads out and back in again"
    remedy = (
        "Switch the tunnel off at home. To look, join another network, such as mobile data, and switch it on there."
    )
    case.cause("asker-inside", "certain", message, remedy)


def _started(case: Case, facts: PeerFacts) -> None:
    """Of SSH: whether a port of this machine leads anywhere."""
    case.step("overlap", "skipped", "it goes by a port of the device itself, whatever the network there is")
    through = facts.through
    if through is None:
        case.step("tunnel", "unknown", "this machine is not the peer, or is at home; look from there")
    elif through.verdict in THERE:
        case.step("tunnel", "ok", f"localhost:{through.port} leads to it")
    elif through.verdict == "refused":
        case.step("tunnel", "broken", f"nothing listens at localhost:{through.port}")
        name = case.site.peers[facts.peer].tunnel
        message = f"the tunnel {name} is not started on {device_of(case.site.peers[facts.peer], facts.peer)}"
        remedy = "Start it in a terminal, as the hand-over says, and read what it says there."
        case.cause("tunnel-not-started", "likely", message, remedy, "Look whether its window is open.")
    else:
        case.step("tunnel", "ok", f"localhost:{through.port} takes the connection")


def comes_from(seen: Seen, case: Case, peer: str) -> bool:
    """Whether something came out of the tunnel: an answer, or a message of the server's own address in it."""
    own = [str(one) for one in server_addresses(case.site.tunnels[case.site.peers[peer].tunnel])]
    return seen.verdict in (*THERE, "refused") or (seen.icmp is not None and seen.icmp.by in own)


def _beyond(case: Case, facts: PeerFacts) -> None:
    """Behind the server: its rules, its forwarding, the way back, the service itself."""
    inside, through, name = facts.target.inside, facts.through, facts.target.service
    if through is not None and through.verdict in THERE:
        case.step("way-back", "ok", "answers come back")
        case.step("service", "ok", f"through the tunnel: {through.verdict}, {through.detail}")
        return
    if inside is not None and inside.verdict in THERE:
        case.step("service", "ok", f"inside: {inside.verdict}, {inside.detail}")
    elif inside is not None and inside.verdict == "refused":
        host = case.site.services[name].host
        case.step("service", "broken", f"inside: {inside.detail}")
        case.cause("service-stopped", "likely", f"{name} does not run on {host}", "Start it.", f"Look on {host}.")
    else:
        case.step("service", "unknown", "nobody has looked at it from inside")
    up = case.steps["tunnel"].state == "ok"
    if case.site.tunnels[case.site.peers[facts.peer].tunnel].kind == "ssh":
        case.step("way-back", "skipped", "SSH brings its own answers back")
    elif through is None or not up:
        case.step("way-back", "unknown", *_ways_back(case, facts))
    elif _prohibited(through):
        case.step("way-back", "unknown", "the server lets nothing of this peer through to it")
        tunnel = case.site.peers[facts.peer].tunnel
        message = f"the server's rules do not let {facts.peer} go to {name}, though the site file does"
        case.cause("server-rules-old", "certain", message, f"Load the rules that `{deeds.MAKE_TUNNEL(tunnel)}` writes.")
    elif through.verdict == "refused":
        case.step("way-back", "ok", "answers come back")
        host = case.site.services[name].host
        case.step("service", "broken", f"through the tunnel: {through.detail}")
        case.cause("service-stopped", "likely", f"{name} does not run on {host}", "Start it.", f"Look on {host}.")
    else:
        case.step("way-back", "broken", f"the server answers in the tunnel, and {name} does not: {through.detail}")
        _swallowed(case, facts)


def _prohibited(result: Result) -> bool:
    icmp = result.evidence.icmp
    return icmp is not None and icmp.type == 3 and icmp.code in (9, 10, 13)


def _routes(case: Case, facts: PeerFacts) -> list[tuple[str, str, str]]:
    """The routes that answers need: gateway, network, next hop."""
    tunnel = case.site.tunnels[case.site.peers[facts.peer].tunnel]
    return [
        (gateway, route.prefix, route.via)
        for gateway, there in return_routes(case.site).items()
        for route in there
        if route.prefix == str(tunnel.subnet)
    ]


def _ways_back(case: Case, facts: PeerFacts) -> list[str]:
    routes = _routes(case, facts)
    if not routes:
        return ["answers go to the server's own address: no route is needed"]
    return [f"{gateway} needs the route {prefix} by {via}" for gateway, prefix, via in routes]


def _swallowed(case: Case, facts: PeerFacts) -> None:
    """The tunnel is up, and what lies behind the server is silent."""
    site = case.site
    tunnel = site.tunnels[site.peers[facts.peer].tunnel]
    server, host = site.services[tunnel.service].host, site.services[facts.target.service].host
    routes = _routes(case, facts)
    open_ones = [row for row in routes if row[0] not in facts.ticked]
    for gateway, prefix, via in routes:
        sure: Certainty = "likely" if (gateway, prefix, via) in open_ones else "possible"
        case.cause(
            "no-way-back",
            sure,
            f"{gateway} does not have the route {prefix} by {via}: answers of {host} go out to the internet",
            f'Enter it as `{deeds.SHEET(gateway)}` says; or `way_back = "nat"`, and load the server\'s new files.',
            f"Look for it on the page of {gateway} for static routes.",
        )
    if not on_gateway(site, tunnel) or routes:
        case.cause(
            "server-not-forwarding",
            "possible" if open_ones else "likely",
            f"{server} does not hand packets on",
            f"On {server}: sysctl -w net.ipv4.ip_forward=1; the files that were made do it at each start.",
            f"On {server}: sysctl net.ipv4.ip_forward says 1 where it does.",
        )
    if tunnel.way_back == "route":
        case.cause(
            "host-filters-strangers",
            "possible",
            f"the firewall of {host} answers its own network only, and peers come from {tunnel.subnet}",
            f'Let {tunnel.subnet} in there; or `way_back = "nat"`, and load the server\'s new files.',
            f"Switch the firewall of {host} off for a moment and look again.",
        )
    if facts.target.inside is None:
        case.cause("host-off", "possible", f"{host} is switched off or unplugged", "Look whether it runs.", "At home.")
