"""The small authority of one OpenVPN tunnel: certificates for its server and peers (RFC 5280), kept in the key ring.

It is named by the fingerprint of its public key, which the site file has. All that it issued is kept; what of that the
site file does not name any more is revoked, so that the list never disagrees with the site file.
"""

from __future__ import annotations

import secrets
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.issuing import (
    EARLY,
    certify,
    key_text,
    load_ec_key,
    new_ec_key,
    pem_text,
    public_fingerprint,
    revocation_list,
)
from hooper.secret import Secret
from hooper.tunnels.common import KeyMissing
from hooper.tunnels.keys import KeyRing
from hooper.wire.openvpn import static_key_text

if TYPE_CHECKING:
    from cryptography import x509

AUTHORITY_DAYS, SERVER_DAYS, PEER_DAYS = 3650, 1200, 1200
RENEWED_DAYS = 400  # what the server's certificate has left when it is made anew


@dataclass(frozen=True)
class CertifiedKey:
    """A certificate in PEM, and the private key for it."""

    certificate: str
    key: Secret


def server_name(tunnel: str, public: str) -> str:
    """What the server's certificate is called: no peer has such a name."""
    return f"{tunnel[:40]}.server.{public[7:15]}"


def peer_name(peer: str, public: str) -> str:
    """What a peer's certificate is called: with another key it is another name."""
    return f"{peer[:48]}.{public[7:15]}"


def make_authority(ring: KeyRing, tunnel: str, title: str, now: datetime) -> str:
    """A new authority, with a key for its server and one that guards the control channel, all kept.

    Returns: the fingerprint that it is known by. Raises: MachineError.
    """
    own, server = new_ec_key(), new_ec_key()
    public = public_fingerprint(own)
    name = f"{title[:40]} {tunnel[:10]} {public[7:15]}"
    certificate = certify(name, own.public_key(), None, own, now, timedelta(days=AUTHORITY_DAYS), "authority")
    ring.put(public, "tls-crypt", static_key_text(secrets.token_bytes(256)))
    ring.put(public, "server-key", key_text(server))
    ring.put(public, "cert", pem_text(certificate))
    ring.put(public, "key", key_text(own))
    return public


class TunnelAuthority:
    """One that is kept. Raises, on making: KeyMissing: it is not, or not whole; MachineError."""

    def __init__(self, ring: KeyRing, public: str, tunnel: str) -> None:
        self._ring, self.public, self._tunnel = ring, public, tunnel
        key, certificate = ring.private(public), ring.text(public, "cert")
        guard, server = ring.text(public, "tls-crypt"), ring.text(public, "server-key")
        if key is None or certificate is None or guard is None or server is None:
            raise KeyMissing(
                f"the authority of {tunnel} is not kept here",
                remedy=f"If it is lost, `{deeds.RENEW_TUNNEL(tunnel)}` makes another; all its peers need new files.",
            )
        self._key, self.certificate = load_ec_key(key.reveal()), certificate
        self._server, self.guard = server, Secret(guard, "tls-crypt")
        self._own = self._load(public, "cert")

    def _load(self, public: str, kind: str) -> x509.Certificate:
        from cryptography import x509

        text = self._ring.text(public, kind)
        try:
            return x509.load_pem_x509_certificate((text or "").encode())
        except ValueError:
            raise self._ring.damaged(public, kind) from None

    def issue(self, peer: str, until: date | None, now: datetime) -> str:
        """A key and a certificate for a peer, kept. until: its last day. Returns: the key's fingerprint.

        Raises: MachineError.
        """
        key = new_ec_key()
        public, life = public_fingerprint(key), timedelta(days=PEER_DAYS)
        if until is not None:  # the last day is over everywhere on earth when the next one is over in UTC
            end = datetime.combine(until, datetime.min.time(), now.tzinfo) + timedelta(days=2)
            life = max(timedelta(days=1), min(life, end - now))
        life = min(life, self._own.not_valid_after_utc - now)
        certificate = certify(peer_name(peer, public), key.public_key(), self._own, self._key, now, life, "peer")
        self._ring.put(public, "cert", pem_text(certificate))
        self._ring.put(public, "key", key_text(key))
        return public

    def issued(self) -> Iterator[tuple[str, x509.Certificate]]:
        """All certificates for peers that it has made, by the fingerprints of their keys."""
        for stem in self._ring.stems("cert"):
            public = f"sha256:{stem}"
            certificate = self._load(public, "cert")
            if public != self.public and certificate.issuer == self._own.subject:
                yield public, certificate

    def certificate_of(self, public: str) -> x509.Certificate | None:
        """A peer's; None: this authority has made none for that key. Raises: MachineError."""
        if self._ring.text(public, "cert") is None:
            return None
        found = self._load(public, "cert")
        return found if found.issuer == self._own.subject else None

    def private_of(self, public: str) -> Secret | None:
        """A peer's private key, in PEM; None: it is not kept any more. Raises: MachineError: it is damaged."""
        return self._ring.private(public)

    def server(self, now: datetime) -> CertifiedKey:
        """The server's, made anew when the one that is kept ends within the year; peers need nothing new then.

        Raises: MachineError.
        """
        kept = self._ring.text(self.public, "server-cert")
        if kept is not None:
            left = self._load(self.public, "server-cert").not_valid_after_utc - now
            if left > timedelta(days=RENEWED_DAYS) or self._own.not_valid_after_utc - now <= left:
                return CertifiedKey(kept, Secret(self._server, "key"))
        life = min(timedelta(days=SERVER_DAYS), self._own.not_valid_after_utc - now)
        name, key = server_name(self._tunnel, self.public), load_ec_key(self._server)
        made = pem_text(certify(name, key.public_key(), self._own, self._key, now, life, "server"))
        self._ring.put(self.public, "server-cert", made)
        return CertifiedKey(made, Secret(self._server, "key"))

    def revoked(self, current: Collection[str], now: datetime) -> str:
        """The list of what is not worth anything any more (RFC 5280 section 5), in PEM. current: what still is.

        It is good for as long as the authority is: one that is too old would lock everybody out.
        """
        gone = [
            (certificate.serial_number, now - EARLY)
            for public, certificate in self.issued()
            if public not in current and certificate.not_valid_after_utc > now
        ]
        return revocation_list(self._own, self._key, now, gone)
