"""The first message of IKE and its answers, laid out as RFC 7296 and RFC 2408 draw them."""

from __future__ import annotations

import struct

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import ike

SPI, THEIRS = b"initiatr", b"respondr"
# answers of a daemon from Debian to offers that it does not take: its IKE_SA_INIT response, and its notification
NO_PROPOSAL_2 = SPI + bytes(8) + bytes.fromhex("292022200000000000000024000000080000000e")
NO_PROPOSAL_1 = SPI + THEIRS + bytes.fromhex("0b10050012345678000000280000000c000000010100000e")


def test_an_offer_of_version_2_is_laid_out_as_rfc_7296_draws_it() -> None:
    data = ike.sa_init(SPI, bytes(32), bytes(range(32)))
    spi, other, first, version, exchange, flags, number, length = struct.unpack_from("!8s8sBBBBII", data)
    assert (spi, other, first, version, exchange, flags, number) == (SPI, bytes(8), 33, 0x20, 34, 0x08, 0)
    assert length == len(data)
    kinds, at, kind = [], 28, first
    while kind:
        following, _, size = struct.unpack_from("!BBH", data, at)
        kinds.append((kind, size))
        kind, at = following, at + size
    assert at == len(data)
    assert kinds == [(33, 4 + 8 + 4 * 8), (34, 8 + 32), (40, 4 + 32)]  # SA, KE, nonce
    assert data[32:40] == bytes.fromhex("0000002801010004")  # the last proposal, number 1, IKE, no SPI, 4 transforms
    assert int.from_bytes(data[46:48], "big") >= 1024  # a cipher for private use: nobody takes it


def test_an_offer_of_version_1_is_laid_out_as_rfc_2408_draws_it() -> None:
    data = ike.main_mode(SPI)
    assert data[:16] == SPI + bytes(8)
    assert data[16:20] == bytes((1, 0x10, 2, 0))  # an SA, version 1.0, main mode, nothing encrypted
    assert int.from_bytes(data[24:28], "big") == len(data)
    assert data[28:40] == bytes.fromhex("000000340000000100000001")  # IPsec, by identity only
    assert data[40:48] == bytes.fromhex("0000002801010001")


@pytest.mark.parametrize(
    ("data", "marked", "words"),
    [
        (NO_PROPOSAL_2, False, "IKEv2, no proposal chosen"),
        (ike.MARKER + NO_PROPOSAL_2, True, "IKEv2, no proposal chosen"),
        (NO_PROPOSAL_1, False, "IKEv1, no proposal chosen"),
        (NO_PROPOSAL_2[:-2] + b"\x40\x06", False, "IKEv2, a cookie is wanted"),
        (NO_PROPOSAL_2[:-2] + b"\x40\x04", False, "IKEv2"),  # a status that says nothing against it
        (NO_PROPOSAL_2[:-2] + b"\0\x05", False, "IKEv2, another version wanted"),
    ],
)
def test_any_well_formed_answer_counts(data: bytes, marked: bool, words: str) -> None:
    assert ike.read_answer(data, SPI, marked=marked).words == words


@pytest.mark.parametrize(
    ("data", "field"),
    [
        (ike.sa_init(SPI, bytes(32), bytes(32)), "flags"),  # what was sent, come back
        (ike.main_mode(SPI), "responder's cookie"),
        (THEIRS + NO_PROPOSAL_2[8:], "SPI"),
        (NO_PROPOSAL_2 + b"\0", "length"),
        (NO_PROPOSAL_2[:20], "header"),
        (NO_PROPOSAL_2[:28] + b"\x29\0\0\x08\0\0\0\x0e", "payload"),
        (NO_PROPOSAL_2[:17] + b"\x30" + NO_PROPOSAL_2[18:], "exchange"),
        (ike.MARKER + NO_PROPOSAL_2, "SPI"),
    ],
)
def test_what_is_no_answer_is_told(data: bytes, field: str) -> None:
    with pytest.raises(WireError) as caught:
        ike.read_answer(data, SPI, marked=False)
    assert caught.value.field == field


@given(st.binary(max_size=200))
def test_what_strangers_send_is_no_answer(data: bytes) -> None:
    for marked in (False, True):
        with pytest.raises(WireError):
            ike.read_answer(data, SPI, marked=marked)
