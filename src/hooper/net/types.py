"""What a door is: one place to look from. Everything that enters or leaves the process goes through one."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface
from pathlib import Path
from typing import Literal, Protocol, Self

from anyio.abc import ByteStream

from hooper.addresses import IPAddress, IPNetwork, classify
from hooper.clock import Awake, Clock
from hooper.errors import CounterpartError
from hooper.places import Place
from hooper.wire.icmp import Icmp

Family = Literal["ipv4", "ipv6"]
World = Literal["real", "lab"]


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An address with a port."""

    address: IPAddress
    port: int

    def __str__(self) -> str:
        return f"[{self.address}]:{self.port}" if self.address.version == 6 else f"{self.address}:{self.port}"


class ConnectFailed(CounterpartError):
    """A connection could not be made. icmp: the message that said so, if one did; by: who sent it, if known."""

    code = "connect-failed"

    def __init__(self, message: str, *, icmp: Icmp | None = None, by: IPAddress | None = None) -> None:
        super().__init__(message)
        self.icmp, self.by = icmp, by


class Refused(ConnectFailed):
    """Someone answered and says no: a TCP reset (then icmp is None), or an ICMP refusal."""

    code = "refused"


class Unreachable(ConnectFailed):
    """Nobody is there, says a router on the way (icmp), or this computer after asking on its own LAN (icmp None)."""

    code = "unreachable"


class NoRoute(ConnectFailed):
    """Nothing left this computer: it has no way there. Proves nothing about the other side."""

    code = "no-route"


class ProxyTrouble(ConnectFailed):
    """The proxy did not do its part: it hung up, or gave a reason that tells nothing about the target."""

    code = "proxy"


class LookupFailed(CounterpartError):
    """The resolver did not answer."""

    code = "lookup-failed"
    remedy = "Check this computer's resolver, or give the address itself."


@dataclass(frozen=True, slots=True)
class Datagram:
    data: bytes
    sender: Endpoint


@dataclass(frozen=True, slots=True)
class Rejected:
    """An ICMP error came back. to: the destination that was rejected, where the system tells it."""

    icmp: Icmp
    by: IPAddress | None
    to: Endpoint | None


@dataclass(frozen=True, slots=True)
class Interface:
    """A network interface. strict_return: the kernel drops answers that come in another way than they would leave.

    tunnel: what goes in there comes out elsewhere, wrapped: a VPN. passing: those of its IPv6 addresses that will not
    stay: temporary (RFC 8981), deprecated, or not yet known to be its own.
    """

    name: str
    addresses: tuple[IPv4Interface | IPv6Interface, ...]
    up: bool = True
    mac: str | None = None
    loopback: bool = False
    strict_return: bool = False
    tunnel: bool = False
    passing: frozenset[IPv6Address] = frozenset()

    @property
    def ipv4(self) -> IPv4Address | None:
        """Its first IPv4 address that is not made up by itself (RFC 3927)."""
        return next((a.ip for a in self.addresses if isinstance(a, IPv4Interface) and not a.ip.is_link_local), None)

    @property
    def ipv6(self) -> IPv6Address | None:
        """Its first IPv6 address that packets from the internet can arrive at."""
        six = (a.ip for a in self.addresses if isinstance(a, IPv6Interface))
        return next((address for address in six if classify(address).reachable), None)


@dataclass(frozen=True, slots=True)
class Route:
    destination: IPNetwork
    gateway: IPAddress | None
    interface: str
    metric: int


@dataclass(frozen=True, slots=True)
class Neighbour:
    """A device that this computer has spoken with on one of its own networks.

    silent_s: seconds since it last showed that it is there; None: the system does not say. Systems keep an entry for
    half a minute and more after its owner is gone.
    """

    address: IPAddress
    mac: str
    interface: str
    silent_s: float | None = None


@dataclass(frozen=True, slots=True)
class Change:
    """Something about this computer's networks is no longer as it was. kind: unknown where it could not be followed."""

    kind: Literal["link", "address", "route", "unknown"]


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What this computer knows of its networks, and of itself. routes: None where this system's cannot be read yet.

    awake: None: it does not tell.
    """

    interfaces: tuple[Interface, ...]
    routes: tuple[Route, ...] | None
    resolvers: tuple[IPAddress, ...]
    neighbours: tuple[Neighbour, ...] = ()
    awake: Awake | None = field(default=None, compare=False)

    def interface(self, name: str) -> Interface | None:
        return next((interface for interface in self.interfaces if interface.name == name), None)

    def holder(self, address: IPAddress) -> Interface | None:
        """The interface that has this very address."""
        return next(
            (interface for interface in self.interfaces if any(a.ip == address for a in interface.addresses)), None
        )

    def networks(self) -> list[IPNetwork]:
        """The networks that this computer is in, but for tunnels and itself."""
        real = (one for one in self.interfaces if one.up and not one.tunnel and not one.loopback)
        return [address.network for one in real for address in one.addresses]

    def default_routes(self) -> list[Route]:
        """The IPv4 routes to anywhere, the preferred one first."""
        defaults = [r for r in self.routes or () if r.destination.version == 4 and r.destination.prefixlen == 0]
        return sorted(defaults, key=lambda route: route.metric)

    def has_default_route(self, interface: str) -> bool | None:
        """Whether IPv4 packets for anywhere can leave by `interface`; None: not known on this system."""
        if self.routes is None:
            return None
        return any(route.interface == interface for route in self.default_routes())

    def way_to(self, address: IPAddress) -> str | None:
        """The interface by which packets for an address leave: by the longest prefix, then the lowest metric (RFC 1812
        section 5.2.4.3); None: not known.
        """
        into = [route for route in self.routes or () if address in route.destination]
        best = max(into, key=lambda route: (route.destination.prefixlen, -route.metric), default=None)
        return best.interface if best is not None else None

    def default_gateway(self, interface: str | None = None) -> IPAddress | None:
        """The gateway of the preferred IPv4 default route, or of the one by `interface`."""
        wanted = (route for route in self.default_routes() if interface in (None, route.interface))
        return next((route.gateway for route in wanted), None)

    @property
    def connected(self) -> bool:
        """Whether any interface but the loopback is up and has an address."""
        return any(i.up and i.addresses and not i.loopback for i in self.interfaces)


class Datagrams(Protocol):
    """A socket for datagrams."""

    @property
    def local(self) -> Endpoint: ...

    async def send(self, data: bytes, to: Endpoint) -> None:
        """Raises: NoRoute: nothing left this computer."""
        ...

    async def receive(self) -> Datagram | Rejected:
        """The next datagram or ICMP error, however long that takes."""
        ...

    async def aclose(self) -> None: ...

    async def __aenter__(self) -> Self: ...

    async def __aexit__(self, *exc: object) -> None: ...


class Listener(Protocol):
    """A TCP port that accepts connections."""

    @property
    def local(self) -> Endpoint: ...

    async def accept(self) -> tuple[ByteStream, Endpoint]: ...

    async def aclose(self) -> None: ...

    async def __aenter__(self) -> Self: ...

    async def __aexit__(self, *exc: object) -> None: ...


class Door(Protocol):
    """One place to look from. Silence is only ever the caller's deadline: nothing here gives up by itself."""

    @property
    def place(self) -> Place: ...

    @property
    def world(self) -> World:
        """Whether this is about real systems."""
        ...

    @property
    def clock(self) -> Clock: ...

    @property
    def hears_icmp(self) -> bool:
        """Whether datagram sockets hear of ICMP errors, with their sender."""
        ...

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        """A TCP connection. Raises: Refused, Unreachable, NoRoute, ProxyTrouble."""
        ...

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        """A datagram socket. Raises: MachineError: this computer does not allow it."""
        ...

    async def beside(self, port: int, mark: int = 0) -> Datagrams:
        """STUN datagrams over IPv4 from a port that another program of this computer has. mark: for the routing.

        Raises: NoRaw.
        """

    async def listen(self, local: Endpoint) -> Listener:
        """A TCP port; port 0 picks a free one. Raises: MachineError: the port is taken or forbidden."""
        ...

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        """The addresses of a name; empty where it has none. Raises: LookupFailed."""
        ...

    async def surroundings(self) -> Surroundings: ...

    def changes(self) -> AsyncIterator[Change]:
        """What changes about this computer's networks, as it happens; on Linux at once, elsewhere by looking again."""
        ...

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        """The address of this computer that packets to `to` would carry; None: it has no way there. Sends nothing."""
        ...

    async def printed(self, words: Sequence[str], limit: float) -> str | None:
        """What a program of this computer prints within `limit` seconds; None: there is none, or it fails."""
        ...

    async def own_file(self, path: Path) -> str | None:
        """A text file of this computer; None: there is none that can be read."""
        ...

    def through(self, interface: str) -> Door:
        """The same door, with everything bound to one interface."""
        ...
