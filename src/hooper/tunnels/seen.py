"""What WireGuard's software tells of a server's peers: `wg show all dump`, as wg(8) has it. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

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
            raise MachineError(
                f"line {number} is not of `wg show all dump`: {exc}",
                code="no-dump",
                remedy="On the server, as root: wg show all dump > FILE; it holds keys, so keep it to yourself.",
            ) from None
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
