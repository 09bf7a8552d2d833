"""What a server's software tells of its peers: WireGuard's `wg show all dump`, OpenVPN's status file in each of its
versions.
"""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import NamedTuple

from hooper.addresses import IPAddress, parse_address
from hooper.errors import MachineError

LATEST = 32_503_680_000  # seconds since 1970: the year 3000
FIELDS = "the interface, then 4 values for itself, or 8 for a peer"


@dataclass(frozen=True, slots=True)
class PeerSeen:
    """One peer of an interface. handshake: the last; None: never. came_from: as address:port. received, sent: bytes."""

    interface: str
    public_key: str
    handshake: datetime | None
    came_from: str | None
    allowed: tuple[str, ...]
    received: int
    sent: int


@dataclass(frozen=True, slots=True)
class InterfaceSeen:
    """One interface, and its peers. public_key: its own."""

    interface: str
    public_key: str
    port: int
    peers: tuple[PeerSeen, ...]


def read_dump(text: str) -> tuple[InterfaceSeen, ...]:
    """The interfaces of a dump, with `all` or of one interface. Private and pre-shared keys in it are not kept.

    Raises: MachineError: it is no such dump.
    """
    found: dict[str, tuple[str, int]] = {}
    peers: dict[str, list[PeerSeen]] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip():
            continue
        cells = line.split("\t") if "\t" in line else line.split()
        if len(cells) in (4, 8):  # of one interface: its name is left out
            cells = ["", *cells]
        try:
            if len(cells) == 5:
                name, _, public, port, _ = cells
                found[name] = (public, int(port))
                peers.setdefault(name, [])
            elif len(cells) == 9:
                peers.setdefault(cells[0], []).append(_peer(cells))
            else:
                raise ValueError(f"it has {len(cells)} values; a dump has {FIELDS}")
        except ValueError as exc:
            raise _no_dump(f"line {number}", str(exc)) from None
    return tuple(InterfaceSeen(name, *found.get(name, ("", 0)), tuple(rows)) for name, rows in peers.items())


def _peer(cells: list[str]) -> PeerSeen:
    name, public, _, came_from, allowed, last, received, sent, _ = cells
    seconds = int(last)
    if not 0 <= seconds < LATEST:
        raise ValueError(f"{seconds} is no moment")
    return PeerSeen(
        name,
        public,
        datetime.fromtimestamp(seconds, UTC) if seconds else None,
        came_from if came_from != "(none)" else None,
        tuple(part for part in allowed.split(",") if part != "(none)"),
        int(received),
        int(sent),
    )


class EndSeen(NamedTuple):
    """One peer of an interface of this computer, with what both ends share.

    own: the interface's public key. port: that it has. mark: of its packets, for the routing; 0: none. shared: the
    pre-shared key; None: there is none. seen: the peer.
    """

    own: str
    port: int
    mark: int
    shared: bytes | None
    seen: PeerSeen


def end_in(dump: str, interface: str, peer: str) -> EndSeen | None:
    """One peer in `wg show all dump`, by its public key; None: there is none. Raises: MachineError: it is no dump."""
    from hooper.secret import keep_out_of_output

    found = next((one for one in read_dump(dump) if one.interface == interface), None)
    seen = next((one for one in found.peers if one.public_key == peer), None) if found is not None else None
    if found is None or seen is None:
        return None
    rows = [line.split("\t") if "\t" in line else line.split() for line in dump.splitlines()]
    mark = next((cells[4] for cells in rows if cells[:1] == [interface] and len(cells) == 5), "off")
    shared = next((cells[2] for cells in rows if cells[:2] == [interface, peer] and len(cells) == 9), "(none)")
    try:
        secret = base64.b64decode(shared, validate=True) if shared != "(none)" else None
        number = int(mark, 16) if mark != "off" else 0
    except ValueError:
        raise _no_dump(f"the peer {peer} of {interface}", "its mark or its key cannot be read") from None
    if secret is not None:
        keep_out_of_output(shared)
    return EndSeen(found.public_key, found.port, number, secret, seen)


OLD = ("Common Name", "Real Address", "Bytes Received", "Bytes Sent", "Connected Since")
SECONDS = "Connected Since (time_t)"


@dataclass(frozen=True, slots=True)
class ClientSeen:
    """A client that is connected. name: in its certificate. user: that it logged in as; empty: none. came_from: as
    address:port. received, sent: bytes. since: when it connected; None: not told in a way that can be read.
    """

    name: str
    user: str
    came_from: str
    received: int
    sent: int
    since: datetime | None


def source_of(came_from: str) -> IPAddress | None:
    """The address of what a server wrote, such as 198.51.100.7:40001, [2001:db8::7]:40001 or udp4:198.51.100.7:40001;
    None: it cannot be read.
    """
    text = came_from.partition(":")[2] if came_from[:3] in ("udp", "tcp") else came_from
    for one in (text, text.rpartition(":")[0].strip("[]")):
        try:
            return parse_address(one)
        except ValueError:
            continue
    return None


@dataclass(frozen=True, slots=True)
class StatusSeen:
    """at: when it was written; None: not told in a way that can be read."""

    at: datetime | None
    clients: tuple[ClientSeen, ...]


def read_status(text: str) -> StatusSeen:
    """The clients of one or several status files. Raises: MachineError: it is none."""
    found: list[ClientSeen] = []
    header: list[str] | None = None
    at: datetime | None = None
    known = False
    for number, line in enumerate(text.splitlines(), 1):
        cells = line.strip("\r").split("\t" if "\t" in line else ",")
        try:
            if cells[0] == "TIME" and len(cells) > 2:
                at, known = _moment(cells[2]), True
            elif cells[0] == "Updated":
                known = True  # in words, by the server's own clock and without a zone
            elif cells[0] == "HEADER":
                known, header = True, cells[2:] if cells[1:2] == ["CLIENT_LIST"] else header
            elif cells[0] == "CLIENT_LIST" and header is not None:
                found.append(_client(dict(zip(header, cells[1:], strict=False))))
            elif tuple(cells) == OLD:
                header, known = list(OLD), True
            elif cells[0] in ("ROUTING TABLE", "GLOBAL STATS", "END", "OpenVPN CLIENT LIST", "TITLE", "ROUTING_TABLE"):
                header, known = header if header != list(OLD) else None, True
            elif header == list(OLD) and len(cells) == len(OLD):
                found.append(_client(dict(zip(OLD, cells, strict=True))))
        except (ValueError, KeyError, OverflowError) as exc:
            raise _no_status(f"line {number} cannot be read: {exc}") from None
    if not known:
        raise _no_status("it has neither a title nor a client list")
    return StatusSeen(at, tuple(one for one in found if one.name != "UNDEF"))  # who is not through the handshake yet


def _no_status(why: str) -> MachineError:
    return MachineError(
        f"this is no status of OpenVPN's server: {why}",
        code="no-dump",
        remedy="On the server: /run/openvpn-server/status-NAME.log, or what `status 2` prints at its management port.",
    )


def _client(cells: dict[str, str]) -> ClientSeen:
    since = _moment(cells[SECONDS]) if SECONDS in cells else None
    user = cells.get("Username", "")
    return ClientSeen(
        cells["Common Name"],
        "" if user == "UNDEF" else user,
        re.sub(r"^(udp|tcp)[46]?(-server)?:", "", cells["Real Address"]),
        int(cells["Bytes Received"]),
        int(cells["Bytes Sent"]),
        since,
    )


def _moment(text: str) -> datetime:
    seconds = int(text)
    if not 0 <= seconds < LATEST:
        raise ValueError(f"{seconds} is no moment")
    return datetime.fromtimestamp(seconds, UTC)


def _no_dump(what: str, why: str) -> MachineError:
    return MachineError(
        f"{what} is not of `wg show all dump`: {why}",
        code="no-dump",
        remedy="On the server, as root: wg show all dump > FILE; it holds keys, so keep it to yourself.",
    )
