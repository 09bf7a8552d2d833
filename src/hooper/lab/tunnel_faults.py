"""The faults that the town's tunnel can have."""

from __future__ import annotations

from datetime import timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from hooper import deeds
from hooper.lab.boathouse import CLUB, MOBILE
from hooper.lab.certificates import self_signed
from hooper.lab.fault import Apply, Fault, NothingToBreak, Undo, both, changed, placed, setting
from hooper.lab.gate import Client, Gate
from hooper.lab.town import Town
from hooper.wire.wireguard import Responder, generate_private

STALE = "203.0.113.40"  # what the line had last week, and somebody else has now
LOOK = f"{deeds.WHY_PEER}"


def _gate(town: Town) -> Gate:
    if town.gate is None or town.gate.responder is None:
        raise NothingToBreak("the gate has no tunnel yet", remedy=f"Give it its files first: `{deeds.LOAD_TUNNEL}`.")
    return town.gate


def _clients(town: Town) -> list[Client]:
    _gate(town)
    if not town.clients:
        raise NothingToBreak("no machine has a profile yet", remedy=f"Give one its file first: `{deeds.LOAD_TUNNEL}`.")
    return list(town.clients.values())


def _forget_sessions(town: Town) -> None:
    for client in town.clients.values():
        client.session = None


def _other_key(town: Town, service: str) -> Undo:
    """The gate was set up anew, with a key that nobody knows."""
    _forget_sessions(town)
    return changed(_gate(town), responder=Responder(generate_private()))


def _peers_missing(town: Town, service: str) -> Undo:
    """Somebody has put back a file from before the peers were there; the probe was."""
    gate = _gate(town)
    old = gate.peers
    gate.peers = {key: one for key, one in old.items() if not one.allowed}
    _forget_sessions(town)

    def undo() -> None:
        gate.peers = {**old, **gate.peers}

    return undo


def _no_way_back(town: Town, service: str) -> Undo:
    """The club's router has forgotten its static routes."""
    _gate(town)
    return changed(town.boxes["club-router"], routes=[])


def _overlap(town: Town, service: str) -> Undo:
    """The mobile network has the addresses of the club's LAN."""
    _clients(town)
    carrier, home = town.boxes["mobile-carrier"], town.segments[CLUB]
    own = [one for node in town.nodes.values() for one in node.attachments if one.segment == MOBILE]

    def moved(address: IPv4Address | None) -> IPv4Address | None:
        return home[200 + int(address) % 50] if address is not None else None

    _forget_sessions(town)
    return both(
        lambda: _forget_sessions(town),
        placed(town.segments, MOBILE, IPv4Network(str(home))),
        changed(carrier, lan=IPv4Interface(f"{moved(carrier.lan.ip)}/24")),
        *(changed(one, address=moved(one.address) or one.address, gateway=moved(one.gateway)) for one in own),
    )


def _of_clients(name: str, value: object) -> Apply:
    """Another setting of the machines that have profiles."""

    def apply(town: Town, service: str) -> Undo:
        _forget_sessions(town)
        return both(*(changed(one.node if name == "clock_off" else one, **{name: value}) for one in _clients(town)))

    return apply


def _other_authority(town: Town, service: str) -> Undo:
    """The OpenVPN server was set up anew, with an authority that nobody knows; the shared key is the old one."""
    if not town.servers:
        raise NothingToBreak(
            "no machine has an OpenVPN server yet", remedy=f"Give one its files first: `{deeds.LOAD_TUNNEL}`."
        )
    old = {name: server.context for name, server in town.servers.items()}
    stranger = self_signed("gate.local", town.now()).context
    for server in town.servers.values():
        server.context = stranger
        server.conversations.clear()

    def undo() -> None:
        for name, server in town.servers.items():
            server.context = old.get(name, server.context)
            server.conversations.clear()

    return undo


def _not_started(town: Town, service: str) -> Undo:
    """Nobody has started ssh on the peers' machines, or it has ended."""
    if not town.ssh_clients:
        raise NothingToBreak("no machine goes by SSH yet", remedy=f"Start one first: `{deeds.LOAD_TUNNEL}`.")
    stopped = list(town.ssh_clients.values())
    for client in stopped:
        client.stop()
    return both(*(client.start for client in stopped))


TUNNEL_FAULTS = (
    Fault("ssh-not-started", _not_started, "film-shell", LOOK),
    Fault("openvpn-other-authority", _other_authority, "gate"),
    Fault("tunnel-other-key", _other_key, "gate"),
    Fault("tunnel-peers-missing", _peers_missing, "gate", LOOK),
    Fault("tunnel-no-way-back", _no_way_back, "gate", LOOK),
    Fault("tunnel-not-forwarding", setting(lambda town, _: _gate(town), forwards=False), "gate", LOOK),
    Fault("tunnel-overlap", _overlap, "gate", LOOK),
    Fault("tunnel-endpoint-stale", _of_clients("host", STALE), "gate", LOOK),
    Fault("tunnel-clock-back", _of_clients("clock_off", timedelta(days=-1)), "gate", LOOK),
)
