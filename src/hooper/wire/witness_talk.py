"""The messages between a site and its witness, as docs/witness-protocol.md has them.

A message is its length in bytes (16 bits, network order) and that many bytes of JSON, one object. The witness speaks
first; the site asks once for each connection, and signs what it asks (Ed25519, RFC 8032), together with the key that
the witness has shown in TLS 1.3 and the number that it has just made up: so nothing can be asked again by who saw it.
No message has an address to look at: there is only the one from which the site comes.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import re
import struct
import zlib
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from hooper.errors import WireError

VERSIONS = (1,)  # that are spoken here, the newest first
LENGTH = struct.Struct("!H")
LIMIT = 16 * 1024  # bytes of one message
NONCE, KEY, SIGNATURE, PIN, SECRET = 32, 32, 64, 32, 16  # bytes
PORT = 7443
ASKED, TOLD = b"hooper witness ask\0", b"hooper witness time\0"  # what is signed begins so
DEEDS = ("join", "who", "beat", "open", "meet", "leave")
BOX, NOTE, WAIT_S = 32, 1024, 30  # bytes of a box and of a note, seconds of waiting
TRANSPORTS = ("tcp", "udp")
REFUSALS = ("not-known", "not-invited", "too-much", "not-understood", "no-common-version", "busy")


def serialize(message: Mapping[str, Any]) -> bytes:
    """Raises: ValueError: longer than a message may be."""
    data = json.dumps(message, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()
    if len(data) > LIMIT:
        raise ValueError(f"{len(data)} bytes are more than a message has")
    return LENGTH.pack(len(data)) + data


def length_of(first: bytes) -> int:
    """How long a message is, by its first two bytes. Raises: WireError: longer than it may be, or empty."""
    (length,) = LENGTH.unpack(first)
    if not 2 <= length <= LIMIT:
        raise WireError("length", 0, f"{length} bytes")
    return int(length)


def parse(data: bytes) -> dict[str, Any]:
    """The bytes behind a length. Raises: WireError: they are no JSON object."""
    try:
        found = json.loads(data)
    except (ValueError, RecursionError):
        raise WireError("message", LENGTH.size, "no JSON") from None
    if not isinstance(found, dict):
        raise WireError("message", LENGTH.size, "no JSON object")
    return found


def text_of(message: Mapping[str, Any], key: str, most: int) -> str:
    """A text of a message. Raises: WireError: none, or longer than that."""
    value = message.get(key)
    if not isinstance(value, str) or len(value) > most:
        raise WireError(key, 0, "no text, or too long a one")
    return value


def bytes_of(message: Mapping[str, Any], key: str, size: int) -> bytes:
    """So many bytes, in base64. Raises: WireError."""
    try:
        data = base64.b64decode(text_of(message, key, 2 * size), validate=True)
    except (binascii.Error, ValueError):
        raise WireError(key, 0, "no base64") from None
    if len(data) != size:
        raise WireError(key, 0, f"{len(data)} bytes in the place of {size}")
    return data


def in_base64(data: bytes) -> str:
    return base64.b64encode(data).decode()


class Hello(NamedTuple):
    """What the witness says first. versions: that it speaks. nonce: made up for this connection. now: RFC 3339."""

    versions: tuple[int, ...]
    nonce: bytes
    now: str

    def serialize(self) -> bytes:
        return serialize({"witness": list(self.versions), "nonce": in_base64(self.nonce), "now": self.now})

    @classmethod
    def parse(cls, data: bytes) -> Hello:
        """Raises: WireError."""
        message = parse(data)
        versions = message.get("witness")
        if not isinstance(versions, list) or not 1 <= len(versions) <= 32:
            raise WireError("witness", 0, "no list of versions")
        if not all(isinstance(one, int) and not isinstance(one, bool) and 0 < one < 1000 for one in versions):
            raise WireError("witness", 0, "no version")
        return cls(tuple(versions), bytes_of(message, "nonce", NONCE), text_of(message, "now", 40))

    def version(self, spoken: Collection[int] = VERSIONS) -> int | None:
        """The newest that both speak; None: there is none."""
        return max((one for one in self.versions if one in spoken), default=None)


@dataclass(frozen=True, slots=True)
class Ask:
    """What a site asks. key: its public one. sign: over what `signed` gives. body: JSON, as it was signed."""

    version: int
    key: bytes
    sign: bytes
    body: str

    def serialize(self) -> bytes:
        fields = {"version": self.version, "key": in_base64(self.key), "sign": in_base64(self.sign), "body": self.body}
        return serialize(fields)

    @classmethod
    def parse(cls, data: bytes) -> Ask:
        """Raises: WireError."""
        message = parse(data)
        version = message.get("version")
        if not isinstance(version, int) or isinstance(version, bool):
            raise WireError("version", 0, "no number")
        return cls(
            version,
            bytes_of(message, "key", KEY),
            bytes_of(message, "sign", SIGNATURE),
            text_of(message, "body", LIMIT),
        )

    def asked(self) -> dict[str, Any]:
        """What stands in the body, as far as it has a deed. Raises: WireError."""
        body = parse(self.body.encode())
        if body.get("do") not in DEEDS:
            raise WireError("do", 0, "no deed that is known")
        return body


def signed(pin: bytes, nonce: bytes, body: str) -> bytes:
    """What a site signs. pin: of the witness. nonce: from its hello."""
    return ASKED + pin + nonce + hashlib.sha256(body.encode()).digest()


def signed_time(nonce: bytes, now: str) -> bytes:
    """What the witness signs when it tells the time. nonce: the site's own. now: RFC 3339."""
    return TOLD + nonce + now.encode()


class PortAsked(NamedTuple):
    """A port of the site that is to be connected from the witness. transport: tcp or udp."""

    transport: str
    port: int

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> PortAsked:
        """Raises: WireError."""
        transport, port = body.get("transport"), body.get("port")
        if transport not in TRANSPORTS or not isinstance(port, int) or isinstance(port, bool) or not 0 < port < 65536:
            raise WireError("port", 0, "no transport or port")
        return cls(str(transport), port)


class MeetAsked(NamedTuple):
    """A note for who comes to the same box from its other side. box: 32 bytes. side: 0 or 1. sealed: the note, which
    the witness cannot read. wait: for the other's, in seconds.
    """

    box: bytes
    side: int
    sealed: bytes
    wait: int

    def body(self) -> dict[str, Any]:
        sealed = in_base64(self.sealed)
        return {"do": "meet", "box": in_base64(self.box), "side": self.side, "sealed": sealed, "wait": self.wait}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> MeetAsked:
        """Raises: WireError."""
        side, wait = body.get("side"), body.get("wait")
        if side not in (0, 1) or isinstance(side, bool):
            raise WireError("side", 0, "0 or 1")
        if not isinstance(wait, int) or isinstance(wait, bool) or not 0 <= wait <= WAIT_S:
            raise WireError("wait", 0, f"up to {WAIT_S} seconds")
        return cls(bytes_of(body, "box", BOX), side, sealed_of(body), wait)


def sealed_of(message: Mapping[str, Any]) -> bytes:
    """A sealed note; empty: none. Raises: WireError."""
    try:
        data = base64.b64decode(text_of(message, "sealed", 2 * NOTE), validate=True)
    except (binascii.Error, ValueError):
        raise WireError("sealed", 0, "no base64") from None
    if len(data) > NOTE:
        raise WireError("sealed", 0, f"{len(data)} bytes are more than a note has")
    return data


class Watched(NamedTuple):
    """A port that the witness looks at while the site is silent. speaks: as the site file has it. name: to ask for."""

    service: str
    transport: str
    port: int
    speaks: str
    name: str


class Beat(NamedTuple):
    """What a site says when it says that it is there.

    nonce: for the time. agreed_s: silent for longer, people are told. watch: what is looked at then. names: that are to
    lead to it. ends: by certificate, the day on which it ends, as YYYY-MM-DD.
    """

    nonce: bytes
    agreed_s: int
    watch: tuple[Watched, ...] = ()
    names: tuple[str, ...] = ()
    ends: tuple[tuple[str, str], ...] = ()

    def body(self) -> dict[str, Any]:
        lists = {"watch": [*map(list, self.watch)], "names": [*self.names], "ends": [*map(list, self.ends)]}
        return {"do": "beat", "nonce": in_base64(self.nonce), "agreed": self.agreed_s, **lists}

    @classmethod
    def of(cls, body: Mapping[str, Any]) -> Beat:
        """Raises: WireError."""
        agreed = body.get("agreed")
        if not isinstance(agreed, int) or isinstance(agreed, bool) or not 60 <= agreed <= 7 * 86_400:
            raise WireError("agreed", 0, "from a minute to a week")
        rows, names, ends = (_listed(body, key) for key in ("watch", "names", "ends"))
        watch: list[Watched] = []
        for row in rows:
            texts = row if isinstance(row, list) and len(row) == 5 else []
            if not texts or not all(isinstance(one, str) and len(one) < 260 for one in (*texts[:2], *texts[3:])):
                raise WireError("watch", 0, "no row of it")
            opening = PortAsked.of({"transport": row[1], "port": row[2]})
            watch.append(Watched(row[0], opening.transport, opening.port, row[3], row[4]))
        if not all(isinstance(one, str) and re.fullmatch(r"[A-Za-z0-9._-]{1,253}", one) for one in names):
            raise WireError("names", 0, "no DNS name")
        pairs = [
            one for one in ends if isinstance(one, list) and len(one) == 2 and all(isinstance(t, str) for t in one)
        ]
        if len(pairs) != len(ends) or not all(re.fullmatch(r"\d{4}-\d\d-\d\d", day) for _, day in pairs):
            raise WireError("ends", 0, "no day")
        return cls(
            bytes_of(body, "nonce", NONCE),
            agreed,
            tuple(watch),
            tuple(names),
            tuple((key[:64], day) for key, day in pairs),
        )


MOST = 32  # rows of each list


def _listed(body: Mapping[str, Any], key: str) -> list[Any]:
    rows = body.get(key, [])
    if not isinstance(rows, list) or len(rows) > MOST:
        raise WireError(key, 0, "no list, or too long a one")
    return rows


# --- invitations


class Invitation(NamedTuple):
    """host, port: where the witness is found. pin: SHA-256 of the key that it shows. secret: good once."""

    host: str
    port: int
    pin: bytes
    secret: bytes

    def code(self) -> str:
        """As it is handed over: HOST:PORT/ and letters, of which the last seven are a check."""
        data = self.pin + self.secret
        data += zlib.crc32(f"{self.host}:{self.port}".encode() + data).to_bytes(4, "big")
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{host}:{self.port}/{base64.b32encode(data).decode().rstrip('=')}"

    @classmethod
    def read(cls, text: str) -> Invitation:
        """Raises: ValueError: it is none, or was not copied whole."""
        found = re.fullmatch(r"\s*(?:\[([0-9a-fA-F:]+)\]|([A-Za-z0-9.-]{1,253})):(\d{1,5})/([A-Za-z2-7\s]+)", text)
        if found is None or not 0 < int(found[3]) < 65536:
            raise ValueError("no invitation: HOST:PORT/LETTERS")
        letters = "".join(found[4].split()).upper()
        try:
            data = base64.b32decode(letters + "=" * (-len(letters) % 8))
        except binascii.Error:
            raise ValueError("not copied whole") from None
        host, port = found[1] or found[2], int(found[3])
        whole, check = data[: PIN + SECRET], data[PIN + SECRET :]
        if (
            base64.b32encode(data).decode().rstrip("=") != letters
            or len(data) != PIN + SECRET + 4
            or zlib.crc32(f"{host}:{port}".encode() + whole).to_bytes(4, "big") != check
        ):
            raise ValueError("not copied whole")
        return cls(host, port, whole[:PIN], whole[PIN:])
