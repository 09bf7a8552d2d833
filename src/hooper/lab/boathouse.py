"""The town of the demo: the rowing club's boathouse, its two boxes, the mobile network and the machines outside."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from datetime import datetime, timedelta
from importlib.resources import files
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address

from anyio.abc import ByteStream

from hooper.lab import acme, devices
from hooper.lab.certificates import TownAuthority, self_signed
from hooper.lab.gate import Gate
from hooper.lab.igd import IgdRouter
from hooper.lab.provider import NameProvider
from hooper.lab.revocation_office import office
from hooper.lab.things import Attachment, Box, Machine, StreamHandler, made_up_mac
from hooper.lab.town import Town
from hooper.lab.web_server import HandsOn
from hooper.lab.zone import PRIMARY, ZONE
from hooper.net.types import Endpoint
from hooper.wire import head, mdns
from hooper.wire.mdns import LocalAnswer

NAME = "boathouse.heronquay.example"
PROVIDER = "names.heronquay.example"
ECHO, ECHO_NAME = "198.51.100.91", "echo.heronquay.example"
SERVERS = {PRIMARY: "198.51.100.53", acme.HOST: "198.51.100.80", PROVIDER: "198.51.100.90"}
PUBLIC = IPv4Address("203.0.113.44")
SECOND = "198.51.100.54"  # the zone's second server, where it has one
WRONG_RESOLVER = IPv4Address("192.0.2.66")
INTERNET, BETWEEN, CLUB, GUEST = "internet", "between", "club", "guest"
MOBILE, SECOND_MOBILE, SHARED = "mobile", "second-mobile", "shared"
FAR_BOX, FAR = "second-carrier", "quay-hut"  # the hut at the other end of the quay, on a mobile line of its own
# service: (host, transport, inside port, outside port); the lab knows its devices, not the site file
SERVICES: dict[str, tuple[str, str, int, int]] = {
    "slip-film": ("slip-cam", "tcp", 554, 10554),
    "slip-page": ("slip-cam", "tcp", 80, 80),
    "recorder-page": ("recorder", "tcp", 8085, 8085),
    "recorder-stream": ("recorder", "tcp", 9480, 9480),
    "recorder-app": ("recorder", "tcp", 9481, 9481),
    "film-page": ("film-box", "tcp", 443, 443),
    "film-shell": ("film-box", "tcp", 22, 22),
    "desk": ("desk", "tcp", 3389, 3389),
    "timing-desk": ("timing-desk", "tcp", 3389, 13389),
    "hub-page": ("hub", "tcp", 8443, 8443),
    "gate": ("gate", "udp", 51820, 51820),
}
LAN6, MOBILE6 = "2001:db8:44:7::", "2001:db8:72::"
HOSTS = {
    "slip-cam": "10.44.7.21",
    "recorder": "10.44.7.22",
    "film-box": "10.44.7.30",
    "desk": "10.44.7.40",
    "timing-desk": "10.44.7.41",
    "hub": "10.44.7.50",
    "gate": "10.44.7.60",
}


ANNOUNCED = {  # by multicast DNS
    "slip-cam": LocalAnswer("slip-cam", ("_http._tcp", "_rtsp._tcp"), ("Slipway camera",)),
    "recorder": LocalAnswer("recorder", ("_http._tcp",), ("Recorder",)),
    "film-box": LocalAnswer("film-box", ("_https._tcp", "_webdavs._tcp"), ("Race films",)),
}
UNPACKED, FACTORY = "quay-cam", "192.168.1.64"


def site_file() -> bytes:
    """The boathouse's site file."""
    return files("hooper.lab").joinpath("boathouse.toml").read_bytes()


PHONE = {  # where it may be: interface, network, address, gateway
    "away": ("eth0", MOBILE, IPv4Address("100.72.5.9"), IPv4Address("100.72.5.1")),
    "home": ("wlan0", CLUB, IPv4Address("10.44.7.133"), IPv4Address("10.44.7.1")),
}


PHONE6 = {"away": IPv6Address(f"{MOBILE6}9"), "home": IPv6Address(f"{LAN6}133")}


def build(now: Callable[[], datetime]) -> Town:
    """The town as it stands before anyone typed a rule."""
    town = Town(now)
    town.segments = {
        INTERNET: IPv4Network("0.0.0.0/0"),
        BETWEEN: IPv4Network("192.168.90.0/24"),
        CLUB: IPv4Network("10.44.7.0/24"),
        GUEST: IPv4Network("10.44.8.0/24"),  # the club's Wi-Fi for guests: its router keeps it to itself
        MOBILE: IPv4Network("100.72.5.0/24"),
        SECOND_MOBILE: IPv4Network("100.73.5.0/24"),
        SHARED: IPv4Network("100.64.44.0/24"),  # behind the provider's own NAT, while it has one
    }
    town.routers = {INTERNET: (IPv4Address("203.0.113.1"), IPv4Address("192.0.2.254"))}
    _gateways(town)
    for key, address in HOSTS.items():
        _add(town, key, CLUB, address, gateway="10.44.7.1", address6=LAN6 + address.rpartition(".")[2])
        town.zone.set(IPv4Address(address).reverse_pointer, "PTR", [f"{key}.home.arpa."])
    _equip(town)
    _people(town)
    _servers(town)
    _offices(town)
    _echo(town)
    return town


def _gateways(town: Town) -> None:
    """The provider's box, the club's router, the mobile carrier's."""
    fibre = Box(
        "fibre-box",
        INTERNET,
        PUBLIC,
        BETWEEN,
        IPv4Interface("192.168.90.1/24"),
        blocked={("tcp", 25, 25), ("tcp", 80, 80)},
        label_length=12,
        both=False,
        keeps_sources=False,
    )
    club = Box(
        "club-router", BETWEEN, IPv4Address("192.168.90.2"), CLUB, IPv4Interface("10.44.7.1/24"), label_length=15
    )
    carrier = Box(
        "mobile-carrier",
        INTERNET,
        IPv4Address("198.51.100.130"),
        MOBILE,
        IPv4Interface("100.72.5.1/24"),
        is_router=False,
    )
    second = Box(
        FAR_BOX,
        INTERNET,
        IPv4Address("198.51.100.131"),
        SECOND_MOBILE,
        IPv4Interface("100.73.5.1/24"),
        is_router=False,
    )
    town.boxes = {box.key: box for box in (fibre, club, carrier, second)}
    for box in (fibre, club):
        box.tcp[80] = status_page(box)
    town.igd[club.key] = IgdRouter(town, club)
    town.zone.set(NAME, "A", [str(fibre.wan)])


def _people(town: Town) -> None:
    """The laptop at home and between the boxes, the phone, the rented machine."""
    here = _add(town, "here", CLUB, "10.44.7.105", interface="lan0", gateway="10.44.7.1")
    here.attachments[0].address6 = IPv6Address("2001:db8:44:7::105")
    usb = Attachment("usb0", MOBILE, IPv4Address("100.72.5.20"), "02:00:5e:72:05:20", IPv4Address("100.72.5.9"), 700)
    usb.address6 = IPv6Address(f"{MOBILE6}20")
    here.attachments.append(usb)
    # whoever takes the laptop and plugs it in between the boxes, the phone still attached
    between = _add(town, "between", BETWEEN, "192.168.90.50", interface="lan0", gateway="192.168.90.1")
    usb = Attachment("usb0", MOBILE, IPv4Address("100.72.5.21"), "02:00:5e:72:05:21", IPv4Address("100.72.5.9"), 700)
    between.attachments.append(usb)
    interface, segment, address, gateway = PHONE["away"]
    _add(town, "phone", segment, str(address), interface=interface, gateway=str(gateway), address6=str(PHONE6["away"]))
    _add(town, FAR, SECOND_MOBILE, "100.73.5.9", gateway="100.73.5.1")
    _add(town, "rented", INTERNET, "198.51.100.7", address6="2001:db8:55::7")


def _servers(town: Town) -> None:
    """STUN, the zone's own servers, and the resolvers."""
    for name, address in SERVERS.items():
        town.zone.set(name, "A", [address])
    town.zone.set(ZONE, "NS", [f"{PRIMARY}."])
    stun = [IPv4Address("192.0.2.10"), IPv4Address("192.0.2.11")]
    for number, own in enumerate(stun):
        server = _add(town, f"stun-{number + 1}", INTERNET, str(own))
        server.attachments[0].address6 = IPv6Address(f"2001:db8:c0::{number + 10}")
        for port, other in ((3478, 3479), (3479, 3478)):
            pair = devices.stun_pair(Endpoint(own, port), Endpoint(stun[1 - number], other))
            server.udp[port] = pair
        server.tcp[3478] = devices.stun_stream
    server = _add(town, "name-server", INTERNET, SERVERS[PRIMARY])
    server.udp[53], server.tcp[53] = town.zone.authority, town.zone.stream
    _add(town, "second-name-server", INTERNET, SECOND).udp[53] = town.zone.second
    routers = town.boxes["fibre-box"], town.boxes["club-router"]
    for machine in (_add(town, "resolver", INTERNET, "192.0.2.53"), *routers, town.nodes["phone"]):  # or pass on
        machine.udp[53] = town.zone.resolver
    town.zone.settle = lambda: town.provider.settle()
    _add(town, "wrong-resolver", INTERNET, str(WRONG_RESOLVER)).udp[53] = town.zone.liar


def _echo(town: Town) -> None:
    """A page that answers with the address that it was asked from."""

    async def answer(stream: ByteStream, peer: Endpoint) -> None:
        if await devices.read_request(stream) is not None:
            body = f"your address is {peer.address}\n".encode()
            fields = (("Content-Type", "text/plain"), ("Connection", "close"))
            await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", fields, body))

    echo = _add(town, "echo", INTERNET, ECHO)
    echo.tcp[80], echo.udp[123] = answer, devices.tells_time(town.now)
    town.zone.set(ECHO_NAME, "A", [ECHO])


def _offices(town: Town) -> None:
    """The authority and the name provider, both behind the authority's certificates."""
    authority, now = TownAuthority(town.now()), town.now()
    town.root_pem = authority.root_pem
    ca = _add(town, "authority", INTERNET, SERVERS[acme.HOST])
    town.acme = acme.AcmeServer(town, ca, authority)
    start = now - timedelta(days=50)
    ca.tcp[443] = devices.secured(authority.identity([acme.HOST], start), town.acme.serve)
    ca.tcp[80] = office(authority, town.now)
    provider = _add(town, "name-provider", INTERNET, SERVERS[PROVIDER])
    town.provider = NameProvider(town.zone, secrets.token_urlsafe(24), town.now)
    provider.tcp[443] = devices.secured(authority.identity([PROVIDER], start), town.provider.serve)
    # somebody ordered the hub's certificate some weeks ago, by hand
    town.identities["hub"].context = authority.identity([NAME], start, days=90).context


def _add(
    town: Town,
    key: str,
    segment: str,
    address: str,
    *,
    interface: str = "eth0",
    gateway: str | None = None,
    address6: str | None = None,
) -> Machine:
    own, way = IPv4Address(address), IPv4Address(gateway) if gateway else None
    node = Machine(key, [Attachment(interface, segment, own, made_up_mac(own), way)])
    node.attachments[0].address6 = IPv6Address(address6) if address6 is not None else None
    town.nodes[key] = node
    return node


def _equip(town: Town) -> None:
    nodes = town.nodes
    nodes["slip-cam"].tcp = {554: devices.rtsp("slip camera"), 80: devices.web("Slipway camera", "slip camera")}
    nodes["recorder"].tcp = {8085: devices.web("Recorder", "recorder"), 9480: devices.silent, 9481: devices.silent}
    start = town.now() - timedelta(days=100)
    town.identities = {key: self_signed(f"{key}.local", start) for key in ("film-box", "desk", "timing-desk", "hub")}
    films = devices.secured(town.identities["film-box"], devices.web("Race films", "film box"))
    nodes["film-box"].tcp = {443: films, 22: devices.ssh("film-box")}
    for key in ("desk", "timing-desk"):
        nodes[key].tcp = {3389: devices.remote_desktop(town.identities[key])}
    hub = devices.web("Heating and doors", "hub", lambda: town.now() + nodes["hub"].clock_off)
    town.hub = HandsOn(town, nodes["hub"], town.identities["hub"], hub, NAME)
    nodes["hub"].tcp = dict.fromkeys((8443, 443), town.hub.serve)  # many devices answer at the usual port too
    nodes["gate"].udp = {51820: devices.mute}  # until somebody gives it its files
    town.gate = Gate(town, nodes["gate"])
    for key, told in ANNOUNCED.items():
        _announces(nodes[key], told)


def _announces(node: Machine, told: LocalAnswer) -> None:
    node.udp[mdns.PORT] = devices.announces(told, lambda: node.attachments[0].address)


def unpack(town: Town, address: str | None) -> Machine:
    """A new camera is plugged in on the club's LAN, with its factory's address; or a person gives it `address`."""
    node = town.nodes.get(UNPACKED)
    if node is None:
        node = _add(town, UNPACKED, CLUB, FACTORY)
        node.attachments[0].mac = "02:00:5e:01:64:00"
        node.tcp = {554: devices.rtsp("quay camera"), 80: devices.web("Quay camera: first setting", "quay camera")}
        _announces(node, LocalAnswer(UNPACKED, ("_http._tcp", "_rtsp._tcp"), ("Quay camera",)))
    own = node.attachments[0]
    if address is not None and address != str(own.address):
        town.leave(own)
        own.address, own.gateway = IPv4Address(address), IPv4Address("10.44.7.1")
        node.tcp[80] = devices.web("Quay camera", "quay camera")
    return node


def status_page(box: Box) -> StreamHandler:
    """The router's own page: what a person reads numbers off."""

    async def show(stream: ByteStream, peer: Endpoint) -> None:
        rules = "; ".join(
            f"{r.label}: {r.transport} {r.outside[0]} to {r.target}:{r.target_ports[0]}" for r in box.rules
        )
        title = f"{box.key}, WAN address {box.wan}, LAN {box.lan}, rules: {rules or 'none'}"
        await devices.web(title, box.key)(stream, peer)

    return show
