"""The key exchange of SSH as far as the server's host key and its signature (RFC 4253 sections 6 to 8, RFC 5656 and RFC
8731, keys of RFC 8709, signatures of RFC 8332). No login: whoever asks hangs up once the key is proven.
"""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from hooper.errors import WireError

DISCONNECT, IGNORE, UNIMPLEMENTED, DEBUG, EXT_INFO, KEXINIT, INIT, REPLY = 1, 2, 3, 4, 7, 20, 30, 31
PACKET_LIMIT = 35_000  # bytes, RFC 4253 section 6.1
HOST_KEYS = (
    "ssh-ed25519",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "rsa-sha2-512",
    "rsa-sha2-256",
    "ssh-rsa",
)
_CURVES = {"nistp256": "SECP256R1", "nistp384": "SECP384R1", "nistp521": "SECP521R1"}
_HASHES = {
    "curve25519-sha256": "sha256",
    "curve25519-sha256@libssh.org": "sha256",
    "ecdh-sha2-nistp256": "sha256",
    "ecdh-sha2-nistp384": "sha384",
    "ecdh-sha2-nistp521": "sha512",
    "diffie-hellman-group14-sha256": "sha256",
    "diffie-hellman-group14-sha1": "sha1",
}
_GROUP14 = int(  # RFC 3526 section 3; its generator is 2
    "FFFFFFFFFFFFFFFFC90FDAA22168C234C4C6628B80DC1CD129024E088A67CC74020BBEA63B139B22514A08798E3404DDEF9519B3CD3A431B"
    "302B0A6DF25F14374FE1356D6D51C245E485B576625E7EC6F44C42E9A637ED6B0BFF5CB6F406B7EDEE386BFB5A899FA5AE9F24117C4B1FE6"
    "49286651ECE45B3DC2007CB8A163BF0598DA48361C55D39A69163FA8FD24CF5F83655D23DCA3AD961C62F356208552BB9ED529077096966D"
    "670C354E4ABC9804F1746C08CA18217C32905E462E36CE3BE39E772C180E86039B2783A2EC07A28FB5C55DF06F4C52C9DE2BCBF695581718"
    "3995497CEA956AE515D2261898FA051015728E5A8AACAA68FFFFFFFFFFFFFFFF",
    16,
)
_CIPHERS = ("aes128-ctr", "aes256-ctr", "chacha20-poly1305@openssh.com", "aes128-cbc", "3des-cbc")  # named, never used
_MACS = ("hmac-sha2-256", "hmac-sha2-512", "hmac-sha1")


@dataclass(frozen=True, slots=True)
class HostKey:
    """A server's host key that it has proven to hold. kind: such as "ssh-ed25519". blob: as the RFCs encode it."""

    kind: str
    blob: bytes

    @property
    def fingerprint(self) -> str:
        """SHA-256 of the key, in hexadecimal after "sha256:"."""
        return "sha256:" + hashlib.sha256(self.blob).hexdigest()


@dataclass(frozen=True, slots=True)
class KexInit:
    """SSH_MSG_KEXINIT, RFC 4253 section 7.1: what each side can do, what it likes best first."""

    cookie: bytes
    methods: tuple[str, ...]
    host_keys: tuple[str, ...]
    guess_follows: bool = False

    def serialize(self) -> bytes:
        lists = (self.methods, self.host_keys, _CIPHERS, _CIPHERS, _MACS, _MACS, ("none",), ("none",), (), ())
        texts = b"".join(string(",".join(names).encode()) for names in lists)
        return bytes([KEXINIT]) + self.cookie + texts + bytes([self.guess_follows]) + bytes(4)

    @classmethod
    def parse(cls, payload: bytes) -> KexInit:
        """Raises: WireError."""
        if len(payload) < 17 or payload[0] != KEXINIT:
            raise WireError("KEXINIT", 0, "not one, or cut short")
        reader = Reader(payload, 17)
        lists = [tuple(reader.string("name-list").decode("ascii", "replace").split(",")) for _ in range(10)]
        if len(payload) < reader.at + 5:
            raise WireError("KEXINIT", reader.at, "cut short")
        return cls(payload[1:17], lists[0], lists[1], guess_follows=bool(payload[reader.at]))


@dataclass
class Reader:
    """Takes one string after the other out of a message (RFC 4251 section 5)."""

    data: bytes
    at: int = 0

    def string(self, what: str) -> bytes:
        """Raises: WireError."""
        if len(self.data) < self.at + 4:
            raise WireError(what, self.at, "cut short")
        (length,) = struct.unpack_from("!I", self.data, self.at)
        start = self.at + 4
        if length > len(self.data) - start:
            raise WireError(what, self.at, f"{length} bytes, where {len(self.data) - start} are left")
        self.at = start + length
        return self.data[start : self.at]


def string(data: bytes) -> bytes:
    """RFC 4251 section 5."""
    return struct.pack("!I", len(data)) + data


def mpint(number: int) -> bytes:
    """RFC 4251 section 5: two's complement, the shortest form; only numbers that are not negative."""
    return string(number.to_bytes(number.bit_length() // 8 + 1, "big") if number else b"")


def serialize_packet(payload: bytes) -> bytes:
    """RFC 4253 section 6, before any key is there: padded to eight bytes, with four bytes of padding at least."""
    padding = 8 - (len(payload) + 5) % 8
    padding += 8 if padding < 4 else 0
    return struct.pack("!IB", len(payload) + padding + 1, padding) + payload + bytes(padding)


def parse_packet(data: bytes) -> tuple[bytes, bytes] | None:
    """The payload of the first packet, and what follows it; None while it is not whole. Raises: WireError."""
    if len(data) < 5:
        return None
    length, padding = struct.unpack_from("!IB", data)
    if not 8 <= length + 4 <= PACKET_LIMIT or padding < 4 or padding + 2 > length:
        raise WireError("packet length", 0, f"{length} bytes with {padding} of padding")
    if len(data) < 4 + length:
        return None
    return data[5 : 4 + length - padding], data[4 + length :]


def exchange_hash(method: str, parts: tuple[bytes, bytes, bytes, bytes, bytes, bytes, bytes], secret: int) -> bytes:
    """H of RFC 4253 section 8 and RFC 5656 section 4: over the identifications and KEXINITs of client and server, the
    host key, and the values that were exchanged, encoded as the method wants them.
    """
    client, server, client_init, server_init, key, asked, answered = parts
    whole = b"".join(string(part) for part in (client, server, client_init, server_init, key))
    return hashlib.new(_HASHES[method], whole + asked + answered + mpint(secret)).digest()


@dataclass
class HostKeyTalk:
    """The client's side: `start` and what `receive` returns are sent; it is over once `host_key` is there.

    client, server: both identifications, without line end. random: gives that many bytes that nobody can guess.
    """

    client: str
    server: str
    random: Callable[[int], bytes]
    host_key: HostKey | None = None
    _data: bytes = b""
    _own: bytes = b""
    _theirs: bytes = b""
    _method: str = ""
    _host_key_kind: str = ""
    _asked: bytes = b""
    _share: Callable[[bytes], int] = field(default=lambda _: 0)

    def start(self) -> bytes:
        """What the client sends first."""
        self._own = KexInit(self.random(16), tuple(_HASHES), HOST_KEYS).serialize()
        return serialize_packet(self._own)

    def receive(self, data: bytes) -> bytes:
        """Take what came; returns what is to be sent. Raises: WireError."""
        self._data += data
        out = b""
        while self.host_key is None and (got := parse_packet(self._data)) is not None:
            payload, self._data = got
            out += self._message(payload)
        return out

    def _message(self, payload: bytes) -> bytes:
        kind = payload[0] if payload else 0
        if kind in (IGNORE, DEBUG, UNIMPLEMENTED, EXT_INFO):
            return b""
        if kind == DISCONNECT:
            raise WireError("message", 0, "the server hangs up in the key exchange")
        if kind == KEXINIT and not self._theirs:
            return self._agree(payload)
        if kind == REPLY and self._asked:
            self._prove(payload)
            return b""
        raise WireError("message", 0, f"number {kind} has no place here")

    def _agree(self, payload: bytes) -> bytes:
        theirs = KexInit.parse(payload)
        self._theirs = payload
        self._method = _first_in_common("key exchange", tuple(_HASHES), theirs.methods)
        self._host_key_kind = _first_in_common("host key", HOST_KEYS, theirs.host_keys)
        value, self._share = _client_value(self._method, self.random)
        self._asked = value
        return serialize_packet(bytes([INIT]) + value)

    def _prove(self, payload: bytes) -> None:
        reader = Reader(payload, 1)
        key, answered, signature = (reader.string(what) for what in ("host key", "server's value", "signature"))
        secret = self._share(answered)
        parts = (
            self.client.encode(),
            self.server.encode(),
            self._own,
            self._theirs,
            key,
            self._asked,
            string(answered),
        )
        digest = exchange_hash(self._method, parts, secret)
        _verify(self._host_key_kind, key, signature, digest)
        self.host_key = HostKey(Reader(key).string("kind of key").decode("ascii", "replace"), key)


def _first_in_common(what: str, ours: tuple[str, ...], theirs: tuple[str, ...]) -> str:
    for name in ours:
        if name in theirs:
            return name
    raise WireError(what, 0, f"none in common: the server has {', '.join(theirs)[:80]}")


def _client_value(method: str, random: Callable[[int], bytes]) -> tuple[bytes, Callable[[bytes], int]]:
    """The client's value as it is sent, and how the secret comes of the server's."""
    if method.startswith("diffie-hellman"):
        own = int.from_bytes(random(48), "big") | 1 << 383

        def share(value: bytes) -> int:
            theirs = int.from_bytes(value, "big")
            if not 1 < theirs < _GROUP14 - 1:  # RFC 4253 section 8
                raise WireError("server's value", 0, "outside the group")
            return pow(theirs, own, _GROUP14)

        return mpint(pow(2, own, _GROUP14)), share
    if method.startswith("curve25519"):
        return x25519(random(32))
    return _ecdh(_CURVES[method.rpartition("-")[2]])


def x25519(seed: bytes) -> tuple[bytes, Callable[[bytes], int]]:
    """One side's value as it is sent, and how the secret comes of the other's (RFC 8731). seed: 32 secret bytes."""
    from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey

    private = X25519PrivateKey.from_private_bytes(seed)

    def share(value: bytes) -> int:
        try:
            return int.from_bytes(private.exchange(X25519PublicKey.from_public_bytes(value)), "big")
        except ValueError:  # not 32 bytes, or all zero: RFC 8731 section 3
            raise WireError("server's value", 0, "no point of curve25519") from None

    return string(private.public_key().public_bytes_raw()), share


def _ecdh(curve_name: str) -> tuple[bytes, Callable[[bytes], int]]:
    from cryptography.hazmat.primitives.asymmetric import ec
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    curve: ec.EllipticCurve = getattr(ec, curve_name)()
    private = ec.generate_private_key(curve)

    def share(value: bytes) -> int:
        try:
            theirs = ec.EllipticCurvePublicKey.from_encoded_point(curve, value)
        except ValueError:
            raise WireError("server's value", 0, f"no point of {curve.name}") from None
        return int.from_bytes(private.exchange(ec.ECDH(), theirs), "big")

    return string(private.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)), share


def _verify(kind: str, key: bytes, signature: bytes, digest: bytes) -> None:
    """Raises: WireError: the key or the signature is not what it should be."""
    from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm

    reader = Reader(signature)
    signed_by, value = reader.string("signature").decode("ascii", "replace"), reader.string("signature")
    if signed_by != kind:
        raise WireError("signature", 0, f"made by {signed_by[:40]!r}, where {kind} was agreed on")
    try:
        _check_signature(kind, Reader(key), value, digest)
    except (ValueError, UnsupportedAlgorithm):
        raise WireError("host key", 0, "not a key of its kind") from None
    except InvalidSignature:
        raise WireError("signature", 0, "it does not fit the host key") from None


def _check_signature(kind: str, key: Reader, value: bytes, digest: bytes) -> None:
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa, utils

    told = key.string("host key").decode("ascii", "replace")
    wanted = "ssh-rsa" if kind.startswith("rsa-sha2") else kind  # RFC 8332 section 3
    if told != wanted:
        raise WireError("host key", 0, f"of the kind {told[:40]!r}, where {wanted} was agreed on")
    if kind == "ssh-ed25519":
        ed25519.Ed25519PublicKey.from_public_bytes(key.string("host key")).verify(value, digest)
    elif kind.startswith("ecdsa"):
        name = key.string("curve").decode("ascii", "replace")
        if name not in _CURVES:
            raise WireError("host key", 0, f"of the unknown curve {name[:40]!r}")
        curve: ec.EllipticCurve = getattr(ec, _CURVES[name])()
        sizes: dict[str, Any] = {"secp256r1": hashes.SHA256, "secp384r1": hashes.SHA384, "secp521r1": hashes.SHA512}
        numbers = Reader(value)
        pair = [int.from_bytes(numbers.string("signature"), "big") for _ in range(2)]
        point = ec.EllipticCurvePublicKey.from_encoded_point(curve, key.string("host key"))
        point.verify(utils.encode_dss_signature(*pair), digest, ec.ECDSA(sizes[curve.name]()))
    else:
        exponent, modulus = (int.from_bytes(key.string("host key"), "big") for _ in range(2))
        kinds: dict[str, Any] = {"rsa-sha2-512": hashes.SHA512, "rsa-sha2-256": hashes.SHA256, "ssh-rsa": hashes.SHA1}
        rsa.RSAPublicNumbers(exponent, modulus).public_key().verify(value, digest, padding.PKCS1v15(), kinds[kind]())
