from __future__ import annotations

from ipaddress import IPv4Address, ip_address

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.addresses import classify, has_leading_zeros, parse_address, plain_digits


@pytest.mark.parametrize(
    ("text", "key", "reachable"),
    [
        ("10.44.7.1", "private", False),
        ("172.31.255.255", "private", False),
        ("172.32.0.0", "public", True),
        ("100.64.0.0", "carrier", False),
        ("100.127.255.255", "carrier", False),
        ("100.128.0.0", "public", True),
        ("192.0.0.2", "dual-stack-lite", False),
        ("192.0.0.9", "protocol", False),
        ("203.0.113.44", "documentation", True),
        ("0.0.0.0", "unspecified", False),
        ("255.255.255.255", "broadcast", False),
        ("2001:db8::1", "documentation", True),
        ("fd00::1", "private", False),
        ("fe80::1", "link-local", False),
        ("2a00::1", "public", True),
        ("::ffff:10.0.0.1", "ipv4-mapped", False),
        ("4000::1", "reserved", False),
    ],
)
def test_each_block_has_its_class(text: str, key: str, reachable: bool) -> None:
    found = classify(ip_address(text))
    assert (found.key, found.reachable) == (key, reachable)


def test_leading_zeros_are_decimal_and_never_octal() -> None:
    assert parse_address("010.044.007.022") == IPv4Address("10.44.7.22")
    assert plain_digits("010.044.007.001/24") == "10.44.7.1/24"
    assert has_leading_zeros("010.044.007.022")
    assert not has_leading_zeros("10.0.0.20")
    assert not has_leading_zeros("10.20.30.0")


@given(st.integers(0, 2**32 - 1))
def test_padding_changes_nothing(number: int) -> None:
    address = IPv4Address(number)
    padded = ".".join(part.zfill(3) for part in str(address).split("."))
    assert parse_address(padded) == address


@pytest.mark.parametrize("text", ["", "10.0.0", "10.0.0.256", "0x0a.0.0.1", "10.0.0.1.5", "१०.०.०.१", "00000010.0.0.1"])
def test_what_is_no_address_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match=r"address|Address|Octet|permitted|octets"):
        parse_address(text)
