"""The table of tunnels of other sites that end here, and meet their other end directly (pydantic)."""

from typing import Annotated

from pydantic import Field

from hooper.site.fields import Key
from hooper.site.table import Table
from hooper.site.tunnel_fields import WireGuardKey
from hooper.site.witness_tables import HostAndPort


class Meeting(Table):
    """[meetings.KEY]: a WireGuard tunnel of another site that ends on this computer.

    Both ends look for the direct way between them by a witness that knows both. peer: the public key of the other end.
    """

    witness: Key
    interface: Annotated[str, Field(pattern=r"^[A-Za-z0-9_=+.-]{1,15}$")] = Field(description="Of the tunnel here.")
    peer: WireGuardKey
    relay: HostAndPort | None = Field(
        None, description="Where the other end is found while there is no direct way, by a machine between both."
    )
