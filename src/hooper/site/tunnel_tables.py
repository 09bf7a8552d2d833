"""The tables of private access: tunnels and their peers (pydantic)."""

from datetime import date
from ipaddress import IPv4Network, IPv6Network
from typing import Annotated, Literal

from pydantic import Field

from hooper.site.fields import Address4, Address6, AnyAddress, Key, Options, SecretField, SourceNetwork4, word_of
from hooper.site.table import Table
from hooper.site.tunnel_fields import Into, Login, Subnet6, TunnelKey, WireGuardKey
from hooper.site.tunnel_kinds import OWN, TunnelKind, tunnel_kind

Command = tuple[Annotated[str, Field(min_length=1)], ...]
KindField = Annotated[str, word_of("hooper.tunnels", *OWN)]


class Tunnel(Table):
    """[tunnels.KEY]: a private way in, and the network that its peers have in it.

    also: where the same server can be found too. dns: the DNS servers that peers are told. into: what peers reach that
    do not say. subnet: of the peers; the server has its first address.
    """

    kind: KindField = Field("wireguard", description="What it is made with.")
    service: Key = Field(description="Where its packets arrive: one of [services], whose host ends it.")
    also: Key | None = Field(
        None,
        description="A second service of the same server: of OpenVPN over the other transport, of IPsec its port 4500.",
    )
    made_by: Literal["hooper", "device"] = Field(
        "hooper", description='"hooper": both sides are made here; "device": the device makes them on its own pages.'
    )
    server: Literal["linux", "windows", "macos"] = Field(
        "linux", description="What the server runs on; only a Linux server can keep peers to what they may reach."
    )
    subnet: SourceNetwork4 | None = Field(None, description="Of the peers; all kinds but ssh have one.")
    subnet6: Subnet6 | None = Field(None, description="The same over IPv6, from fd00::/8.")
    dns: tuple[AnyAddress, ...] = ()
    into: Into = ("lan",)
    way_back: Literal["route", "nat"] = Field(
        "route", description='How devices answer peers: by a route on their gateway, or by "nat" on the server.'
    )
    public_key: TunnelKey | None = Field(
        None, description="The server's; of OpenVPN its authority's fingerprint, of SSH its host key."
    )
    probe_key: WireGuardKey | None = Field(None, description="Of the peer that reaches nothing, for checks.")
    probe_profile: SecretField | None = Field(
        None, description="OpenVPN, made by the device: file:PATH of a profile whose shared key checks use."
    )
    login: Login | None = Field(None, description="SSH: the user that peers log in as, who can do nothing else.")
    l2tp: bool = Field(False, description="IPsec: with L2TP inside, as older devices have it.")
    seen_by: Command = Field((), description="The command that fetches what the server tells of its peers, as text.")
    load_by: Command = Field(
        (), description="The command that puts the files of HOOPER_FILES on the server and has it load them."
    )
    meet: Key | None = Field(
        None,
        description="WireGuard: the witness by which peers and server look for the direct way between them.",
    )
    options: Options = Field({}, description="Of a kind that another package adds: what that asks for.")
    one_secret: bool = Field(False, description="All peers share one secret or profile, which the device gives out.")

    @property
    def of(self) -> TunnelKind:
        """Its kind. Raises: AddedWrong."""
        return tunnel_kind(self.kind)

    @property
    def subnets(self) -> tuple[IPv4Network | IPv6Network, ...]:
        """The networks of its peers, IPv4 first; empty: they have none."""
        six = (self.subnet6,) if self.subnet6 is not None else ()
        return (*((self.subnet,) if self.subnet is not None else ()), *six)

    @property
    def network(self) -> IPv4Network:
        """The network of its peers, for a kind that has one: a file without it is refused."""
        assert self.subnet is not None
        return self.subnet


class Peer(Table):
    """[peers.KEY]: one device of one person that uses a tunnel.

    address: its own in the tunnel. device: what it is. into: what it reaches, else as the tunnel says. person: whose
    it is. until: the last day on which it may come in. user: whom it logs in as.
    """

    tunnel: Key
    person: Annotated[str, Field(min_length=1, max_length=80)] | None = None
    device: Literal["phone", "laptop", "router", "server"] = "phone"
    user: Login | None = Field(None, description="Its user on the device that makes the tunnel.")
    address: Address4 | None = Field(None, description="Its own in the tunnel; one of SSH has none.")
    address6: Address6 | None = Field(None, description="Its own in the tunnel over IPv6.")
    into: Into | None = None
    public_key: TunnelKey | None = Field(None, description="Its own; the private one stands on the device alone.")
    until: date | None = None
    revoked: date | None = Field(None, description="The day on which its way in was taken from it.")
