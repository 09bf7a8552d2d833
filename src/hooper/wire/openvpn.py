"""OpenVPN's control channel, sans-I/O: packets, what guards them, and the reliability layer below its TLS.

As its published wire protocol has it ("OpenVPN wire protocol", and the text on tls-crypt-v2 of its sources): a packet
is an opcode and key id in one byte, the sender's session id (8 bytes), acknowledged message ids, with any of them the
other's session id, and but for a bare acknowledgement its own message id; integers in network byte order. Over TCP
each packet stands behind its length in 2 bytes. A shared static key guards them: tls-auth signs each (HMAC), tls-crypt
encrypts it too (AES-256-CTR and HMAC-SHA256).
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import re
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Literal, Protocol

from cryptography.hazmat.primitives.ciphers import Cipher
from cryptography.hazmat.primitives.ciphers.algorithms import AES
from cryptography.hazmat.primitives.ciphers.modes import CTR

from hooper.errors import WireError

SOFT_RESET, CONTROL, ACK, DATA_V1 = 3, 4, 5, 6
CLIENT_RESET, SERVER_RESET, DATA_V2, CLIENT_RESET_V3, CONTROL_WKC = 7, 8, 9, 10, 11
CONTROL_OPCODES = {SOFT_RESET, CONTROL, ACK, CLIENT_RESET, SERVER_RESET, CLIENT_RESET_V3, CONTROL_WKC}
SESSION = 8  # bytes of a session id
HEAD = 1 + SESSION
KEY_SIZE = 256  # bytes of a static key: for each way a cipher's 64 and an HMAC's 64
REPLAY = struct.Struct("!II")  # packet id, seconds since 1970
TAG = 32  # bytes of tls-crypt's HMAC-SHA256
LARGEST = 1500  # bytes of one control packet that are taken
CHUNK = 1100  # bytes of TLS in one packet, so that it fits any line with all that stands around it
ACKS = 8  # acknowledged at once, at most
WINDOW = 12  # message ids that may come before the one that is waited for
# of tls-crypt-v2, "RESEND_WKC" and the early negotiation that asks for it
EARLY_START, EARLY_FLAGS, RESEND_WKC = 0x0F000000, 1, 1
DIGESTS = {"SHA1": "sha1", "SHA224": "sha224", "SHA256": "sha256", "SHA384": "sha384", "SHA512": "sha512"}

Role = Literal["client", "server"]


# --- keys


def parse_static_key(text: str) -> bytes:
    """The 256 bytes between BEGIN and END of a static key, in hexadecimal. Raises: WireError."""
    found = re.search(r"-+BEGIN OpenVPN Static key V1-+(.*?)-+END OpenVPN Static key V1-+", text, re.DOTALL)
    if found is None:
        raise WireError("static key", 0, "there is no BEGIN and END of an OpenVPN static key")
    try:
        key = binascii.unhexlify(re.sub(r"\s", "", found[1]))
    except ValueError:
        raise WireError("static key", found.start(1), "not in hexadecimal") from None
    if len(key) != KEY_SIZE:
        raise WireError("static key", found.start(1), f"it has {len(key)} bytes, not {KEY_SIZE}")
    return key


def static_key_text(key: bytes) -> str:
    """A static key as its files have it."""
    rows = [key[at : at + 16].hex() for at in range(0, len(key), 16)]
    return "\n".join(["-----BEGIN OpenVPN Static key V1-----", *rows, "-----END OpenVPN Static key V1-----", ""])


def parse_client_key(text: str) -> tuple[bytes, bytes]:
    """A client's key of tls-crypt-v2: the key itself, and the same wrapped for the server. Raises: WireError."""
    label = "OpenVPN tls-crypt-v2 client key"
    found = re.search(rf"-+BEGIN {label}-+(.*?)-+END {label}-+", text, re.DOTALL)
    if found is None:
        raise WireError("client key", 0, "there is no BEGIN and END of a tls-crypt-v2 client key")
    try:
        data = base64.b64decode(re.sub(r"\s", "", found[1]), validate=True)
    except ValueError:
        raise WireError("client key", found.start(1), "not in Base64") from None
    wrapped = data[KEY_SIZE:]
    if len(wrapped) < TAG + KEY_SIZE + 2 or int.from_bytes(wrapped[-2:], "big") != len(wrapped):
        raise WireError("client key", found.start(1), "its wrapped key is not whole")
    return data[:KEY_SIZE], wrapped


# --- what guards a packet


class Guard(Protocol):
    """Wraps what goes out and unwraps what comes in; it counts what it sends."""

    wrapped: bytes  # goes behind a first packet, for a server that has only its own key

    def seal(self, head: bytes, body: bytes, seconds: int) -> bytes:
        """A packet for the wire. seconds: since 1970."""
        ...

    def open(self, packet: bytes) -> bytes:
        """The body of a packet. Raises: WireError: it is not of who has the key."""
        ...


class Bare:
    """Nothing guards them."""

    wrapped = b""

    def seal(self, head: bytes, body: bytes, seconds: int) -> bytes:
        del seconds
        return head + body

    def open(self, packet: bytes) -> bytes:
        return packet[HEAD:]


def _halves(key: bytes) -> tuple[bytes, bytes]:
    return key[: KEY_SIZE // 2], key[KEY_SIZE // 2 :]


class TlsAuth:
    """Each packet is signed. direction: 0 or 1 as the file says, None: one key for both ways. digest: of DIGESTS."""

    wrapped = b""

    def __init__(self, key: bytes, direction: int | None, digest: str = "SHA1") -> None:
        first, second = (half[64:] for half in _halves(key))
        self._digest = DIGESTS[digest]
        size = hashlib.new(self._digest).digest_size
        out, back = (first, first) if direction is None else (first, second) if direction == 0 else (second, first)
        self._out, self._in, self._size, self._count = out[:size], back[:size], size, 0

    def seal(self, head: bytes, body: bytes, seconds: int) -> bytes:
        self._count += 1
        replay = REPLAY.pack(self._count, seconds)
        return head + self._sign(self._out, replay + head + body) + replay + body

    def open(self, packet: bytes) -> bytes:
        at = HEAD + self._size
        if len(packet) < at + REPLAY.size:
            raise WireError("signature", HEAD, "too short for one")
        replay, body = packet[at : at + REPLAY.size], packet[at + REPLAY.size :]
        if not hmac.compare_digest(self._sign(self._in, replay + packet[:HEAD] + body), packet[HEAD:at]):
            raise WireError("signature", HEAD, "it is of another key")
        return body

    def _sign(self, key: bytes, data: bytes) -> bytes:
        return hmac.new(key, data, self._digest).digest()


class TlsCrypt:
    """Each packet is encrypted and signed. wrapped: of tls-crypt-v2, for the server."""

    def __init__(self, key: bytes, role: Role = "client", wrapped: bytes = b"") -> None:
        first, second = _halves(key)
        mine, theirs = (second, first) if role == "client" else (first, second)
        self._out, self._in = (mine[:32], mine[64:96]), (theirs[:32], theirs[64:96])
        self.wrapped, self._count = wrapped, EARLY_START if wrapped else 0

    def seal(self, head: bytes, body: bytes, seconds: int) -> bytes:
        self._count += 1
        bound = head + REPLAY.pack(self._count, seconds)
        cipher, signer = self._out
        tag = hmac.new(signer, bound + body, "sha256").digest()
        return bound + tag + _counter(cipher, tag, body)

    def open(self, packet: bytes) -> bytes:
        at = HEAD + REPLAY.size
        if len(packet) < at + TAG:
            raise WireError("tag", at, "too short for one")
        tag, (cipher, signer) = packet[at : at + TAG], self._in
        body = _counter(cipher, tag, packet[at + TAG :])
        if not hmac.compare_digest(hmac.new(signer, packet[:at] + body, "sha256").digest(), tag):
            raise WireError("tag", at, "it is of another key")
        return body


def _counter(key: bytes, tag: bytes, data: bytes) -> bytes:
    worker = Cipher(AES(key), CTR(tag[:16])).encryptor()
    return worker.update(data) + worker.finalize()


# --- packets


@dataclass(frozen=True, slots=True)
class ControlPacket:
    """One packet of the control channel. remote: the other's session id, where it acknowledges. number: its message id;
    None: a bare acknowledgement.
    """

    opcode: int
    session: bytes
    acks: tuple[int, ...] = ()
    remote: bytes = b""
    number: int | None = None
    payload: bytes = b""
    key_id: int = 0

    @property
    def head(self) -> bytes:
        return bytes((self.opcode << 3 | self.key_id,)) + self.session

    @property
    def body(self) -> bytes:
        acks = bytes((len(self.acks),)) + b"".join(one.to_bytes(4, "big") for one in self.acks)
        number = self.number.to_bytes(4, "big") if self.number is not None else b""
        return acks + (self.remote if self.acks else b"") + number + self.payload


def parse_head(packet: bytes) -> tuple[int, int, bytes]:
    """Opcode, key id and session id of a control packet. Raises: WireError."""
    if len(packet) < HEAD:
        raise WireError("packet", 0, f"{len(packet)} bytes are no control packet")
    opcode, key_id = packet[0] >> 3, packet[0] & 7
    if opcode not in CONTROL_OPCODES:
        raise WireError("opcode", 0, f"{opcode} is none of the control channel")
    return opcode, key_id, packet[1:HEAD]


def parse_packet(packet: bytes, guard: Guard) -> ControlPacket:
    """One packet, opened. Raises: WireError."""
    opcode, key_id, session = parse_head(packet)
    body = guard.open(packet)
    count = body[0] if body else 0
    at = 1 + 4 * count
    if not body or count > ACKS or len(body) < at + (SESSION if count else 0):
        raise WireError("acknowledgements", HEAD, f"{count} of them do not fit")
    acks = tuple(int.from_bytes(body[here : here + 4], "big") for here in range(1, at, 4))
    remote = body[at : at + SESSION] if count else b""
    at += len(remote)
    if opcode == ACK:
        return ControlPacket(opcode, session, acks, remote, key_id=key_id)
    if len(body) < at + 4:
        raise WireError("message id", HEAD + at, "it is cut short")
    return ControlPacket(
        opcode, session, acks, remote, int.from_bytes(body[at : at + 4], "big"), body[at + 4 :], key_id
    )


def frame(packet: bytes) -> bytes:
    """A packet as it goes over TCP."""
    return len(packet).to_bytes(2, "big") + packet


def unframe(data: bytes) -> tuple[list[bytes], bytes]:
    """The whole packets in what came over TCP, and what is left. Raises: WireError: a length that none can have."""
    found = []
    while len(data) >= 2:
        size = int.from_bytes(data[:2], "big")
        if not HEAD <= size <= 65_000:
            raise WireError("length", 0, f"{size} bytes are no packet")
        if len(data) < 2 + size:
            break
        found.append(data[2 : 2 + size])
        data = data[2 + size :]
    return found, data


# --- the reliability layer


@dataclass
class Channel:
    """One end of a control channel: bytes of TLS go in and come out, in order and each once.

    session: its own id, 8 bytes by chance. seconds: the time since 1970, for the guards. remote: the other's id; empty:
    it has not answered yet. incoming: the bytes of TLS that have come. role: who opens.
    """

    guard: Guard
    session: bytes
    seconds: Callable[[], int]
    role: Role = "client"
    remote: bytes = b""
    incoming: bytearray = field(default_factory=bytearray)
    _sent: int = 0
    _unacknowledged: dict[int, ControlPacket] = field(default_factory=dict)
    _early: dict[int, ControlPacket] = field(default_factory=dict)
    _expected: int = 0
    _to_acknowledge: list[int] = field(default_factory=list)
    _wkc_wanted: bool = False

    @property
    def answered(self) -> bool:
        """Whether the other end has answered the opening."""
        return bool(self.remote)

    def opening(self) -> bytes:
        """The first packet of a client."""
        opcode = CLIENT_RESET_V3 if self.guard.wrapped else CLIENT_RESET
        return self._wire(self._next(opcode, b""))

    def _next(self, opcode: int, payload: bytes) -> ControlPacket:
        acks = tuple(self._to_acknowledge[:ACKS])
        del self._to_acknowledge[: len(acks)]
        made = ControlPacket(opcode, self.session, acks, self.remote, self._sent, payload)
        self._unacknowledged[self._sent] = made
        self._sent += 1
        return made

    def _wire(self, packet: ControlPacket) -> bytes:
        sealed = self.guard.seal(packet.head, packet.body, self.seconds())
        return sealed + (self.guard.wrapped if packet.opcode in (CLIENT_RESET_V3, CONTROL_WKC) else b"")

    def send(self, data: bytes) -> Iterator[bytes]:
        """Packets for bytes of TLS."""
        for at in range(0, len(data), CHUNK):
            opcode = CONTROL_WKC if self._wkc_wanted else CONTROL
            self._wkc_wanted = False
            yield self._wire(self._next(opcode, data[at : at + CHUNK]))

    def acknowledge(self) -> Iterator[bytes]:
        """Bare acknowledgements, for what nothing else has acknowledged."""
        while self._to_acknowledge and self.remote:
            acks = tuple(self._to_acknowledge[:ACKS])
            del self._to_acknowledge[: len(acks)]
            yield self._wire(ControlPacket(ACK, self.session, acks, self.remote))

    def again(self) -> Iterator[bytes]:
        """What the other end has not acknowledged yet, once more."""
        for packet in list(self._unacknowledged.values()):
            yield self._wire(packet)

    def receive(self, data: bytes) -> list[bytes]:
        """Take a packet in. Returns: what a server answers an opening with.

        Raises: WireError: it is not of this conversation; nothing has changed then.
        """
        packet = parse_packet(data, self.guard)
        if packet.acks and packet.remote != self.session:
            raise WireError("session", HEAD, "it answers another one")
        if self.remote and packet.session != self.remote:
            raise WireError("session", 1, "it is of another one")
        opens = (SERVER_RESET,) if self.role == "client" else (CLIENT_RESET, CLIENT_RESET_V3)
        if not self.remote:
            if packet.opcode not in opens or (self.role == "client" and 0 not in packet.acks):
                raise WireError("opcode", 0, f"{packet.opcode} does not open a conversation")
            self.remote = packet.session
        for one in packet.acks:
            self._unacknowledged.pop(one, None)
        if packet.number is None:
            return []
        if packet.number >= self._expected + WINDOW:
            raise WireError("message id", HEAD, f"{packet.number} is far ahead of {self._expected}")
        self._to_acknowledge.append(packet.number)
        if packet.number >= self._expected:
            self._early[packet.number] = packet
        out: list[bytes] = []
        while (due := self._early.pop(self._expected, None)) is not None:
            self._expected += 1
            if due.opcode in (CONTROL, CONTROL_WKC):
                self.incoming += due.payload
            elif due.opcode == SERVER_RESET:
                self._wkc_wanted = bool(self.guard.wrapped) and _wants_key(due.payload)
            elif due.opcode in opens:
                out.append(self._wire(self._next(SERVER_RESET, b"")))
        return out

    def take(self) -> bytes:
        """The bytes of TLS that have come since the last time."""
        data = bytes(self.incoming)
        self.incoming.clear()
        return data


def _wants_key(payload: bytes) -> bool:
    """Whether a server that keeps nothing asks for the wrapped key again (type, length and value, each 2 bytes)."""
    while len(payload) >= 4:
        kind, size = struct.unpack("!HH", payload[:4])
        value, payload = payload[4 : 4 + size], payload[4 + size :]
        if kind == EARLY_FLAGS and len(value) >= 2:
            return bool(int.from_bytes(value[:2], "big") & RESEND_WKC)
    return False
