"""The table of helpers outside that look back at the site (pydantic)."""

from typing import Annotated

from pydantic import Field

from hooper.addresses import parse_address
from hooper.site.fields import Duration, dns_name, reader, string_schema
from hooper.site.table import Table


def _spot(text: str) -> tuple[str, int]:
    host, colon, port = text.strip().rpartition(":")
    if not colon or not port.isascii() or not port.isdigit() or not 1 <= int(port) <= 65535:
        raise ValueError(text)
    try:
        return str(parse_address(host.strip("[]"))), int(port)
    except ValueError:
        return dns_name(host), int(port)


HostAndPort = Annotated[
    tuple[str, int],
    reader(_spot, "a name or an address, with a port", "198.51.100.7:7443"),
    string_schema("A name or an address with a port, such as 198.51.100.7:7443."),
]


class Witness(Table):
    """[witnesses.KEY]: a helper of ours outside, that looks back at this site.

    at: where it is found. pin: of the key that it shows.
    """

    at: HostAndPort
    pin: Annotated[str, Field(pattern=r"^sha256:[0-9a-f]{64}$")]
    silence: Annotated[Duration, Field(ge=60, le=604_800)] = Field(
        600.0, description="Once the keeper is silent for so long, the witness tells people."
    )
