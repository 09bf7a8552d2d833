"""The ends of tunnels on this computer that look for the direct way to their other end. Pure."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper.errors import UsageError
from hooper.planning.access import interface_name, peers_of
from hooper.planning.edits import Edited, add, change

if TYPE_CHECKING:
    from datetime import date

    from hooper.site.edit import Value
    from hooper.site.load import SiteFile
    from hooper.site.model import Site

WITHOUT_KEEPER = ("phone",)  # devices on which nothing of ours runs


class MeetingEnd(NamedTuple):
    """One end. kind: "peer" of a tunnel of this site, or "meeting" of another one's; key: its key in that table.

    witness: by which it meets. interface: of the tunnel on this computer. peer: the other end's public key. relay:
    where the other end is found by a machine between both; None: it is found by what it sends itself.
    """

    kind: Literal["peer", "meeting"]
    key: str
    witness: str
    interface: str
    peer: str
    relay: tuple[str, int] | None


def meeting_ends(site: Site, today: date) -> dict[str, MeetingEnd]:
    """All of a site, by their keys; a meeting comes before a peer of the same key."""
    return {end.key: end for end in (*_of_tunnels(site, today), *_of_others(site))}


def _of_tunnels(site: Site, today: date) -> Iterator[MeetingEnd]:
    for key, tunnel in site.tunnels.items():
        for name, peer in peers_of(site, key).items() if tunnel.meet is not None else ():
            over = peer.revoked is not None or (peer.until is not None and peer.until < today)
            if tunnel.meet is not None and peer.public_key and peer.device not in WITHOUT_KEEPER and not over:
                yield MeetingEnd("peer", name, tunnel.meet, interface_name(key), peer.public_key, None)


def _of_others(site: Site) -> Iterator[MeetingEnd]:
    for key, entry in site.meetings.items():
        yield MeetingEnd("meeting", key, entry.witness, entry.interface, entry.peer, entry.relay)


def take_profile(file: SiteFile, key: str, witness: str, name: str, text: str) -> Edited:
    """Write down a tunnel of another site by the file that it has handed. name: of the file, by which its interface is
    called. Raises: UsageError: it is none; SiteFileError.
    """
    from hooper.wire.wgfile import parse

    peers = parse(text).peers
    values = {field: entry.value for field in ("PublicKey", "PresharedKey", "Endpoint")
              if len(peers) == 1 and (entry := peers[0].get(field)) is not None}  # fmt: skip
    if "PublicKey" not in values or "PresharedKey" not in values:
        what = f"it has {len(peers)} peers" if len(peers) != 1 else "its peer has no PublicKey and PresharedKey"
        raise UsageError(
            f"{name} is no profile that can meet its other end: {what}", remedy="Have the other site hand a new one."
        )
    rows: dict[str, Value] = {"witness": witness, "interface": name.removesuffix(".conf"), "peer": values["PublicKey"]}
    if "Endpoint" in values:
        rows["relay"] = values["Endpoint"]
    return change(file, "meetings", key, rows) if key in file.site.meetings else add(file, "meetings", key, rows)
