"""The SSH key exchange: encodings of RFC 4251, packets of RFC 4253, a whole talk, and hostile bytes."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa, utils
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import sshkex
from hooper.wire.sshkex import HostKeyTalk, KexInit, Reader, mpint, parse_packet, serialize_packet, string, x25519

SERVER = "SSH-2.0-server"


@pytest.mark.parametrize(
    ("number", "encoded"),
    [
        (0, "00 00 00 00"),
        (0x9A378F9B2E332A7, "00 00 00 08 09 a3 78 f9 b2 e3 32 a7"),
        (0x80, "00 00 00 02 00 80"),
    ],
)
def test_numbers_as_rfc_4251_section_5_writes_them(number: int, encoded: str) -> None:
    assert mpint(number) == bytes.fromhex(encoded)


def test_x25519_as_in_rfc_7748_section_6_1() -> None:
    alice = os.urandom(32)
    bob = bytes.fromhex("5dab087e624a8a4b79e17f8b83800ee66f3bb1292618b6fd1c2f8b27ff88e0eb")
    (ours, share_a), (theirs, share_b) = x25519(alice), x25519(bob)
    assert theirs[4:].hex() == "de9edb7d7b7dc1b4d35b61c2ece435373f8343c85b78674dadfc7e146f882b4f"
    assert share_a(theirs[4:]) == share_b(ours[4:])


@given(st.binary(min_size=1, max_size=300), st.binary(max_size=20))
def test_packets_keep_their_payload(payload: bytes, more: bytes) -> None:
    packet = serialize_packet(payload)
    assert len(packet) % 8 == 0
    assert parse_packet(packet + more) == (payload, more)
    assert parse_packet(packet[:-1]) is None


def ecdsa_key(curve: ec.EllipticCurve, name: str) -> tuple[str, bytes, Any]:
    private = ec.generate_private_key(curve)
    point = private.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint)
    kind = f"ecdsa-sha2-{name}"
    kinds: dict[str, Any] = {"nistp256": hashes.SHA256(), "nistp384": hashes.SHA384(), "nistp521": hashes.SHA512()}

    def sign(data: bytes) -> bytes:
        return b"".join(map(mpint, utils.decode_dss_signature(private.sign(data, ec.ECDSA(kinds[name])))))

    return kind, string(kind.encode()) + string(name.encode()) + string(point), sign


def ed25519_key() -> tuple[str, bytes, Any]:
    private = ed25519.Ed25519PrivateKey.generate()
    key = string(b"ssh-ed25519") + string(private.public_key().public_bytes_raw())
    return "ssh-ed25519", key, private.sign


def rsa_key(kind: str, algorithm: Any) -> tuple[str, bytes, Any]:
    private = rsa.generate_private_key(65537, 2048)
    numbers = private.public_key().public_numbers()
    key = string(b"ssh-rsa") + mpint(numbers.e) + mpint(numbers.n)
    return kind, key, lambda data: private.sign(data, padding.PKCS1v15(), algorithm)


KEYS: dict[str, Callable[[], tuple[str, bytes, Any]]] = {
    "ed25519": ed25519_key,
    "p256": lambda: ecdsa_key(ec.SECP256R1(), "nistp256"),
    "p384": lambda: ecdsa_key(ec.SECP384R1(), "nistp384"),
    "p521": lambda: ecdsa_key(ec.SECP521R1(), "nistp521"),
    "rsa-512": lambda: rsa_key("rsa-sha2-512", hashes.SHA512()),
    "rsa-1": lambda: rsa_key("ssh-rsa", hashes.SHA1()),
}


def talk_with(
    kind: str, key: bytes, sign: Any, method: str = "curve25519-sha256", *, signed_as: str | None = None
) -> HostKeyTalk:
    """A whole key exchange with a server that holds a key."""
    talk = HostKeyTalk("SSH-2.0-hooper", SERVER, os.urandom)
    client_init = parse_packet(talk.start())
    assert client_init is not None
    init = KexInit(bytes(16), (method,), (kind,)).serialize()
    asked = parse_packet(talk.receive(serialize_packet(bytes([sshkex.IGNORE]) + string(b"x")) + serialize_packet(init)))
    assert asked is not None
    theirs = Reader(asked[0], 1).string("client's value")
    value, share = sshkex._client_value(method, os.urandom)
    sent = string(theirs) if not method.startswith("diffie") else mpint(int.from_bytes(theirs, "big"))
    parts = (b"SSH-2.0-hooper", SERVER.encode(), client_init[0], init, key, sent, value)
    signature = string((signed_as or kind).encode()) + string(sign(sshkex.exchange_hash(method, parts, share(theirs))))
    talk.receive(serialize_packet(bytes([sshkex.REPLY]) + string(key) + value + string(signature)))
    return talk


@pytest.mark.parametrize("name", KEYS)
def test_each_kind_of_key_is_proven(name: str) -> None:
    kind, key, sign = KEYS[name]()
    talk = talk_with(kind, key, sign)
    assert talk.host_key is not None
    assert talk.host_key.blob == key
    assert talk.host_key.fingerprint.startswith("sha256:")


@pytest.mark.parametrize("method", list(sshkex._HASHES))
def test_each_method_of_exchange(method: str) -> None:
    assert talk_with(*ed25519_key(), method).host_key is not None


def test_a_key_without_its_private_half_proves_nothing() -> None:
    kind, key, _ = ed25519_key()
    _, _, other = ed25519_key()
    with pytest.raises(WireError, match="does not fit"):
        talk_with(kind, key, other)
    with pytest.raises(WireError, match="agreed on"):
        talk_with(kind, key, other, signed_as="ssh-rsa")


@given(st.binary(max_size=200))
def test_hostile_bytes_end_in_a_wire_error_or_nothing(data: bytes) -> None:
    for payload in (data, bytes([sshkex.KEXINIT]) + data, bytes([sshkex.REPLY]) + data):
        talk = HostKeyTalk("SSH-2.0-hooper", SERVER, os.urandom)
        talk.start()
        try:
            talk.receive(serialize_packet(payload))
            talk.receive(data)
        except WireError:
            pass
        assert talk.host_key is None


def test_weak_values_are_refused() -> None:
    _, share = x25519(os.urandom(32))
    with pytest.raises(WireError):
        share(bytes(32))  # RFC 8731 section 3: an all-zero secret
    _, share = sshkex._client_value("diffie-hellman-group14-sha256", os.urandom)
    for value in (b"", b"\1", sshkex._GROUP14.to_bytes(257, "big")):
        with pytest.raises(WireError):
            share(value)
