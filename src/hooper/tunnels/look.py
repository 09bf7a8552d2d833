"""One file of a tunnel, held against the site: which tunnel and peer it is of, what was found wrong. Pure."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Network, IPv6Network, collapse_addresses, ip_interface, ip_network
from typing import TYPE_CHECKING

from hooper.addresses import IPAddress
from hooper.planning.topology import Topology
from hooper.planning.typed import typed
from hooper.wire.wgfile import Entry, Section, Stray, WireGuardFile
from hooper.wire.wireguard import public_of
from hooper.words.catalogue import Severity, severity_of

if TYPE_CHECKING:
    from hooper.addresses import IPNetwork
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Peer, Tunnel


@dataclass(frozen=True, slots=True)
class Flaw:
    """One thing that is wrong in a file. line: from 1; 0: it is about the whole. mend: what its mending does, in words;
    empty: a person has to do it. edits: start, end and new text of what changes.
    """

    code: str
    line: int
    message: str
    remedy: str
    mend: str = ""
    edits: tuple[tuple[int, int, str], ...] = ()

    @property
    def severity(self) -> Severity:
        return severity_of(self.code)


@dataclass
class BaseLook:
    """One file of any kind against the site. public: the lines' addresses, as far as they are known.

    Those who fill it find out of which tunnel and peer it is, and whether it is the server's own.
    """

    topology: Topology
    public: Mapping[str, IPAddress] = field(default_factory=dict)
    faults: list[Flaw] = field(default_factory=list, kw_only=True)
    tunnel_key: str | None = field(default=None, kw_only=True)
    peer_key: str | None = field(default=None, kw_only=True)
    is_server: bool = field(default=False, kw_only=True)

    @property
    def site(self) -> Site:
        return self.topology.site

    @property
    def tunnel(self) -> Tunnel | None:
        return self.site.tunnels[self.tunnel_key] if self.tunnel_key is not None else None

    @property
    def peer(self) -> Peer | None:
        return self.site.peers[self.peer_key] if self.peer_key is not None else None

    @property
    def marks(self) -> Mapping[str, object]:
        """What no two files may have in common, by what it is."""
        raise NotImplementedError

    def line_of_mark(self, what: str) -> int:
        """Where such a thing stands."""
        raise NotImplementedError

    def tell(self, code: str, line: int, message: str, remedy: str) -> None:
        """Something that a person has to set right."""
        self.faults.append(Flaw(code, line, message, remedy))


@dataclass
class Look(BaseLook):
    """One file in WireGuard's format."""

    file: WireGuardFile = field(default_factory=lambda: WireGuardFile(""), kw_only=True)

    def __post_init__(self) -> None:
        self.interface = self.file.interface
        self.own = _public_of(self.interface)
        self.tunnel_key = self._tunnel_key()
        self.is_server = self._is_server()
        self.peer_key = None if self.is_server else self._peer_key()

    @property
    def proven_server(self) -> bool:
        """Whether it is the file of this site's own server: it has that private key."""
        return self.own is not None and self.tunnel is not None and self.own == self.tunnel.public_key

    @property
    def server_section(self) -> Section | None:
        """The section of this tunnel's server in a device's file: by its key, by where it leads, or the first."""
        right = self.tunnel.public_key if self.tunnel is not None else None
        where = typed(self.topology, self.tunnel.service, self.public) if self.tunnel is not None else None
        peers = self.file.peers
        by_key = [one for one in peers if right and (key := one.get("PublicKey")) is not None and key.value == right]
        leads = [
            one
            for one in peers
            if where is not None and (end := one.get("Endpoint")) is not None and where.host in end.value
        ]
        return next(iter((*by_key, *leads, *peers)), None)

    @property
    def marks(self) -> Mapping[str, object]:
        four = next((one for one in self.addresses() if isinstance(one, IPv4Address)), None)
        return {"private key": self.own, "address": four}

    def line_of_mark(self, what: str) -> int:
        return line_of(self.interface, "PrivateKey" if what == "private key" else "Address")

    # --- what it is

    def _tunnel_key(self) -> str | None:
        """By the server's key, by its own as a peer, by its address, by being the only one."""
        named = {entry.value for section in self.file.peers if (entry := section.get("PublicKey")) is not None}
        of_kind = {key: tunnel for key, tunnel in self.site.tunnels.items() if tunnel.kind == "wireguard"}
        for key, tunnel in of_kind.items():
            if tunnel.public_key is not None and tunnel.public_key in (*named, self.own):
                return key
        for peer in self.site.peers.values():
            if peer.public_key is not None and peer.public_key == self.own:
                return peer.tunnel
        for address in self.addresses():
            for key, tunnel in of_kind.items():
                if any(address.version == one.version and address in one for one in tunnel.subnets):
                    return key
        return next(iter(of_kind)) if len(of_kind) == 1 else None

    def _is_server(self) -> bool:
        if self.proven_server:
            return True
        listens = self.interface is not None and self.interface.get("ListenPort") is not None
        calls = any(section.get("Endpoint") is not None for section in self.file.peers)
        return listens and not calls and bool(self.file.peers)

    def _peer_key(self) -> str | None:
        of_tunnel = {key: one for key, one in self.site.peers.items() if one.tunnel == self.tunnel_key}
        by_key = next((key for key, one in of_tunnel.items() if self.own and one.public_key == self.own), None)
        if by_key is not None:
            return by_key
        return next((key for key, one in of_tunnel.items() if one.address in self.addresses()), None)

    def addresses(self) -> list[IPAddress]:
        """Its own, as the file has them."""
        found: list[IPAddress] = []
        for text in self.interface.items("Address") if self.interface is not None else ():
            try:
                found.append(ip_interface(text).ip)
            except ValueError:
                continue
        return found

    # --- telling

    def put(self, code: str, section: Section, key: str, value: str, message: str) -> None:
        """Something that another value sets right: in the place of the one that is there, or as a line of its own."""
        entry = section.get(key)
        edits: tuple[tuple[int, int, str], ...]
        if entry is not None:
            others = [one for one in section.every(key) if one is not entry]
            edits = ((entry.start, entry.end, value), *((one.line_start, one.line_end, "") for one in others))
            line, words = entry.line, f"{key} becomes {value}"
        else:
            newline = "\r\n" if "\r\n" in self.file.text else "\n"
            before = "" if self.file.text[: section.end].endswith("\n") else newline
            edits = ((section.end, section.end, f"{before}{key} = {value}{newline}"),)
            line, words = section.line, f"{key} = {value} is added"
        self.faults.append(Flaw(code, line, message, f"Put {key} = {value}.", words, edits))

    def drop(self, code: str, what: Entry | Stray | Section, message: str, words: str) -> None:
        """Something that is right once the line, or the whole section, is gone."""
        place = (what.line_start, what.line_end) if isinstance(what, Entry) else (what.start, what.end)
        self.faults.append(Flaw(code, what.line, message, "Take the line away.", words, ((*place, ""),)))


def _public_of(interface: Section | None) -> str | None:
    """The public key of a file's own private one; None: it has none that is one."""
    entry = interface.get("PrivateKey") if interface is not None else None
    data = key_of(entry.value) if entry is not None else None
    return base64.b64encode(public_of(data)).decode() if data is not None else None


def key_of(text: str) -> bytes | None:
    """A key in Base64 as 32 bytes; None: it is none."""
    try:
        data = base64.b64decode(text, validate=True)
    except ValueError:
        return None
    return data if len(data) == 32 and base64.b64encode(data).decode() == text else None


def network_of(text: str) -> IPNetwork | None:
    """A network as the software takes it, host bits and all; None: it is none."""
    try:
        return ip_network(text, strict=False)
    except ValueError:
        return None


def networks_in(section: Section) -> list[IPNetwork]:
    """The allowed addresses of a peer; two halves of a network count as the whole."""
    found = [network for text in section.items("AllowedIPs") if (network := network_of(text)) is not None]
    four = collapse_addresses([one for one in found if isinstance(one, IPv4Network)])
    six = collapse_addresses([one for one in found if isinstance(one, IPv6Network)])
    return [*four, *six]


def line_of(section: Section | None, key: str) -> int:
    """Where a value stands, or else its section."""
    entry = section.get(key) if section is not None else None
    return entry.line if entry is not None else section.line if section is not None else 0
