"""WireGuard's handshake and transport, sans-I/O: both sides, as its protocol paper has them (sections 5.4.1 to 5.4.7).

A handshake is Noise_IKpsk2 over X25519, ChaCha20-Poly1305 (RFC 8439) and BLAKE2s (RFC 7693). Indices are little-endian,
keys are 32 raw bytes. Each class holds one side of one handshake; a SessionKeys holds the keys that came of it.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
import struct
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey, X25519PublicKey
from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from cryptography.hazmat.primitives.ciphers.algorithms import ChaCha20

from hooper.errors import WireError

INITIATION, RESPONSE, COOKIE_REPLY, TRANSPORT = 1, 2, 3, 4
CONSTRUCTION = b"Noise_IKpsk2_25519_ChaChaPoly_BLAKE2s"
IDENTIFIER = b"WireGuard v1 zx2c4 Jason@zx2c4.com"
INITIATION_SIZE, RESPONSE_SIZE, COOKIE_SIZE, TRANSPORT_HEAD = 148, 92, 64, 16
KEY, MAC, NO_PSK = 32, 16, bytes(32)
# section 6.1: Rekey-Timeout, the life of a cookie secret, Reject-After-Time, in seconds
RESEND_S, COOKIE_S, SESSION_S = 5.0, 120.0, 180.0
WINDOW = 2048  # counters behind the newest that may still come, each once (RFC 6479 has the way)
_HEAD = struct.Struct("<BxxxI")


def _hash(*parts: bytes) -> bytes:
    return hashlib.blake2s(b"".join(parts)).digest()


def _mac(key: bytes, data: bytes) -> bytes:
    return hashlib.blake2s(data, key=key, digest_size=MAC).digest()


def _hmac(key: bytes, data: bytes) -> bytes:
    return hmac.new(key, data, hashlib.blake2s).digest()


def _derive(key: bytes, data: bytes, count: int) -> list[bytes]:
    """Kdf1 to Kdf3: the HKDF of RFC 5869 over BLAKE2s, without info."""
    secret, out = _hmac(key, data), [b""]
    for number in range(1, count + 1):
        out.append(_hmac(secret, out[-1] + bytes((number,))))
    return out[1:]


def _nonce(counter: int) -> bytes:
    return bytes(4) + counter.to_bytes(8, "little")


def _open(key: bytes, counter: int, data: bytes, bound: bytes, what: str, at: int) -> bytes:
    try:
        return ChaCha20Poly1305(key).decrypt(_nonce(counter), data, bound)
    except InvalidTag:
        raise WireError(what, at, "it does not open with these keys") from None


def generate_private() -> bytes:
    """A new private key (RFC 7748 section 5)."""
    return X25519PrivateKey.generate().private_bytes_raw()


def public_of(private: bytes) -> bytes:
    """The public key of a private one. Raises: ValueError: it is not 32 bytes."""
    return X25519PrivateKey.from_private_bytes(private).public_key().public_bytes_raw()


def _agree(private: bytes, public: bytes, what: str, at: int) -> bytes:
    try:
        return X25519PrivateKey.from_private_bytes(private).exchange(X25519PublicKey.from_public_bytes(public))
    except ValueError:  # a point of small order: every secret would be the same
        raise WireError(what, at, "it is no key that anything can be agreed with") from None


# --- TAI64N


def tai64n(moment: datetime, after: bytes = b"") -> bytes:
    """A moment as TAI64N, 12 bytes, later than `after`: a server answers no initiation that goes back in time.

    Section 5.1, and the TAI64 format. The leap seconds are those that every implementation has: ten.
    """
    since = moment.astimezone(UTC) - datetime(1970, 1, 1, tzinfo=UTC)
    seconds, rest = divmod(since, timedelta(seconds=1))
    label = struct.pack("!QI", 2**62 + 10 + seconds, rest.microseconds * 1000)
    return max(label, (int.from_bytes(after) + 1).to_bytes(12)) if after else label


def moment_of(label: bytes) -> datetime | None:
    """The moment of a TAI64N label; None: it is none, or lies beyond what a calendar holds."""
    if len(label) != 12:
        return None
    seconds, nanos = struct.unpack("!QI", label)
    try:
        start = datetime(1970, 1, 1, tzinfo=UTC)
        return start + timedelta(seconds=seconds - 2**62 - 10, microseconds=nanos // 1000)
    except OverflowError:
        return None


# --- the handshake's running state


@dataclass(slots=True)
class _Symmetric:
    """The chaining key and the hash of all that was said (Noise, section 5.2)."""

    chain: bytes
    hash: bytes

    @classmethod
    def towards(cls, responder: bytes) -> _Symmetric:
        chain = _hash(CONSTRUCTION)
        return cls(chain, _hash(_hash(chain, IDENTIFIER), responder))

    def mix_hash(self, data: bytes) -> None:
        self.hash = _hash(self.hash, data)

    def mix(self, data: bytes) -> None:
        (self.chain,) = _derive(self.chain, data, 1)

    def mix_key(self, data: bytes) -> bytes:
        self.chain, key = _derive(self.chain, data, 2)
        return key

    def seal(self, key: bytes, plain: bytes) -> bytes:
        sealed = ChaCha20Poly1305(key).encrypt(_nonce(0), plain, self.hash)
        self.mix_hash(sealed)
        return sealed

    def unseal(self, key: bytes, sealed: bytes, what: str, at: int) -> bytes:
        plain = _open(key, 0, sealed, self.hash, what, at)
        self.mix_hash(sealed)
        return plain

    def finish(self, ephemeral: bytes, secrets_: tuple[bytes, bytes], psk: bytes) -> bytes:
        """All of the response up to the empty text; returns the key of that."""
        self.mix(ephemeral)
        self.mix_hash(ephemeral)
        for secret in secrets_:
            self.mix(secret)
        self.chain, tau, key = _derive(self.chain, psk, 3)
        self.mix_hash(tau)
        return key

    def split(self) -> tuple[bytes, bytes]:
        first, second = _derive(self.chain, b"", 2)
        return first, second


def kind_of(data: bytes) -> int:
    """The type of a message. Raises: WireError: it is none, or its length is not that of its type (section 5.4)."""
    if len(data) < 4 or data[1:4] != bytes(3):
        raise WireError("type", 0, "it does not start like a WireGuard message")
    sizes = {INITIATION: INITIATION_SIZE, RESPONSE: RESPONSE_SIZE, COOKIE_REPLY: COOKIE_SIZE}
    kind, size = data[0], sizes.get(data[0])
    if kind == TRANSPORT:
        if len(data) < TRANSPORT_HEAD + MAC or len(data) % 16:
            raise WireError("length", len(data), "transport data has a head of 16 bytes and blocks of 16")
        return kind
    if size is None:
        raise WireError("type", 0, f"there is no type {kind}")
    if len(data) != size:
        raise WireError("length", len(data), f"type {kind} has {size} bytes, got {len(data)}")
    return kind


def _signed(body: bytes, receiver: bytes, cookie: bytes | None) -> bytes:
    """With both macs (section 5.4.4). receiver: the public key of who gets it."""
    first = _mac(_hash(b"mac1----", receiver), body)
    return body + first + (_mac(cookie, body + first) if cookie is not None else bytes(MAC))


def mac1_fits(data: bytes, receiver: bytes) -> bool:
    """Whether who sent a handshake message knows the receiver's public key; else it gets no word (section 5.3)."""
    return hmac.compare_digest(_mac(_hash(b"mac1----", receiver), data[: -2 * MAC]), data[-2 * MAC : -MAC])


def mac2_fits(data: bytes, cookie: bytes) -> bool:
    """Whether who sent a handshake message got this cookie at its address."""
    return hmac.compare_digest(_mac(cookie, data[:-MAC]), data[-MAC:])


# --- cookies (section 5.4.7)


def _xaead(key: bytes, nonce: bytes) -> tuple[ChaCha20Poly1305, bytes]:
    """XChaCha20-Poly1305: HChaCha20 makes the key, the last 8 bytes of 24 are the nonce."""
    start = struct.unpack("<4I", nonce[:16])
    cipher = Cipher(ChaCha20(key, nonce[:16]), mode=None).encryptor()
    block = struct.unpack("<16I", cipher.update(bytes(64)))
    words = (*_SIGMA, *start)  # the block function adds its input at the end, HChaCha20 does not
    lasts = (*block[:4], *block[12:])
    made = struct.pack("<8I", *((last - word) % 2**32 for last, word in zip(lasts, words, strict=True)))
    return ChaCha20Poly1305(made), bytes(4) + nonce[16:]


_SIGMA = struct.unpack("<4I", b"expand 32-byte k")


def cookie_for(secret: bytes, address: bytes) -> bytes:
    """The cookie of an asker. secret: changes every 2 minutes. address: its IP address and port, as bytes."""
    return _mac(secret, address)


def cookie_reply(data: bytes, own_public: bytes, cookie: bytes, nonce: bytes | None = None) -> bytes:
    """The answer of a busy server to a handshake message: come again with this cookie."""
    nonce = nonce if nonce is not None else secrets.token_bytes(24)
    cipher, short = _xaead(_hash(b"cookie--", own_public), nonce)
    sealed = cipher.encrypt(short, cookie, data[-2 * MAC : -MAC])
    return _HEAD.pack(COOKIE_REPLY, _index_of(data)) + nonce + sealed


def _index_of(data: bytes) -> int:
    return int(_HEAD.unpack_from(data)[1])


# --- transport (section 5.4.6)


@dataclass(slots=True)
class SessionKeys:
    """The keys that a handshake came to. own, peer: the indices. sending, receiving: one key for each way."""

    own: int
    peer: int
    sending: bytes = field(repr=False)
    receiving: bytes = field(repr=False)
    counter: int = 0
    _newest: int = -1
    _seen: int = 0  # one bit for each counter up to the newest, that at the lowest bit

    def send(self, packet: bytes) -> bytes:
        """An IP packet as a message; an empty one keeps the tunnel alive. Raises: WireError: the key is used up."""
        if self.counter >= 2**64 - 2**13 - 1:  # section 6.1, Reject-After-Messages
            raise WireError("counter", 8, "no message is left for this key")
        padded = packet + bytes(-len(packet) % 16)
        sealed = ChaCha20Poly1305(self.sending).encrypt(_nonce(self.counter), padded, b"")
        out = _HEAD.pack(TRANSPORT, self.peer) + self.counter.to_bytes(8, "little") + sealed
        self.counter += 1
        return out

    def receive(self, data: bytes) -> bytes:
        """The packet in a message, with its padding. Raises: WireError: not ours, damaged, or come before."""
        if kind_of(data) != TRANSPORT or _index_of(data) != self.own:
            raise WireError("receiver", 4, "the message is for another session")
        counter = int.from_bytes(data[8:16], "little")
        plain = _open(self.receiving, counter, data[TRANSPORT_HEAD:], b"", "packet", TRANSPORT_HEAD)
        if counter > self._newest:
            self._seen = (self._seen << min(counter - self._newest, WINDOW) | 1) & (2**WINDOW - 1)
            self._newest = counter
        elif self._newest - counter >= WINDOW or self._seen >> (self._newest - counter) & 1:
            raise WireError("counter", 8, "the message has come before")
        else:
            self._seen |= 1 << (self._newest - counter)
        return plain


# --- the two sides


class Initiator:
    """Who starts a handshake: a peer. `initiation` makes the first message, `read` takes what comes back.

    Args: private: its own key. responder: the server's public key. psk: the key that both share; zeros without one.
    ephemeral, index: for tests; else they are drawn.
    """

    def __init__(
        self,
        private: bytes,
        responder: bytes,
        psk: bytes = NO_PSK,
        *,
        ephemeral: bytes | None = None,
        index: int | None = None,
    ) -> None:
        self._private, self.responder, self._psk = private, responder, psk
        self._ephemeral = ephemeral if ephemeral is not None else generate_private()
        self.index = index if index is not None else secrets.randbits(32)
        self._state: _Symmetric | None = None
        self._mac1 = b""

    def initiation(self, label: bytes, cookie: bytes | None = None) -> bytes:
        """The first message. label: TAI64N, later than any before. cookie: where the server asked for one."""
        public, state = public_of(self._ephemeral), _Symmetric.towards(self.responder)
        state.mix(public)
        state.mix_hash(public)
        key = state.mix_key(_agree(self._ephemeral, self.responder, "server key", 0))
        static = state.seal(key, public_of(self._private))
        key = state.mix_key(_agree(self._private, self.responder, "server key", 0))
        stamp = state.seal(key, label)
        self._state = state
        message = _signed(_HEAD.pack(INITIATION, self.index) + public + static + stamp, self.responder, cookie)
        self._mac1 = message[-2 * MAC : -MAC]
        return message

    def read(self, data: bytes) -> SessionKeys | bytes:
        """What the server sent back: the session, or the cookie that it wants to see first.

        Raises: WireError: it is no answer to our initiation, or not from who has the server's key.
        """
        assert self._state is not None
        kind = kind_of(data)
        if kind == COOKIE_REPLY:
            if _index_of(data) != self.index:
                raise WireError("receiver", 4, "the cookie is for another handshake")
            cipher, short = _xaead(_hash(b"cookie--", self.responder), data[8:32])
            try:
                return cipher.decrypt(short, data[32:], self._mac1)
            except InvalidTag:
                raise WireError("cookie", 32, "it does not open with this server's key") from None
        if kind != RESPONSE:
            raise WireError("type", 0, f"type {kind} is no answer to an initiation")
        sender, receiver = struct.unpack_from("<II", data, 4)
        if receiver != self.index:
            raise WireError("receiver", 8, "the response is for another handshake")
        if not mac1_fits(data, public_of(self._private)):
            raise WireError("mac1", 60, "the response does not know our key")
        state = _Symmetric(self._state.chain, self._state.hash)
        ephemeral = data[12:44]
        agreed = (
            _agree(self._ephemeral, ephemeral, "ephemeral key", 12),
            _agree(self._private, ephemeral, "ephemeral key", 12),
        )
        key = state.finish(ephemeral, agreed, self._psk)
        state.unseal(key, data[44:60], "empty text", 44)
        sending, receiving = state.split()
        return SessionKeys(self.index, sender, sending, receiving)


@dataclass(frozen=True, slots=True)
class Initiation:
    """An initiation that was opened. peer: the public key of who asks. label: its TAI64N. index: its own."""

    peer: bytes
    label: bytes
    index: int
    ephemeral: bytes
    state: _Symmetric = field(repr=False)


class Responder:
    """Who answers handshakes: a server. It keeps no peers; who calls it decides whom it answers."""

    def __init__(self, private: bytes) -> None:
        self._private, self.public = private, public_of(private)

    def open(self, data: bytes) -> Initiation:
        """An initiation. Raises: WireError: it is none, or not for this server."""
        if kind_of(data) != INITIATION:
            raise WireError("type", 0, "it is no initiation")
        if not mac1_fits(data, self.public):
            raise WireError("mac1", 116, "who sent it does not know our key")
        state, ephemeral = _Symmetric.towards(self.public), data[8:40]
        state.mix(ephemeral)
        state.mix_hash(ephemeral)
        key = state.mix_key(_agree(self._private, ephemeral, "ephemeral key", 8))
        peer = state.unseal(key, data[40:88], "static key", 40)
        key = state.mix_key(_agree(self._private, peer, "static key", 40))
        label = state.unseal(key, data[88:116], "timestamp", 88)
        return Initiation(peer, label, _index_of(data), ephemeral, state)

    def respond(
        self, asked: Initiation, psk: bytes = NO_PSK, *, ephemeral: bytes | None = None, index: int | None = None
    ) -> tuple[bytes, SessionKeys]:
        """The response, and the session that it opens. ephemeral, index: for tests; else they are drawn."""
        ephemeral = ephemeral if ephemeral is not None else generate_private()
        index = index if index is not None else secrets.randbits(32)
        state, public = _Symmetric(asked.state.chain, asked.state.hash), public_of(ephemeral)
        agreed = (
            _agree(ephemeral, asked.ephemeral, "ephemeral key", 8),
            _agree(ephemeral, asked.peer, "static key", 40),
        )
        key = state.finish(public, agreed, psk)
        empty = state.seal(key, b"")
        receiving, sending = state.split()
        body = _HEAD.pack(RESPONSE, index) + asked.index.to_bytes(4, "little") + public + empty
        return _signed(body, asked.peer, None), SessionKeys(index, asked.index, sending, receiving)
