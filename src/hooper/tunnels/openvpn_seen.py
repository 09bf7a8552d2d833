"""What OpenVPN's server tells of its clients: its status file in each of its versions, or `status` of its management
interface, as openvpn(8) has them. Pure.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime

from hooper.errors import MachineError
from hooper.tunnels.seen import LATEST

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
