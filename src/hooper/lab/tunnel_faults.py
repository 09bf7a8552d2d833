"""The faults that the town's tunnel can have."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from ipaddress import IPv4Address, IPv4Interface, IPv4Network

from hooper import deeds
from hooper.lab.boathouse import CLUB, MOBILE
from hooper.lab.certificates import self_signed
from hooper.lab.fault import Fault, NothingToBreak, Undo
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
    del service
    gate = _gate(town)
    old, gate.responder = gate.responder, Responder(generate_private())
    _forget_sessions(town)

    def undo() -> None:
        gate.responder = old

    return undo


def _peers_missing(town: Town, service: str) -> Undo:
    """Somebody has put back a file from before the peers were there; the probe was."""
    del service
    gate = _gate(town)
    old = gate.peers
    gate.peers = {key: one for key, one in old.items() if not one.allowed}
    _forget_sessions(town)

    def undo() -> None:
        gate.peers = {**old, **gate.peers}

    return undo


def _no_way_back(town: Town, service: str) -> Undo:
    """The club's router has forgotten its static routes."""
    del service
    _gate(town)
    box = town.boxes["club-router"]
    old, box.routes = box.routes, []

    def undo() -> None:
        box.routes = old

    return undo


def _not_forwarding(town: Town, service: str) -> Undo:
    """The gate's system hands nothing on any more."""
    del service
    gate = _gate(town)
    gate.forwards = False

    def undo() -> None:
        gate.forwards = True

    return undo


def _overlap(town: Town, service: str) -> Undo:
    """The mobile network has the addresses of the club's LAN."""
    del service
    _clients(town)
    carrier, old_network = town.boxes["mobile-carrier"], town.segments[MOBILE]
    home = town.segments[CLUB]
    own = [one for node in town.nodes.values() for one in node.attachments if one.segment == MOBILE]
    before = [(one, one.address, one.gateway) for one in own]
    old_lan = carrier.lan
    town.segments[MOBILE] = IPv4Network(str(home))

    def moved(address: IPv4Address | None) -> IPv4Address | None:
        return home[200 + int(address) % 50] if address is not None else None

    for one in own:
        one.address, one.gateway = moved(one.address) or one.address, moved(one.gateway)
    carrier.lan = IPv4Interface(f"{moved(old_lan.ip)}/24")
    _forget_sessions(town)

    def undo() -> None:
        town.segments[MOBILE], carrier.lan = old_network, old_lan
        for one, address, gateway in before:
            one.address, one.gateway = address, gateway
        _forget_sessions(town)

    return undo


def _of_clients(name: str, value: object) -> Callable[[Town, str], Undo]:
    """Another setting of the machines that have profiles."""

    def apply(town: Town, service: str) -> Undo:
        del service
        things = [one.node if name == "clock_off" else one for one in _clients(town)]
        old = [(one, getattr(one, name)) for one in things]
        for one in things:
            setattr(one, name, value)
        _forget_sessions(town)

        def undo() -> None:
            for one, before in old:
                setattr(one, name, before)

        return undo

    return apply


def _other_authority(town: Town, service: str) -> Undo:
    """The OpenVPN server was set up anew, with an authority that nobody knows; the shared key is the old one."""
    del service
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
    del service
    if not town.ssh_clients:
        raise NothingToBreak("no machine goes by SSH yet", remedy=f"Start one first: `{deeds.LOAD_TUNNEL}`.")
    stopped = list(town.ssh_clients.values())
    for client in stopped:
        client.stop()

    def undo() -> None:
        for client in stopped:
            client.start()

    return undo


TUNNEL_FAULTS = (
    Fault("ssh-not-started", _not_started, "film-shell", LOOK),
    Fault("openvpn-other-authority", _other_authority, "gate"),
    Fault("tunnel-other-key", _other_key, "gate"),
    Fault("tunnel-peers-missing", _peers_missing, "gate", LOOK),
    Fault("tunnel-no-way-back", _no_way_back, "gate", LOOK),
    Fault("tunnel-not-forwarding", _not_forwarding, "gate", LOOK),
    Fault("tunnel-overlap", _overlap, "gate", LOOK),
    Fault("tunnel-endpoint-stale", _of_clients("host", STALE), "gate", LOOK),
    Fault("tunnel-clock-back", _of_clients("clock_off", timedelta(days=-1)), "gate", LOOK),
)
