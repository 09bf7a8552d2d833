"""What is made with a kind of tunnel: the files of both sides, their keys, and the words that go with them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from hooper.tunnels.documents import Field

if TYPE_CHECKING:
    from datetime import date, datetime

    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.planning.values import Plan
    from hooper.site.model import Site
    from hooper.site.tunnel_kinds import TunnelKind
    from hooper.site.tunnel_tables import Peer, Tunnel
    from hooper.tunnels.common import Profile, ServerFiles
    from hooper.tunnels.keys import KeyRing


@dataclass(frozen=True)
class Software:
    """What is done on a device with the file of a kind of tunnel. {name}: of the tunnel there; {file}: the file's.

    connected: how one sees that both sides are connected. failed: that they are not.
    """

    app: str
    phone: str
    laptop: str
    linux: str
    router: str
    server: str
    connected: str
    failed: str


class Works:
    """One kind of tunnel. What a kind of another package lacks is as here: a server that a device makes by itself.

    folder: where the server's files stand on it.
    """

    kind: ClassVar[TunnelKind]
    software: ClassVar[Software]
    folder: ClassVar[str] = ""

    def folder_on(self, system: str) -> str:
        """Where the server's files stand on a system: linux, windows, macos."""
        del system
        return self.folder

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        """What the file of a peer is to say. public: the lines' addresses, as far as known.

        Raises: NoEndpoint, KeyMissing.
        """
        raise NotImplementedError

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        """The files that a peer's software loads, by name: of all kinds but SSH it is one.

        Raises: KeyMissing, MachineError.
        """
        raise NotImplementedError

    def as_one(self, files: Mapping[str, str]) -> bytes:
        """What a peer is given, as one file."""
        (text,) = files.values()
        return text.encode()

    def server_mark(self, topology: Topology, key: str, today: date, plan: Plan | None) -> str:
        """What the server's files are known by: it changes when they have to be made and loaded anew."""
        raise NotImplementedError

    def server_files(
        self, topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
    ) -> ServerFiles:
        """All that the server loads. now: peers whose time is over are left out. folder: where they will stand on it.

        plan: for a tunnel to a rented machine, which forwards by it. Raises: KeyMissing, MachineError.
        """
        raise NotImplementedError

    def loading(self, site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
        """What to do on the server with the files that we made. again: it has run with earlier ones."""
        raise NotImplementedError

    def new_server_key(self, ring: KeyRing, site: Site, key: str, now: datetime) -> str:
        """A server's key of our making, kept; returns its public one, as the site file has it. Raises: MachineError."""
        return ring.make()

    def new_peer_key(self, ring: KeyRing, site: Site, peer: str, tunnel: str, until: date | None, now: datetime) -> str:
        """A peer's key of our making, kept; returns its public one. Raises: KeyMissing, MachineError."""
        return ring.make(shared=True)

    def certificate_ends(self, ring: KeyRing, site: Site, key: str) -> datetime | None:
        """When the certificate of a peer ends; None: it has none of our making. Raises: MachineError: it is damaged."""
        return None

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        """The server's own settings, as pages ask for them. secrets: as far as they may be shown."""
        raise NotImplementedError

    def peer_fields(self, topology: Topology, tunnel: Tunnel, key: str, peer: Peer) -> Iterator[Field]:
        """What the server knows of a peer, where it is made here."""
        return iter(())
