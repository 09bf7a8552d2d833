"""Why a peer does not reach a service through its tunnel: the links from the device to the service. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime, timedelta

from hooper import deeds
from hooper.addresses import IPNetwork
from hooper.check.results import Result, Seen
from hooper.evidence.worlds import Footing, judged
from hooper.planning.access import enforced, grants, handing, hidden_by, on_gateway, server_addresses
from hooper.planning.routes import return_routes
from hooper.planning.topology import Topology
from hooper.planning.tunnel_edits import device_of
from hooper.planning.values import Plan
from hooper.site.model import Site
from hooper.site.tunnel_tables import Peer
from hooper.store.kept import Handed, Heard, Stood
from hooper.why.case import ORDER, THERE, Case, Certainty, WhyDocument
from hooper.why.causes import certainties
from hooper.why.facts import ServiceFacts
from hooper.words.said import Said, say, together

BEHIND = {  # the words of causes behind the server
    "host-filters-strangers": "host-filters-strangers.swallowed", "host-filters-all": "host-filters-all.behind",
    "host-moved": "host-moved.behind", "service-stopped": "service-stopped.beyond",
}  # fmt: skip
MET: dict[str, tuple[str, Certainty]] = {  # how two ends stand that do not find each other
    "apart": ("nats-cannot-meet", "certain"), "alone": ("other-end-absent", "certain"),
    "unanswered": ("direct-way-blocked", "likely"),
}  # fmt: skip
CLOCKS_DIFFER = timedelta(minutes=2)


@dataclass(frozen=True)
class PeerFacts:
    """What is known of a peer and its tunnel.

    gate: the diagnosis of the tunnel's own service. target: what is known of the service itself. handed: its file.
    mark, endpoint: of the file that it should have. made: the server's files were made with it as it is now; None: we
    do not make them. heard: what the server told of it; unheard: the server told, and does not know it. through: the
    service, probed through the tunnel; server: the server's own address in it; None: this computer is not the peer.
    around: the networks that this computer is in beside it. ticked: the gateways whose sheet is ticked off. met: how it
    met its other end last, where its tunnel looks for the direct way. certificate_ends: of its certificate, where it
    has one of our making. home: this computer is the peer, its tunnel is on, and it is at home, on the LAN of this
    gateway.
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
    met: Stood | None = None

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
        case.step("peer", "broken", say("its-last-day-was", until=peer.until))
        remedy = say("give-a-new-until", key=key)
        case.cause("peer-ended", "certain", say("peer-ended.says", key=key, until=peer.until), remedy)
    elif facts.certificate_ends is not None and facts.certificate_ends < facts.now:
        case.step("peer", "broken", say("its-certificate-ended-on", certificate_ends=facts.certificate_ends))
        remedy = say("then-hand-it-over", renew_peer=deeds.RENEW_PEER(key))
        case.cause("peer-certificate-ended", "certain", say("peer-certificate-ended.says", key=key), remedy)
    elif peer.public_key is None and (site.tunnels[peer.tunnel].made_by == "hooper" or _wireguard(site, peer)):
        case.step("peer", "broken", say("it-has-no-key"))
        remedy = say("renew-and-hand", renew_peer=deeds.RENEW_PEER(key))
        case.cause("peer-without-key", "certain", say("peer-without-key.says", key=key), remedy)
    elif not granted:
        case.step("peer", "broken", say("is-not-among-what", service=service))
        remedy = say("nothing-is-broken-so", key=key, service=service)
        case.cause("peer-not-granted", "certain", say("peer-not-granted.says", key=key, service=service), remedy)
    else:
        kept = say("kept-to-that-by") if enforced(site.tunnels[peer.tunnel]) == "server" else say("kept-by-nobody")
        case.step("peer", "ok", say("it-may-reach", service=service, kept=kept))


def _wireguard(site: Site, peer: Peer) -> bool:
    return site.tunnels[peer.tunnel].of.keyed


def _how_to_hear(case: Case, tunnel: str) -> Said:
    """How one hears from a server whom it saw."""
    entry = case.site.tunnels[tunnel]
    host = case.site.services[entry.service].host
    if entry.kind == "wireguard":
        return say("on-as-root-wg", host=host, seen=deeds.SEEN(tunnel))
    if entry.kind == "openvpn":
        return say("bring-the-status-file", host=host, seen=deeds.SEEN(tunnel))
    return say("look-into-the-log", host=host)


def _file(case: Case, facts: PeerFacts) -> None:
    """The file that its device has."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    tunnel, given = case.site.tunnels[peer.tunnel], facts.handed
    again = say("then", renew_peer=deeds.RENEW_PEER(key), handing=handing(case.site, key))
    if tunnel.made_by == "device":
        case.step("profile", "unknown", say("its-file-was-made"))
    elif given is None or given.public_key != peer.public_key:
        case.step("profile", "unknown", say("nothing-shows-that-its"))
        if facts.through is None and peer.public_key is not None:
            message = say("does-not-have-the", device_of=device_of(peer, key))
            case.cause(
                "profile-outdated",
                "likely",
                message,
                say("do-that", deed=handing(case.site, key)),
                say("profile-outdated.sure"),
            )
    elif facts.mark is not None and given.mark != facts.mark and facts.endpoint not in (None, given.endpoint):
        case.step("profile", "broken", say("its-file-leads-to", endpoint=given.endpoint, facts_endpoint=facts.endpoint))
        message = say("the-file-of-leads", key=key, endpoint=given.endpoint, facts_endpoint=facts.endpoint)
        case.cause("endpoint-stale", "certain", message, again)
    elif facts.mark is not None and given.mark != facts.mark:
        case.step("profile", "unknown", say("its-file-of-is", at=given.at))
        message = say("something-has-changed-since", key=key, at=given.at)
        case.cause("profile-outdated", "likely", message, again, say("profile-outdated.file.sure"))
    else:
        case.step("profile", "ok", say("handed-over-on-leads", at=given.at, endpoint=given.endpoint))


def _server(case: Case, facts: PeerFacts) -> None:
    """Whether the server knows the peer, and its clock."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    tunnel = case.site.tunnels[peer.tunnel]
    host = case.site.services[tunnel.service].host
    files = say("writes-its-files-load", make_tunnel=deeds.MAKE_TUNNEL(peer.tunnel), host=host)
    dump = _how_to_hear(case, peer.tunnel)
    if facts.unheard:
        case.step("server", "broken", say("does-not-know-by", host=host, key=key))
        case.cause("tunnel-peer-missing", "certain", say("tunnel-peer-missing.says", host=host, key=key), files)
    elif facts.heard is not None and facts.heard.handshake is not None:
        last = facts.heard.handshake
        if last - facts.now > CLOCKS_DIFFER:
            case.step("server", "unknown", say("its-last-handshake-is", last=last))
            message = say("a-clock-has-gone", key=key, last=last)
            remedy = say("set-the-clocks-of", device_of=device_of(peer, key), host=host)
            case.cause("peer-clock", "likely", message, remedy, say("peer-clock.server.sure"))
        else:
            case.step("server", "ok", say("had-its-handshake-on", host=host, last=last))
    elif facts.made is False:
        case.step("server", "unknown", say("its-files-were-made"))
        message = say("the-server-on-has-not", host=host, key=key)
        case.cause("tunnel-peer-missing", "likely", message, files, dump)
    else:
        case.step("server", "unknown", say("it-has-not-told"))


def _gate(case: Case, facts: PeerFacts) -> None:
    """The way to the server: its own diagnosis, in one step."""
    if facts.met is not None and _met(case, facts.met):
        return
    broken = [step for step in facts.gate.steps if step.state == "broken"]
    there = facts.server is not None and comes_from(facts.server, case, facts.peer)
    if there or (facts.gate.ok and not broken):
        case.step("endpoint", "ok", say("the-server-answers-at"))
        return
    if broken:
        case.step(
            "endpoint",
            "broken",
            *(say("of-a-service", name=step.step, what=together(step.evidence)) for step in broken),
        )
    else:
        case.step("endpoint", "unknown", say("nobody-has-looked-from"))
    for cause in facts.gate.causes:
        case.cause(cause.code, cause.certainty, cause.message, cause.remedy, cause.would_make_certain)


def _met(case: Case, met: Stood) -> bool:
    """The way between both ends, as they found it when they met last; whether that tells how the peer comes."""
    one, witness = met.condition, case.site.tunnels[case.site.peers[met.condition.subject].tunnel].meet or ""
    if one.level == "well":
        case.step("endpoint", "ok", say("met-on", at=met.at, how=one.detail))
        return True
    if one.state not in MET:
        return False
    case.step("endpoint", "broken", say("met-on", at=met.at, how=one.detail))
    code, certainty = MET[one.state]
    host = case.site.services[case.site.tunnels[case.site.peers[one.subject].tunnel].service].host
    rent, meet = deeds.RENT("ADDRESS", host), deeds.MEET(one.subject)
    case.caused(code, certainty, key=one.subject, witness=witness, rent=rent, meet=meet)
    return True


def _tunnel(case: Case, facts: PeerFacts) -> None:
    """The peer's own handshake, where this computer is the peer, and the network that it is in."""
    key, peer = facts.peer, case.site.peers[facts.peer]
    if not case.site.tunnels[peer.tunnel].of.whole:
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
        case.step("overlap", "broken", say("this-machine-is-in", hidden=hidden, target=target))
        message = say("the-network-here-is", hidden=hidden, target=target)
        case.cause("network-overlap", "certain", message, say("network-overlap.do"))
    else:
        known = facts.server is not None
        case.step(
            "overlap",
            "ok" if known else "skipped",
            say("the-network-here-is-another") if known else say("not-on-the-peer"),
        )
    if facts.server is None:
        case.step("tunnel", "unknown", say("this-machine-is-not-the"))
        return
    if up:
        case.step("tunnel", "ok", say("the-server-answers-in", detail=facts.server.detail))
        return
    case.step("tunnel", "broken", say("nothing-comes-out-of", detail=facts.server.detail))
    if facts.gate.ok or not facts.gate.causes:
        files = say("writes-its-files-load", make_tunnel=deeds.MAKE_TUNNEL(peer.tunnel), host=host)
        dump = _how_to_hear(case, peer.tunnel)
        message = say("the-server-answers-the", key=key)
        case.cause("tunnel-peer-missing", "likely", message, files, dump)
        message = say("the-clock-of-has", device_of=device_of(peer, key))
        case.cause("peer-clock", "possible", message, say("peer-clock.do"), say("peer-clock.sure"))
        message = say("the-file-on-leads", device_of=device_of(peer, key))
        decide = say("file-with-the-file")
        case.cause(
            "endpoint-stale", "possible", message, say("endpoint-stale.do", renew_peer=deeds.RENEW_PEER(key)), decide
        )


def _at_home(case: Case, facts: PeerFacts, home: str) -> None:
    """The peer is at home with its tunnel on: it leads out and back in again, which few routers do."""
    case.step("overlap", "skipped", say("this-computer-is-at"))
    case.step("tunnel", "unknown", say("this-computer-is-at-home", peer=facts.peer, home=home))
    message = say("is-at-home-its", peer=facts.peer)
    remedy = say("switch-the-tunnel-off")
    case.cause("asker-inside", "certain", message, remedy)


def _started(case: Case, facts: PeerFacts) -> None:
    """Of SSH: whether a port of this computer leads anywhere."""
    case.step("overlap", "skipped", say("it-goes-by-a"))
    through = facts.through
    if through is None:
        case.step("tunnel", "unknown", say("this-machine-is-not-the-peer"))
    elif through.verdict in THERE:
        case.step("tunnel", "ok", say("localhost-leads-to-it", port=through.port))
    elif through.verdict == "refused":
        case.step("tunnel", "broken", say("nothing-listens-at-localhost", port=through.port))
        name = case.site.peers[facts.peer].tunnel
        message = say("the-tunnel-is-not", name=name, device_of=device_of(case.site.peers[facts.peer], facts.peer))
        remedy = say("start-it-in-a")
        case.cause("tunnel-not-started", "likely", message, remedy, say("tunnel-not-started.sure"))
    else:
        case.step("tunnel", "ok", say("localhost-takes-the-connection", port=through.port))


def comes_from(seen: Seen, case: Case, peer: str) -> bool:
    """Whether something came out of the tunnel: an answer, or a message of the server's own address in it."""
    own = [str(one) for one in server_addresses(case.site.tunnels[case.site.peers[peer].tunnel])]
    return seen.verdict in (*THERE, "refused") or (seen.icmp is not None and seen.icmp.by in own)


def _beyond(case: Case, facts: PeerFacts) -> None:
    """Behind the server: its rules, its forwarding, the way back, the service itself."""
    inside, through, name = facts.target.inside, facts.through, facts.target.service
    if through is not None and through.verdict in THERE:
        case.step("way-back", "ok", say("answers-come-back"))
        case.step("service", "ok", say("through-the-tunnel", verdict=through.verdict, detail=through.detail))
        return
    if inside is not None and inside.verdict in THERE:
        case.step("service", "ok", say("inside", verdict=inside.verdict, detail=inside.detail))
    elif inside is not None and inside.verdict == "refused":
        host = case.site.services[name].host
        case.step("service", "broken", say("inside-says", detail=inside.detail))
        case.caused("service-stopped.beyond", "likely", name=name, host=host)
    else:
        case.step("service", "unknown", say("nobody-has-looked-at"))
    up = case.steps["tunnel"].state == "ok"
    if not case.site.tunnels[case.site.peers[facts.peer].tunnel].of.whole:
        case.step("way-back", "skipped", say("ssh-brings-its-own"))
    elif through is None or not up:
        case.step("way-back", "unknown", *_ways_back(case, facts))
    elif _prohibited(through):
        case.step("way-back", "unknown", say("the-server-lets-nothing"))
        tunnel = case.site.peers[facts.peer].tunnel
        message = say("the-servers-rules-do", peer=facts.peer, name=name)
        case.cause(
            "server-rules-old", "certain", message, say("server-rules-old.do", make_tunnel=deeds.MAKE_TUNNEL(tunnel))
        )
    elif through.verdict == "refused":
        case.step("way-back", "ok", say("answers-come-back"))
        host = case.site.services[name].host
        case.step("service", "broken", say("through-the-tunnel-says", detail=through.detail))
        case.caused("service-stopped.beyond", "likely", name=name, host=host)
    else:
        case.step("way-back", "broken", say("the-server-answers-in-the", name=name, detail=through.detail))
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


def _ways_back(case: Case, facts: PeerFacts) -> list[Said]:
    routes = _routes(case, facts)
    if not routes:
        return [say("answers-go-to-the")]
    return [say("needs-the-route-by", gateway=gateway, prefix=prefix, via=via) for gateway, prefix, via in routes]


def _swallowed(case: Case, facts: PeerFacts) -> None:
    """The tunnel is up, and what lies behind the server is silent."""
    site, inside = case.site, facts.target.inside
    tunnel = site.tunnels[site.peers[facts.peer].tunnel]
    server, host = site.services[tunnel.service].host, site.services[facts.target.service].host
    routes = _routes(case, facts)
    open_ones = [row for row in routes if row[0] not in facts.ticked]
    seen = {"through": ("silent",), "route": ("open" if open_ones else "ticked" if routes else "none",)}
    if inside is not None and inside.verdict in (*THERE, "refused", "silent"):
        seen["inside"] = ("same" if inside.verdict in THERE else inside.verdict,)
    never = {"no-way-back": not routes, "server-not-forwarding": on_gateway(site, tunnel) and not routes,
             "host-filters-strangers": tunnel.way_back != "route"}  # fmt: skip
    on = Footing((), way="behind", without=frozenset(code for code, so in never.items() if so))
    for code, certainty in certainties(judged(on, seen).causes, ()):
        for gateway, prefix, via in (open_ones or routes)[:1] if code == "no-way-back" else (("", "", ""),):
            case.caused(
                BEHIND.get(code, code), certainty, name=facts.target.service, gateway=gateway, prefix=prefix, via=via,
                host=host, server=server, sheet=deeds.SHEET(gateway), subnet=tunnel.subnet,
                router=case.topology.gateway(host), address=str(site.devices[host].address),
            )  # fmt: skip
