"""The kinds of line that the town can have, how its NAT behaves, and who in it answers nothing."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields, replace
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any, Literal, get_args

from hooper.chosen import chosen
from hooper.lab import devices
from hooper.lab.boathouse import FAR_BOX, INTERNET, MOBILE, PUBLIC, SHARED, WRONG_RESOLVER
from hooper.lab.igd import IgdRouter
from hooper.lab.things import Attachment, Box, Dependence, Machine
from hooper.lab.town import Town

Speaking = Literal["inner", "outer", "both", "none"]
Dead = Literal["stun", "gateway", "resolver", "everything"]
Resolver = Literal["usual", "unset", "wrong"]
OWN_PORTS = range(20480, 21504)  # of a line that shares its address: one in 64


@dataclass(frozen=True, slots=True)
class Shape:
    """What is set. kind: one of KINDS. far_mapping, far_filtering: of the hut's carrier. speaks: which of the gateways
    answer a protocol. dead: who answers nothing.
    """

    kind: str = "several-nats"
    mapping: Dependence = "endpoint"
    filtering: Dependence = "address-and-port"
    hairpin: bool = False
    speaks: Speaking = "inner"
    dead: tuple[Dead, ...] = ()
    resolver: Resolver = "usual"
    far_mapping: Dependence = "endpoint"
    far_filtering: Dependence = "address-and-port"

    @classmethod
    def read(cls, given: dict[str, Any]) -> Shape:
        """Raises: UsageError: a word that means nothing here."""
        values: dict[str, Any] = {
            key: tuple(value) if isinstance(value, list) else value for key, value in given.items()
        }
        shape = replace(cls(), **values)
        words: dict[str, tuple[Any, ...]] = {
            "kind": tuple(KINDS),
            "mapping": get_args(Dependence),
            "filtering": get_args(Dependence),
            "far_mapping": get_args(Dependence),
            "far_filtering": get_args(Dependence),
            "speaks": get_args(Speaking),
            "dead": get_args(Dead),
            "resolver": get_args(Resolver),
        }
        for name, known in words.items():
            value = getattr(shape, name)
            chosen(
                value if isinstance(value, tuple) else (value,),
                known,
                f"--{name.replace('_', '-')}" if name != "kind" else "kind of line",
            )
        return shape


def _one_nat(town: Town) -> None:
    del town.boxes["fibre-box"]
    club = town.boxes["club-router"]
    club.outer, club.wan = INTERNET, PUBLIC


def _public(town: Town) -> None:
    del town.boxes["fibre-box"], town.boxes["club-router"]
    town.nodes["here"].attachments[0] = Attachment("lan0", INTERNET, PUBLIC, "02:00:5e:03:13:44")


def _behind(town: Town, key: str, lan: str, wan: str, *, is_router: bool = False) -> Box:
    """Another box before the outermost: its LAN is where that one is now."""
    town.segments[SHARED] = IPv4Interface(lan).network
    box = Box(key, INTERNET, PUBLIC, SHARED, IPv4Interface(lan), is_router=is_router)
    town.boxes[key] = box
    fibre = town.boxes["fibre-box"]
    fibre.outer, fibre.wan = SHARED, IPv4Address(wan)
    return box


def _third_box(town: Town) -> None:
    box = _behind(town, "modem", "192.168.100.1/24", "192.168.100.2", is_router=True)
    town.igd[box.key] = IgdRouter(town, box)


def _shared_ports(town: Town) -> None:
    town.boxes["fibre-box"].ports = OWN_PORTS


def _two_lines(town: Town) -> None:
    town.boxes["fibre-box"].other_exit = IPv4Address("203.0.113.77")


def _down(town: Town) -> None:
    town.boxes["fibre-box"].wan = IPv4Address(0)


def _tunnel(town: Town) -> None:
    """Somebody has left the VPN of work switched on."""
    town.segments["tunnel"] = IPv4Network("100.80.1.0/24")
    exit_ = Box("vpn-exit", INTERNET, IPv4Address("198.51.100.200"), "tunnel", IPv4Interface("100.80.1.1/24"))
    exit_.is_router, exit_.udp = False, {53: town.zone.resolver}
    town.boxes[exit_.key] = exit_
    way = Attachment("tun0", "tunnel", IPv4Address("100.80.1.2"), "", IPv4Address("100.80.1.1"), 5, tunnel=True)
    town.nodes["here"].attachments.append(way)


@dataclass(frozen=True, slots=True)
class Kind:
    """situation: what a survey has to come to, as far as the routers tell or reveal enough."""

    situation: str
    apply: Callable[[Town], None]


KINDS: dict[str, Kind] = {
    "several-nats": Kind("several-nats", lambda _: None),
    "one-nat": Kind("one-nat", _one_nat),
    "public": Kind("public", _public),
    "third-box": Kind("several-nats", _third_box),
    "carrier-nat": Kind(
        "carrier-nat", lambda town: _void(_behind(town, "provider-nat", "100.64.44.1/24", "100.64.44.9"))
    ),
    "hidden-carrier": Kind(
        "carrier-nat", lambda town: _void(_behind(town, "provider-nat", "198.51.100.193/28", "198.51.100.201"))
    ),
    "ds-lite": Kind("shared-ports", lambda town: _void(_behind(town, "provider-nat", "192.0.0.1/29", "192.0.0.2"))),
    "shared-ports": Kind("shared-ports", _shared_ports),
    "no-ipv4": Kind("no-ipv4", _down),
    "two-lines": Kind("unclear", _two_lines),
    "tunnel": Kind("several-nats", _tunnel),
}


def _void(_: object) -> None:
    """For what is done for its effect."""


PLUGS = ("home", "between", "away")  # where the laptop may be


@dataclass
class LineSetter:
    """What the town's line is now, and the town as it was built."""

    town: Town
    shape: Shape = field(default_factory=Shape)
    _built: dict[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self._keep()

    def _keep(self) -> None:
        town = self.town
        self._built = {
            "boxes": {key: (box, _copied(box)) for key, box in town.boxes.items()},
            "igd": dict(town.igd),
            "segments": dict(town.segments),
            "attachments": {key: list(node.attachments) for key, node in town.nodes.items()},
            "udp": {key: dict(node.udp) for key, node in town.nodes.items()},
        }

    def _restore(self) -> None:
        town = self.town
        town.boxes = {}
        for key, (box, values) in self._built["boxes"].items():
            rules = (box.rules, box.openings, box.reservations, box.routes)  # what was entered stays
            for name, value in values.items():
                setattr(box, name, value.copy() if isinstance(value, dict | set) else value)
            box.rules, box.openings, box.reservations, box.routes = rules
            box.flows.clear()
            box.answers.clear()
            town.boxes[key] = box
        tunnels = {name: town.segments[name] for name in town.clients}
        town.igd, town.segments = dict(self._built["igd"]), {**self._built["segments"], **tunnels}
        for key, node in town.nodes.items():
            loaded = [one for one in node.attachments if one.segment in tunnels]
            node.attachments = [*self._built["attachments"][key], *loaded]
            node.udp = dict(self._built["udp"][key])
        if town.gate is not None:
            town.gate.listen()
        for router in town.igd.values():
            router.mute = False
            router.listen()
        town.resolver_dead = town.cut = town.without_ipv6 = False
        town.resolvers = None

    def set(self, shape: Shape) -> None:
        """Make the line so; whatever it was before is forgotten, but for what was entered into the boxes."""
        self._restore()
        town, self.shape = self.town, shape
        KINDS[shape.kind].apply(town)
        own = [box for box in town.boxes.values() if box.is_router]
        for box in own:
            box.mapping, box.filtering, box.hairpin = shape.mapping, shape.filtering, shape.hairpin
        far = town.boxes[FAR_BOX]
        far.mapping, far.filtering = shape.far_mapping, shape.far_filtering
        self._speaking(shape.speaks)
        if "stun" in shape.dead:
            for key in ("stun-1", "stun-2"):
                town.nodes[key].udp = dict.fromkeys(town.nodes[key].udp, devices.mute)
        if "gateway" in shape.dead:
            self._speaking("none")
            for box in own:
                box.reveals = False
        if "resolver" in shape.dead:
            town.resolver_dead = True
            machines: list[Box | Machine] = [*town.boxes.values(), town.nodes["resolver"], town.nodes["phone"]]
            for machine in machines:
                machine.udp = {port: devices.mute if port == 53 else one for port, one in machine.udp.items()}
        town.cut = "everything" in shape.dead
        self._resolver(shape.resolver)

    def _speaking(self, who: Speaking) -> None:
        town = self.town
        if who in ("outer", "both") and "fibre-box" in town.boxes:
            town.igd["fibre-box"] = IgdRouter(town, town.boxes["fibre-box"])
        wanted = {"inner": ("club-router",), "outer": ("fibre-box", "modem"), "none": ()}.get(who)
        for key, router in town.igd.items():
            router.mute = wanted is not None and key not in wanted
            router.listen()

    def _resolver(self, which: Resolver) -> None:
        town = self.town
        if which == "unset":
            town.resolvers, town.resolver_dead = (IPv4Address(0),), True
        elif which == "wrong":
            town.resolvers = (WRONG_RESOLVER,)

    def plug(self, where: str) -> None:
        """Carry the laptop: home is the club's LAN, between is between the two boxes, away has the phone's data alone.

        Raises: UsageError.
        """
        chosen((where,), PLUGS, "socket")
        built, here = self._built["attachments"], self.town.nodes["here"]
        tunnels = [one for one in here.attachments if one.tunnel]
        own = built["between" if where == "between" else "here"]
        here.attachments = [*(one for one in own if where != "away" or one.segment == MOBILE), *tunnels]


def _copied(box: Box) -> dict[str, Any]:
    values = {field.name: getattr(box, field.name) for field in fields(box)}
    return {name: value.copy() if isinstance(value, dict | set) else value for name, value in values.items()}
