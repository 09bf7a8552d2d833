"""One file in OpenVPN's format, held against the site: which tunnel and peer it is of, and edits that mend it. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING

from hooper.certs.inspect import key_fingerprint, known_in, public_text, signed_by
from hooper.planning.typed import Typed, typed
from hooper.tunnels.look import BaseLook, Flaw
from hooper.wire.ovpnfile import Directive, Inline, OpenVpnFile

if TYPE_CHECKING:
    from cryptography import x509

TRANSPORTS = {"udp": "udp", "udp4": "udp", "udp6": "udp", "tcp": "tcp", "tcp4": "tcp", "tcp6": "tcp"}
USUAL_PORT = 1194  # openvpn(8), --port


@dataclass(frozen=True)
class Remote:
    """Where a profile leads. option: the line that says it."""

    option: Directive
    host: str
    port: int
    transport: str


@dataclass
class OpenVpnLook(BaseLook):
    """beside: the text of each file beside it that it names, by that name; None: it is not there. take_in: those that
    a person asked to have put inside. now: for certificates, UTC.
    """

    file: OpenVpnFile = field(default_factory=lambda: OpenVpnFile(""), kw_only=True)
    beside: Mapping[str, str | None] = field(default_factory=dict, kw_only=True)
    take_in: frozenset[str] = field(default=frozenset(), kw_only=True)
    now: datetime = field(kw_only=True)

    def __post_init__(self) -> None:
        serves = any(self.file.has(name) for name in ("server", "server-bridge", "tls-server"))
        mode = self.file.get("mode")
        self.is_server = (serves or (mode is not None and mode.word(0) == "server")) and not self.file.has("client")
        self.tunnel_key = self._tunnel_key()
        self.peer_key = None if self.is_server else self._peer_key()

    # --- what it holds

    def text_of(self, name: str) -> str | None:
        """The text of a file that it has inside or names; None: neither, or what it names is not there."""
        inside, option = self.file.inline(name), self.file.get(name)
        if inside is not None:
            return inside.text
        return self.beside.get(option.word(0)) if option is not None and option.words else None

    def line_of(self, name: str) -> int:
        """Where a file or an option stands; 0: nowhere."""
        inside, option = self.file.inline(name), self.file.get(name)
        return inside.line if inside is not None else option.line if option is not None else 0

    def certificates(self, name: str) -> list[x509.Certificate]:
        """The certificates in a file of that name; empty: there is none that can be read."""
        return known_in(self.text_of(name) or "")

    @cached_property
    def authorities(self) -> list[x509.Certificate]:
        return self.certificates("ca")

    @cached_property
    def own(self) -> x509.Certificate | None:
        """Its own certificate."""
        return next(iter(self.certificates("cert")), None)

    @cached_property
    def proven_server(self) -> bool:
        """Whether it is the file of this site's own server: it has the private key of one that its authority named."""
        authority = self.tunnel.public_key if self.tunnel is not None else None
        right = next((one for one in self.authorities if key_fingerprint(one) == authority), None)
        if not self.is_server or right is None or self.own is None or not signed_by(self.own, right):
            return False
        from cryptography.x509.oid import ExtendedKeyUsageOID

        key, use = self.file.inline("key"), may_be(self.own, ExtendedKeyUsageOID.SERVER_AUTH)
        return key is not None and bool(use) and public_text(key.text) == key_fingerprint(self.own)

    @property
    def remotes(self) -> list[Remote]:
        """Where it leads, in the order in which it tries."""
        usual = self.file.get("port") or self.file.get("rport")
        found = []
        for option in self.file.every("remote"):
            within = [one for one in self.file.every("proto") if one.connection in (None, option.connection)]
            said = option.word(2) or (within[-1].word(0) if within else "udp")
            text = option.word(1) or (usual.word(0) if usual is not None else str(USUAL_PORT))
            port = int(text) if text.isascii() and text.isdigit() and len(text) < 6 else 0
            found.append(Remote(option, option.word(0), port, TRANSPORTS.get(said.removesuffix("-client"), said)))
        return found

    def right(self) -> dict[str, Typed]:
        """By transport, where its server is found by the plan; empty: it is not known."""
        if self.tunnel is None:
            return {}
        out = {}
        for service in (self.tunnel.service, self.tunnel.also):
            where = typed(self.topology, service, self.public) if service is not None else None
            if service is not None and where is not None:
                out[self.site.services[service].used_transport] = where
        return out

    # --- what it is

    def _tunnel_key(self) -> str | None:
        """By its authority, by where it leads, by being the only one."""
        of_kind = {key: tunnel for key, tunnel in self.site.tunnels.items() if tunnel.kind == "openvpn"}
        known = {key_fingerprint(one) for one in self.authorities}
        for key, tunnel in of_kind.items():
            if tunnel.public_key is not None and tunnel.public_key in known:
                return key
        for key, tunnel in of_kind.items():
            for service in (tunnel.service, tunnel.also):
                where = typed(self.topology, service, self.public) if service is not None else None
                if where is not None and any((one.host, one.port) == (where.host, where.port) for one in self.remotes):
                    return key
        return next(iter(of_kind)) if len(of_kind) == 1 else None

    def _peer_key(self) -> str | None:
        """By its certificate's key, else by the name in it."""
        of_tunnel = {key: one for key, one in self.site.peers.items() if one.tunnel == self.tunnel_key}
        if self.own is None:
            return None
        fingerprint = key_fingerprint(self.own)
        by_key = next((key for key, one in of_tunnel.items() if one.public_key == fingerprint), None)
        name = common_name(self.own)
        stem = name.rpartition(".")[0]  # as certificates of our making are called
        return by_key or next((key for key, one in of_tunnel.items() if name in (key, one.user) or stem == key), None)

    @property
    def marks(self) -> Mapping[str, object]:
        if self.is_server or (self.tunnel is not None and self.tunnel.one_secret):
            return {}
        return {"certificate": key_fingerprint(self.own) if self.own is not None else None}

    def line_of_mark(self, what: str) -> int:
        del what
        return self.line_of("cert")

    # --- mending

    def put(self, code: str, option: Directive, text: str, message: str) -> None:
        """Something that another line in its place sets right."""
        edits = ((option.start, option.end, text + self.file.newline),)
        self.faults.append(Flaw(code, option.line, message, f"Write: {text}", f"it becomes: {text}", edits))

    def drop(self, code: str, option: Directive | Inline, message: str) -> None:
        """Something that is right once the line is gone."""
        words = f"the line {option.name!r} is left out"
        edits = ((option.start, option.end, ""),)
        self.faults.append(Flaw(code, option.line, message, "Take the line away.", words, edits))

    def add(self, code: str, lines: tuple[str, ...], message: str, line: int = 0) -> None:
        """Something that further lines set right: they come before the first file inside, else at the end."""
        at = min((one.start for one in self.file.inlines), default=len(self.file.text))
        before = "" if not at or self.file.text[:at].endswith("\n") else self.file.newline
        new = before + "".join(text + self.file.newline for text in lines)
        said = "; ".join(lines)
        self.faults.append(Flaw(code, line, message, f"Add: {said}", f"added: {said}", ((at, at, new),)))


def may_be(certificate: x509.Certificate, use: x509.ObjectIdentifier) -> bool | None:
    """Whether a certificate may be used so (RFC 5280 section 4.2.1.12); None: it does not say."""
    from cryptography import x509
    from cryptography.x509.oid import ExtendedKeyUsageOID

    try:
        uses = set(certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value)
    except (x509.ExtensionNotFound, ValueError):
        return None
    return use in uses or ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE in uses


def common_name(certificate: x509.Certificate) -> str:
    """The common name of who a certificate is for."""
    from cryptography.x509.oid import NameOID

    found = certificate.subject.get_attributes_for_oid(NameOID.COMMON_NAME)
    value = found[0].value if found else ""
    return value if isinstance(value, str) else value.decode("utf-8", "replace")
