"""OpenVPN's control channel: packets that its own software made, each guard, loss and disorder, damage."""

from __future__ import annotations

import random
from collections.abc import Callable

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import openvpn
from hooper.wire.openvpn import Bare, Channel, Guard, TlsAuth, TlsCrypt

KEY = bytes(range(256))
# first packets of OpenVPN 2.6.14's client with KEY, and the same with other guards
CAPTURED: dict[str, tuple[Guard, str]] = {
    "bare": (Bare(), "383870e877fcb9fdb90000000000"),
    "auth-sha256": (
        TlsAuth(KEY, 0, "SHA256"),
        "389aa94fe70a696c41094a67b0085bb9de93e85be8051e4efe13c7433b580f43645090a1cb74bb060a000000016b07fb6d0000000000",
    ),
    "auth-both-ways": (
        TlsAuth(KEY, None, "SHA1"),
        "38836b15dd6fb43dc2d70a638b3c4a16238433f837d21a385d4f4428d5000000016b07fb6e0000000000",
    ),
    "auth-sha512": (
        TlsAuth(KEY, 0, "SHA512"),
        "385509f394372b0c516f389afabdc211998fe86c27bb898b2e932ff1b5a6d163c9ce1492ce221de040351bda765b4f9d36882518850b5db4"
        "9efda6f66847b5bf92095ccd4400ecbf02000000016b07fb6e0000000000",
    ),
    "crypt": (
        TlsCrypt(KEY, "server"),
        "38d4826a2598a907d7000000016b07fb6eb9069231dff2a4e6c9aa18db023b245dcd82613df5fcfb6145ff6b52ce704f08d004bf9a01",
    ),
}
OURS: dict[str, Guard] = {
    "bare": Bare(),
    "auth-sha256": TlsAuth(KEY, 1, "SHA256"),
    "auth-both-ways": TlsAuth(KEY, None, "SHA1"),
    "auth-sha512": TlsAuth(KEY, 1, "SHA512"),
    "crypt": TlsCrypt(KEY, "client"),
}
GUARDS: dict[str, tuple[Callable[[], Guard], Callable[[], Guard]]] = {
    "bare": (Bare, Bare),
    "auth": (lambda: TlsAuth(KEY, 1, "SHA256"), lambda: TlsAuth(KEY, 0, "SHA256")),
    "crypt": (lambda: TlsCrypt(KEY, "client"), lambda: TlsCrypt(KEY, "server")),
}


def a_pair(kind: str) -> tuple[Channel, Channel]:
    client, server = GUARDS[kind]
    return Channel(client(), b"client..", lambda: 7), Channel(server(), b"server..", lambda: 8, "server")


@pytest.mark.parametrize("kind", CAPTURED)
def test_the_first_packet_of_its_own_software_is_read_and_made(kind: str) -> None:
    guard, text = CAPTURED[kind]
    data = bytes.fromhex(text)
    packet = openvpn.parse_packet(data, guard)
    assert (packet.opcode, packet.number, packet.acks, packet.payload) == (openvpn.CLIENT_RESET, 0, (), b"")
    seconds = 0x6B07FB6D if kind == "auth-sha256" else 0x6B07FB6E
    again = Channel(OURS[kind], packet.session, lambda: seconds).opening()
    assert again == data
    if kind != "bare":
        for wrong in (TlsCrypt(KEY[::-1], "server"), TlsAuth(KEY[::-1], 0, "SHA256")):
            with pytest.raises(WireError):
                openvpn.parse_packet(data, wrong)


@pytest.mark.parametrize("kind", GUARDS)
@settings(max_examples=40)
@given(
    there=st.lists(st.binary(max_size=4000), max_size=4),
    back=st.lists(st.binary(max_size=4000), max_size=4),
    seed=st.integers(0, 2**32),
)
def test_all_that_is_said_arrives_once_and_in_order_however_the_way_treats_it(
    kind: str, there: list[bytes], back: list[bytes], seed: int
) -> None:
    """Packets are lost, doubled and turned round; what was not acknowledged is sent again."""
    chance = random.Random(seed)
    client, server = a_pair(kind)
    ways: dict[str, list[bytes]] = {"there": [client.opening()], "back": []}
    told: dict[str, bytes] = {"there": b"", "back": b""}
    said = False
    for turn in range(400):
        for way, to, own in (("there", server, "back"), ("back", client, "there")):
            waiting, ways[way] = ways[way], []
            if turn < 40:
                waiting = [one for one in waiting if chance.random() > 0.3 for _ in range(chance.randint(1, 2))]
                chance.shuffle(waiting)
            for packet in waiting:
                try:
                    ways[own] += to.receive(packet)
                except WireError:
                    continue  # what came before the opening, or too far ahead
            told[way] += to.take()
            ways[own] += to.acknowledge()
        if client.answered and not said:
            said = True
            ways["there"] += [packet for one in there for packet in client.send(one)]
            ways["back"] += [packet for one in back for packet in server.send(one)]
        done = said and told["there"] == b"".join(there) and told["back"] == b"".join(back)
        if done:
            break
        ways["there"] += client.again()
        ways["back"] += server.again()
    assert told == {"there": b"".join(there), "back": b"".join(back)}


def test_a_stranger_does_not_get_into_a_conversation() -> None:
    client, server = a_pair("bare")
    answer = server.receive(client.opening())[0]
    other = Channel(Bare(), b"other...", lambda: 7)
    other.opening()
    with pytest.raises(WireError, match="another one"):
        other.receive(answer)  # it acknowledges the other's session
    client.receive(answer)
    for packet in server.send(b"hello"):
        with pytest.raises(WireError):
            client.receive(packet[:1] + b"forged.." + packet[9:])
        client.receive(packet)
    assert client.take() == b"hello"
    with pytest.raises(WireError, match="ahead"):
        client.receive(openvpn.ControlPacket(openvpn.CONTROL, b"server..", number=999).head + b"\0\0\0\3\xe7")


def test_the_key_of_tls_crypt_v2_goes_behind_the_first_packet_and_again_where_it_is_asked_for() -> None:
    wrapped = bytes(288) + (290).to_bytes(2, "big")
    client = Channel(TlsCrypt(KEY, "client", wrapped), b"client..", lambda: 7)
    first = client.opening()
    assert first[0] >> 3 == openvpn.CLIENT_RESET_V3
    assert first.endswith(wrapped)
    assert int.from_bytes(first[9:13], "big") == openvpn.EARLY_START + 1
    server = TlsCrypt(KEY, "server")
    asks = openvpn.ControlPacket(openvpn.SERVER_RESET, b"server..", (0,), b"client..", 0, bytes.fromhex("000100020001"))
    client.receive(server.seal(asks.head, asks.body, 8))
    (second,) = client.send(b"hello")
    assert second[0] >> 3 == openvpn.CONTROL_WKC
    assert second.endswith(wrapped)
    (third,) = client.send(b"again")
    assert third[0] >> 3 == openvpn.CONTROL


def test_keys_are_read_as_its_files_have_them() -> None:
    text = openvpn.static_key_text(KEY)
    assert openvpn.parse_static_key("# 2048 bit OpenVPN static key\n" + text.replace("\n", "\r\n")) == KEY
    for broken, said in (
        (text.replace("0", "g"), "hexadecimal"),
        (text.replace("000102030405060708090a0b0c0d0e0f\n", ""), "bytes"),
        ("", "BEGIN"),
    ):
        with pytest.raises(WireError, match=said):
            openvpn.parse_static_key(broken)


@given(packets=st.lists(st.binary(min_size=9, max_size=300), max_size=5), cut=st.integers(1, 50))
def test_packets_over_tcp_come_apart_as_they_went_in(packets: list[bytes], cut: int) -> None:
    stream, rest, out = b"".join(map(openvpn.frame, packets)), b"", []
    for at in range(0, len(stream), cut):
        found, rest = openvpn.unframe(rest + stream[at : at + cut])
        out += found
    assert out == packets
    assert rest == b""


@given(st.data())
def test_damage_is_always_told(data: st.DataObject) -> None:
    """One bit of a guarded packet, wherever it is."""
    kind = data.draw(st.sampled_from(("auth", "crypt")))
    client, server = a_pair(kind)
    packet = bytearray(client.opening())
    at = data.draw(st.integers(0, len(packet) * 8 - 1))
    packet[at // 8] ^= 1 << at % 8
    with pytest.raises(WireError):
        server.receive(bytes(packet))
