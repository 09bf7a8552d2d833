"""WireGuard's handshake and transport: published constants, the paper's layout, damage, replay, properties."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from cryptography.hazmat.primitives.ciphers.aead import ChaCha20Poly1305
from fuzz.damage import damaged
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import ip4, wireguard
from hooper.wire.wireguard import (
    Initiator,
    Responder,
    SessionKeys,
    cookie_for,
    cookie_reply,
    mac2_fits,
    moment_of,
    public_of,
    tai64n,
)

NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
CLIENT, SERVER = bytes(range(1, 33)), bytes(range(101, 133))
KEYS = st.binary(min_size=32, max_size=32)


def shaken(psk: bytes = bytes(32)) -> tuple[SessionKeys, SessionKeys]:
    """Both ends of a handshake that went well."""
    initiator, responder = Initiator(CLIENT, public_of(SERVER), psk, index=7), Responder(SERVER)
    asked = responder.open(initiator.initiation(tai64n(NOW)))
    answer, server = responder.respond(asked, psk, index=9)
    client = initiator.read(answer)
    assert isinstance(client, SessionKeys)
    return client, server


def test_the_first_chaining_key_and_hash_are_the_published_ones() -> None:
    chain = wireguard._hash(wireguard.CONSTRUCTION)
    assert chain.hex() == "60e26daef327efc02ec335e2a025d2d016eb4206f87277f52d38d1988b78cd36"
    first = wireguard._hash(chain, wireguard.IDENTIFIER)
    assert first.hex() == "2211b361081ac566691243db458ad5322d9c6c662293e8b70ee19c65ba079ef3"


def test_hchacha20_is_that_of_its_draft(monkeypatch: pytest.MonkeyPatch) -> None:
    """draft-irtf-cfrg-xchacha-03 section 2.2.1."""
    made: list[bytes] = []
    monkeypatch.setattr(wireguard, "ChaCha20Poly1305", lambda key: made.append(key))
    wireguard._xaead(bytes(range(32)), bytes.fromhex("000000090000004a0000000031415927") + bytes(8))
    assert made[0].hex() == "82413b4227b27bfed30e42508a877d73a0f9e4d58a74a853c12ec41326d3ecdc"


def test_x25519_is_that_of_rfc_7748_section_6_1() -> None:
    private = bytes.fromhex("5dab087e624a8a4b79e17f8b83800ee66f3bb1292618b6fd1c2f8b27ff88e0eb")
    assert public_of(private).hex() == "de9edb7d7b7dc1b4d35b61c2ece435373f8343c85b78674dadfc7e146f882b4f"
    with pytest.raises(WireError):  # a point of small order agrees on nothing
        Initiator(private, bytes(32)).initiation(tai64n(NOW))


def test_the_messages_are_laid_out_as_the_paper_draws_them() -> None:
    """Section 5.4.2 and 5.4.3: offsets and sizes; the reserved bytes are zero, the indices little-endian."""
    initiator, responder = Initiator(CLIENT, public_of(SERVER), index=0x01020304), Responder(SERVER)
    first = initiator.initiation(tai64n(NOW))
    assert (len(first), first[:8].hex(), first[132:]) == (148, "0100000004030201", bytes(16))
    answer, _ = responder.respond(responder.open(first), index=0x0A0B0C0D)
    assert (len(answer), answer[:12].hex(), answer[76:]) == (92, "020000000d0c0b0a04030201", bytes(16))
    client, server = shaken()
    data = client.send(b"x" * 17)
    assert (len(data), data[:16].hex()) == (16 + 32 + 16, "0400000009000000" + "00" * 8)
    assert client.send(b"")[8:16].hex() == "0100000000000000"
    assert server.receive(data) == b"x" * 17 + bytes(15)


@given(KEYS, KEYS, KEYS, st.binary(max_size=200), st.binary(max_size=200))
def test_whatever_the_keys_both_ends_agree(client: bytes, server: bytes, psk: bytes, there: bytes, back: bytes) -> None:
    initiator, responder = Initiator(client, public_of(server), psk), Responder(server)
    asked = responder.open(initiator.initiation(tai64n(NOW)))
    assert asked.peer == public_of(client)
    assert asked.label == tai64n(NOW)
    answer, far = responder.respond(asked, psk)
    near = initiator.read(answer)
    assert isinstance(near, SessionKeys)
    assert far.receive(near.send(there)).rstrip(b"\0") == there.rstrip(b"\0")
    assert near.receive(far.send(back)).rstrip(b"\0") == back.rstrip(b"\0")


@given(st.data())
def test_damage_is_always_told(data: st.DataObject) -> None:
    """No message with a changed byte is taken for what it was, wherever the change is; the second mac is for others."""
    initiator, responder = Initiator(CLIENT, public_of(SERVER)), Responder(SERVER)
    first = initiator.initiation(tai64n(NOW))
    at, by = data.draw(st.integers(0, 131)), data.draw(st.integers(1, 255))
    with pytest.raises(WireError):
        responder.open(first[:at] + bytes((first[at] ^ by,)) + first[at + 1 :])
    answer, _ = responder.respond(responder.open(first))
    at = data.draw(st.integers(0, 75).filter(lambda n: not 4 <= n < 8))  # the index of its own is any number
    with pytest.raises(WireError):
        initiator.read(answer[:at] + bytes((answer[at] ^ by,)) + answer[at + 1 :])


@given(st.binary(max_size=160))
def test_what_strangers_send_is_no_handshake(data: bytes) -> None:
    initiator = Initiator(CLIENT, public_of(SERVER))
    initiator.initiation(tai64n(NOW))
    for read in (Responder(SERVER).open, initiator.read, shaken()[0].receive):
        with pytest.raises(WireError):
            read(data)


def test_damaged_messages_end_in_errors_of_ours() -> None:
    client, server = shaken()
    sent = client.send(b"film")
    for hurt in damaged((sent,), 300, 17):
        if hurt != sent:
            with pytest.raises(WireError):
                server.receive(hurt)
    assert server.receive(sent).rstrip(b"\0") == b"film"


def test_another_server_or_another_shared_key_is_not_this_one() -> None:
    initiator, other = Initiator(CLIENT, public_of(SERVER)), Responder(CLIENT)
    first = initiator.initiation(tai64n(NOW))
    with pytest.raises(WireError) as told:
        other.open(first)
    assert told.value.field == "mac1"
    responder = Responder(SERVER)
    answer, _ = responder.respond(responder.open(first), bytes(range(32)))
    with pytest.raises(WireError) as told:
        initiator.read(answer)
    assert told.value.field == "empty text"


def test_a_message_is_taken_once_and_out_of_order_within_the_window() -> None:
    client, server = shaken()
    sent = [client.send(bytes((number % 250 + 1,))) for number in range(2100)]
    assert server.receive(sent[5])[0] == 6
    assert server.receive(sent[3])[0] == 4
    for again in (sent[5], sent[3]):
        with pytest.raises(WireError) as told:
            server.receive(again)
        assert told.value.field == "counter"
    server.receive(sent[2099])
    assert server.receive(sent[60])[0] == 61  # 2,039 behind
    with pytest.raises(WireError):
        server.receive(sent[4])  # too far behind
    client.counter = 2**64 - 2**13 - 1
    with pytest.raises(WireError):
        client.send(b"")


@given(st.permutations(range(40)))
def test_each_of_many_comes_through_once_in_any_order(order: list[int]) -> None:
    client, server = shaken()
    sent = [client.send(bytes((number + 1,))) for number in range(40)]
    assert sorted(server.receive(sent[number])[0] for number in order) == list(range(1, 41))
    for data in sent:
        with pytest.raises(WireError):
            server.receive(data)


def test_a_busy_server_asks_for_its_cookie() -> None:
    """Section 5.4.7: only who has the server's key can make the reply, and only who sent the initiation can open it."""
    initiator, responder = Initiator(CLIENT, public_of(SERVER)), Responder(SERVER)
    first = initiator.initiation(tai64n(NOW))
    cookie = cookie_for(bytes(32), b"\x64\x48\x05\x09\xca\x6c")
    reply = cookie_reply(first, responder.public, cookie)
    assert (len(reply), reply[:4].hex()) == (64, "03000000")
    assert initiator.read(reply) == cookie
    second = initiator.initiation(tai64n(NOW, tai64n(NOW)), cookie)
    assert mac2_fits(second, cookie)
    assert not mac2_fits(first, cookie)
    for wrong in (cookie_reply(first, public_of(CLIENT), cookie), reply[:40] + b"\1" + reply[41:]):
        with pytest.raises(WireError):
            initiator.read(wrong)


def test_tai64n_is_the_published_label() -> None:
    """The label of 1970-01-01 is 2^62 and ten seconds, as every implementation has it."""
    assert tai64n(datetime(1970, 1, 1, tzinfo=UTC)).hex() == "400000000000000a00000000"
    assert moment_of(tai64n(NOW)) == NOW
    assert moment_of(b"short") is None
    assert moment_of(b"\xff" * 12) is None


@given(st.lists(st.integers(0, 2**32), min_size=2, max_size=20))
def test_labels_never_go_back(seconds: list[int]) -> None:
    last = b""
    moments = [datetime.fromtimestamp(number, UTC) for number in seconds]
    for moment in moments:
        label = tai64n(moment, last)
        assert label > last
        last = label
    assert (moment_of(last) or NOW) >= max(moments) - timedelta(microseconds=1)


# --- packets inside


def test_an_ipv4_packet_as_rfc_791_has_it() -> None:
    """The head of a real ping, with its sums."""
    seen = bytes.fromhex("4500001c0000000040010a29" + "0a582c0b" + "0a2c071e" + "08007a0f7df00700"[:16])
    packet = ip4.Packet.parse(seen[:10] + seen[10:])
    assert (str(packet.source), str(packet.to), packet.protocol) == ("10.88.44.11", "10.44.7.30", ip4.ICMP)
    made = packet.serialize()
    assert ip4.checksum(made[:20]) == 0  # a sum over itself is nothing (RFC 1071)
    reply = ip4.echo_reply(packet)
    assert reply is not None
    assert (reply.source, reply.to, reply.payload[0]) == (packet.to, packet.source, 0)
    assert ip4.checksum(reply.payload) == 0


@given(st.ip_addresses(v=4), st.ip_addresses(v=4), st.integers(0, 255), st.binary(max_size=300), st.binary(max_size=40))
def test_packets_round_trip_with_padding(source: object, to: object, protocol: int, body: bytes, pad: bytes) -> None:
    packet = ip4.Packet(source, to, protocol, body)  # type: ignore[arg-type]
    assert ip4.Packet.parse(packet.serialize() + pad) == packet


def test_the_cipher_is_that_of_rfc_8439() -> None:
    """Section 2.8.2, so that the library is the one that is meant."""
    key, nonce = bytes(range(0x80, 0xA0)), bytes.fromhex("070000004041424344454647")
    bound = bytes.fromhex("50515253c0c1c2c3c4c5c6c7")
    plain = b"Ladies and Gentlemen of the class of '99: If I could offer you only one tip for the future, "
    plain += b"sunscreen would be it."
    assert ChaCha20Poly1305(key).encrypt(nonce, plain, bound)[-16:].hex() == "1ae10b594f09e26a7e902ecbd0600691"
