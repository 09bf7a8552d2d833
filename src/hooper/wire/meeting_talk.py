"""How two ends of a WireGuard tunnel meet that have no public address: what they hand each other, and how they try.

All of it hangs on the pre-shared key that both ends have anyway: from that come, by HKDF (RFC 5869), the box at the
witness in which they leave notes, the key by which a note is sealed (RFC 8439), and the one by which they know each
other's tries (RFC 8489 section 9.1). A try is a STUN binding request from the tunnel's own port, as in RFC 8445.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any, Literal, NamedTuple

from hooper.addresses import parse_address
from hooper.errors import WireError
from hooper.wire import stun

BOX, SEAL, NONCE, TAG = 32, 32, 12, 16  # bytes
LIMIT = 1024  # bytes of a sealed note
MOST = 4  # addresses at which one end may be found
STALE_S = 3600.0  # older notes are not gone by; a clock may be off by less
DEPENDENCE = ("endpoint-independent", "address-dependent", "address-and-port-dependent")  # RFC 4787 sections 4.1 and 5
Spot = tuple[str, int]
Verdict = Literal["can", "cannot", "unknown"]


class MeetingKeys(NamedTuple):
    """What two ends share. box: where they leave notes. seal: of notes. tried: of tries. side: 0 or 1, one's own."""

    box: bytes
    seal: bytes
    tried: bytes
    side: int

    @classmethod
    def of(cls, shared: bytes, own: bytes, other: bytes) -> MeetingKeys:
        """shared: the pre-shared key of both ends. own, other: their public keys."""
        from cryptography.hazmat.primitives.hashes import SHA256
        from cryptography.hazmat.primitives.kdf.hkdf import HKDF

        first, second = sorted((own, other))
        made = HKDF(SHA256(), BOX + SEAL + 20, None, b"hooper meeting\0" + first + second).derive(shared)
        return cls(made[:BOX], made[BOX : BOX + SEAL], made[BOX + SEAL :], int(own > other))


class NatKind(NamedTuple):
    """A NAT in the words of RFC 4787; empty: not known. mapping "dependent": on what of the far end is not known."""

    mapping: str = ""
    filtering: str = ""

    @property
    def steady(self) -> bool:
        """Whether everybody finds the port at the same place."""
        return self.mapping == DEPENDENCE[0]

    def lets_in(self, far: NatKind) -> bool | None:
        """Whether it lets the other end in at the port that everybody was told of. None: not known."""
        if (self.steady and far.steady) or self.filtering == DEPENDENCE[0]:
            return True
        if not self.filtering:
            return None
        return self.steady and self.filtering == DEPENDENCE[1]

    def lets_back(self, far: NatKind) -> bool | None:
        """Whether it lets in what the other end answers, from whatever port of its. None: not known."""
        return True if far.steady else self.filtering != DEPENDENCE[2] if self.filtering else None


def can_meet(own: NatKind, other: NatKind) -> Verdict:
    """Whether two NATs can be opened to each other, before anybody tries: one end's packet gets to the other, and the
    answer back. Held against all kinds of both by a model.
    """
    if not own.mapping or not other.mapping:
        return "unknown"
    both_ways = [(there.lets_in(here), here.lets_back(there)) for here, there in ((own, other), (other, own))]
    if (True, True) in both_ways:
        return "can"
    return "cannot" if all(False in way for way in both_ways) else "unknown"


class Note(NamedTuple):
    """What one end hands to the other. at: seconds since 1970. spots: where it may be found, its outside address first.
    nat: in front of it. relay: whether it knows a way by a machine between both.
    """

    at: int
    spots: tuple[Spot, ...]
    nat: NatKind
    relay: bool = False

    def sealed(self, keys: MeetingKeys, nonce: bytes) -> bytes:
        """nonce: 12 bytes that were never used with these keys."""
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        fields = {"at": self.at, "spots": [*map(list, self.spots)], "nat": [*self.nat], "relay": self.relay}
        data = json.dumps(fields, separators=(",", ":")).encode()
        return nonce + ChaCha20Poly1305(keys.seal).encrypt(nonce, data, _bound(keys.box, keys.side))

    @classmethod
    def opened(cls, data: bytes, keys: MeetingKeys) -> Note:
        """The other end's note. Raises: WireError: it is not by the other end, or no note."""
        from cryptography.exceptions import InvalidTag
        from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305

        if not NONCE + TAG < len(data) <= LIMIT:
            raise WireError("note", 0, f"{len(data)} bytes")
        try:
            bound = _bound(keys.box, 1 - keys.side)
            text = ChaCha20Poly1305(keys.seal).decrypt(data[:NONCE], data[NONCE:], bound)
            fields = json.loads(text)
        except (InvalidTag, ValueError, RecursionError):
            raise WireError("note", 0, "not by the other end") from None
        return cls._read(fields)

    @classmethod
    def _read(cls, fields: Any) -> Note:
        found = fields if isinstance(fields, dict) else {}
        at, spots, nat = found.get("at"), found.get("spots"), found.get("nat")
        if not isinstance(at, int) or not isinstance(spots, list) or len(spots) > MOST:
            raise WireError("note", NONCE, "no note")
        if not isinstance(nat, list) or len(nat) != 2 or not {*map(str, nat)} <= {"", "dependent", *DEPENDENCE}:
            raise WireError("nat", NONCE, "no kind of NAT")
        return cls(at, tuple(map(_spot, spots)), NatKind(*map(str, nat)), found.get("relay") is True)


def _bound(box: bytes, side: int) -> bytes:
    return box + bytes((side,))


def _spot(value: Any) -> Spot:
    if isinstance(value, list) and len(value) == 2 and isinstance(value[0], str) and isinstance(value[1], int):
        try:
            address = parse_address(value[0])
        except ValueError:
            pass
        else:
            if 0 < value[1] < 65536 and not address.is_multicast and not address.is_unspecified:
                return str(address), int(value[1])
    raise WireError("spots", NONCE, "no address with a port")


# --- tries


class TryCame(NamedTuple):
    """A try of the other end that came. by: "direct" or "relay". answer: to one of one's own; else it is asked."""

    transaction: bytes
    by: str
    answer: bool


def tried(keys: MeetingKeys, transaction: bytes, by: str) -> bytes:
    """A try. by: "direct", or "relay" by way of a machine between both."""
    name = f"{by}:{keys.side}".encode()
    return stun.sealed(stun.Message(stun.BINDING_REQUEST, transaction, ((stun.USERNAME, name),)), keys.tried)


def answered(keys: MeetingKeys, came: TryCame, seen: Sequence[Any]) -> bytes:
    """The answer to one. seen: address and port that it came from."""
    name = (stun.USERNAME, f"{came.by}:{keys.side}".encode())
    mapped = stun.xor_mapped_address(seen[0], seen[1], came.transaction)
    return stun.sealed(stun.Message(stun.BINDING_SUCCESS, came.transaction, (name, mapped)), keys.tried)


def read_try(keys: MeetingKeys, data: bytes) -> TryCame | None:
    """What came, where it is by the other end; None: it is something else."""
    try:
        message = stun.opened(data, keys.tried)
    except WireError:
        return None
    if message is None or message.kind not in (stun.BINDING_REQUEST, stun.BINDING_SUCCESS):
        return None
    by, _, side = (message.get(stun.USERNAME) or b"").decode("ascii", "replace").partition(":")
    if side != str(1 - keys.side) or by not in ("direct", "relay"):
        return None
    return TryCame(message.transaction_id, by, message.kind == stun.BINDING_SUCCESS)
