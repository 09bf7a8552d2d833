"""The tables of private access: tunnels and their peers (pydantic)."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field

from hooper.site.fields import Address4, Address6, AnyAddress, Key, SourceNetwork4
from hooper.site.table import Table
from hooper.site.tunnel_fields import Into, Subnet6, WireGuardKey


class Tunnel(Table):
    """[tunnels.KEY]: a private way in, and the network that its peers have in it.

    dns: the DNS servers that peers are told. into: what peers reach that do not say. subnet: of the peers; the server
    has its first address.
    """

    kind: Literal["wireguard"] = Field("wireguard", description="What it is made with.")
    service: Key = Field(description="Where its packets arrive: one of [services], whose host ends it.")
    made_by: Literal["hooper", "device"] = Field(
        "hooper", description='"hooper": both sides are made here; "device": the device makes them on its own pages.'
    )
    server: Literal["linux", "windows", "macos"] = Field(
        "linux", description="What the server runs on; only a Linux server can keep peers to what they may reach."
    )
    subnet: SourceNetwork4
    subnet6: Subnet6 | None = Field(None, description="The same over IPv6, from fd00::/8.")
    dns: tuple[AnyAddress, ...] = ()
    into: Into = ("lan",)
    way_back: Literal["route", "nat"] = Field(
        "route", description='How devices answer peers: by a route on their gateway, or by "nat" on the server.'
    )
    public_key: WireGuardKey | None = Field(None, description="The server's.")
    probe_key: WireGuardKey | None = Field(None, description="Of the peer that reaches nothing, for checks.")


class Peer(Table):
    """[peers.KEY]: one device of one person that uses a tunnel.

    address: its own in the tunnel. device: what it is. into: what it reaches, else as the tunnel says. person: whose
    it is. until: the last day on which it may come in.
    """

    tunnel: Key
    person: Annotated[str, Field(min_length=1, max_length=80)] | None = None
    device: Literal["phone", "laptop", "router", "server"] = "phone"
    address: Address4
    address6: Address6 | None = Field(None, description="Its own in the tunnel over IPv6.")
    into: Into | None = None
    public_key: WireGuardKey | None = Field(None, description="Its own; the private one stands on the device alone.")
    until: date | None = None
