"""What the commands for tunnels and peers print."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.planning.values import StaticRoute
from hooper.words.said import Said


@dataclass(frozen=True, slots=True)
class TunnelRow:
    """One tunnel.

    endpoint: where peers find it, as host:port; null: not known. subnet: of its peers. subnet6: the same over IPv6;
    null: it has none. peers: how many. made_by: who makes both sides. detail: what is wrong, or to be done.
    """

    tunnel: str
    kind: str
    service: str
    endpoint: str | None
    subnet: str | None
    subnet6: str | None
    peers: int
    made_by: str
    ok: bool
    detail: Said


@dataclass(frozen=True, slots=True)
class TunnelsDocument:
    """`hooper tunnel list`. tunnels: one row each."""

    tunnels: tuple[TunnelRow, ...]


@dataclass(frozen=True, slots=True)
class Field:
    """One field of a device's page. field: what it is called there. value: what to enter."""

    field: str
    value: str


@dataclass(frozen=True, slots=True)
class PeerRow:
    """One peer.

    person: whose it is; null: not said. device: what it is. address: in the tunnel. into: what it reaches. enforced:
    where it is kept to that. handed: when its file was given to it; null: it was not. last_seen: the last handshake
    that its server told of; null: none. until: its last day; null: it has none. revoked: the day on which its way in
    was taken; null: it was not. shut_out: since when its server is known to let it in no more; null: it is not known.
    detail: what is not as it should be.
    """

    peer: str
    tunnel: str
    person: str | None
    device: str
    address: str | None
    into: tuple[str, ...]
    enforced: Literal["server", "nowhere"]
    handed: str | None
    last_seen: str | None
    until: str | None
    revoked: str | None
    shut_out: str | None
    ok: bool
    detail: Said


@dataclass(frozen=True, slots=True)
class PeersDocument:
    """`hooper peer list`."""

    peers: tuple[PeerRow, ...]


@dataclass(frozen=True, slots=True)
class TunnelDocument:
    """`hooper tunnel show`.

    server: what to enter on the page where the device makes it; for one that we make, what its file says, but for the
    private key. made_by: who makes both sides. peers: the same for each peer. routes: by gateway, for the way back.
    steps: what to do on the server.
    """

    tunnel: str
    kind: str
    host: str
    made_by: str
    endpoint: str | None
    server: tuple[Field, ...]
    peers: tuple[PeerFields, ...]
    routes: tuple[RouteOn, ...]
    steps: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class PeerFields:
    """What the server's page is told of one peer. fields: one row each."""

    peer: str
    fields: tuple[Field, ...]


@dataclass(frozen=True, slots=True)
class RouteOn:
    """A route that a gateway needs. route: the route."""

    gateway: str
    route: StaticRoute


@dataclass(frozen=True, slots=True)
class MadeDocument:
    """`hooper tunnel make`. files: what was written, private where it holds a key. steps: what to do on the server."""

    tunnel: str
    host: str
    files: tuple[str, ...]
    steps: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class HandedDocument:
    """`hooper peer hand`.

    device: whose. files: what was written. allowed: what goes into the tunnel. shown: the code was drawn on the
    terminal. key: forgotten, kept, or the peer has its own; none: it is let in by a secret. steps: on the device.
    expect: what to expect. stop: what must not appear. tell: what is left to do elsewhere.
    """

    peer: str
    tunnel: str
    device: str
    endpoint: str
    allowed: tuple[str, ...]
    files: tuple[str, ...]
    shown: bool
    key: Literal["forgotten", "kept", "its own", "none"]
    steps: tuple[str, ...]
    expect: tuple[str, ...]
    stop: tuple[str, ...]
    tell: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class SeenRow:
    """One peer as the server sees it.

    peer: null where the site file has no such key. last_handshake: null: never. from: the address; null: none.
    received, sent: bytes, as the server counts them. ok: it is known, and reached. detail: what is not as it should be.
    revoked: its way in was taken, and it is let in all the same.
    """

    peer: str | None
    public_key: str
    last_handshake: str | None
    from_: str | None
    received: int
    sent: int
    ok: bool
    detail: Said
    revoked: bool = False


@dataclass(frozen=True, slots=True)
class SeenDocument:
    """`hooper tunnel seen`.

    server_key: whether the server has the key of the site file; null: it did not tell. missing: the peers that it does
    not know.
    """

    tunnel: str
    server_key: bool | None
    peers: tuple[SeenRow, ...]
    missing: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class ProfileFinding:
    """What is wrong in a file.

    severity: how bad it is. line: from 1; 0: about the whole. mend: what mending does; null: a person has to.
    """

    code: str
    severity: str
    line: int
    message: str
    remedy: str
    mend: str | None


@dataclass(frozen=True, slots=True)
class ProfileRow:
    """One file. format: what it is written in. tunnel, peer: of the site file; null: not told. server: it is the
    server's own.
    """

    file: str
    format: str
    tunnel: str | None
    peer: str | None
    server: bool
    findings: tuple[ProfileFinding, ...]


@dataclass(frozen=True, slots=True)
class ProfilesDocument:
    """`hooper profile check`. profiles: one row a file."""

    profiles: tuple[ProfileRow, ...]


@dataclass(frozen=True, slots=True)
class MendedDocument:
    """`hooper profile mend`.

    written: null where nothing had to be mended. mended: what was done. left: what a person has to do. difference: of
    the two files, without their secrets.
    """

    file: str
    written: str | None
    mended: tuple[ProfileFinding, ...]
    left: tuple[ProfileFinding, ...]
    difference: tuple[str, ...]
