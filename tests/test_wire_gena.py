"""Subscriptions to a router's events, by the examples of UPnP Device Architecture 2.0 section 4, and by properties."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.wire import gena, head

TOLD = (
    b"NOTIFY /club-router HTTP/1.1\r\nHOST: 10.44.7.105:40000\r\nCONTENT-TYPE: text/xml; charset=\"utf-8\"\r\n"
    b"NT: upnp:event\r\nNTS: upnp:propchange\r\nSID: uuid:0242ac\r\nSEQ: 7\r\nCONTENT-LENGTH: %d\r\n\r\n%s"
)  # fmt: skip
BODY = (
    b'<?xml version="1.0"?><e:propertyset xmlns:e="urn:schemas-upnp-org:event-1-0">'
    b"<e:property><ExternalIPAddress>203.0.113.45</ExternalIPAddress></e:property>"
    b"<e:property><PortMappingNumberOfEntries>3</PortMappingNumberOfEntries></e:property></e:propertyset>"
)
WHOLE = TOLD % (len(BODY), BODY)


def test_what_a_router_tells() -> None:
    told = gena.parse_told(WHOLE)
    assert (told.subscription, told.number, told.path) == ("uuid:0242ac", 7, "/club-router")
    assert told.variables == {"ExternalIPAddress": "203.0.113.45", "PortMappingNumberOfEntries": "3"}


def test_a_message_is_whole_at_its_last_byte() -> None:
    assert [gena.is_whole(WHOLE[:length]) for length in (10, 100, len(WHOLE) - 1, len(WHOLE))] == [
        False,
        False,
        False,
        True,
    ]


@pytest.mark.parametrize(
    ("answer", "expected"),
    [
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1\r\nTIMEOUT: Second-1800", ("uuid:1", 1800)),
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1\r\nTIMEOUT: Second-infinite", ("uuid:1", 1800)),
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1", ("uuid:1", 1800)),
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1\r\nTIMEOUT: Second-1", ("uuid:1", 60)),
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1\r\nTIMEOUT: Second-999999999", ("uuid:1", 86_400)),
        (b"HTTP/1.1 200 OK\r\nTIMEOUT: Second-1800", None),
        (b"HTTP/1.1 412 Precondition Failed\r\nSID: uuid:1", None),
        (b"HTTP/1.1 200 OK\r\nSID: " + b"x" * 300, None),
    ],
)
def test_what_is_granted(answer: bytes, expected: tuple[str, int] | None) -> None:
    if expected is None:
        with pytest.raises(WireError):
            gena.parse_granted(head.parse_head(answer))
    else:
        granted = gena.parse_granted(head.parse_head(answer))
        assert (granted.name, granted.lasts_s) == expected


def test_what_is_asked() -> None:
    fields = dict(gena.subscribe_fields("http://10.44.7.105:40000/x"))
    assert fields == {"CALLBACK": "<http://10.44.7.105:40000/x>", "NT": "upnp:event", "TIMEOUT": "Second-1800"}
    assert dict(gena.renew_fields("uuid:1")) == {"SID": "uuid:1", "TIMEOUT": "Second-1800"}


words = st.text(st.characters(min_codepoint=33, max_codepoint=0xD7FF), min_size=1, max_size=20)


@given(st.dictionaries(st.sampled_from(["ExternalIPAddress", "ConnectionStatus"]), words), st.integers(0, 2**32 - 1))
def test_what_is_told_is_read_again(variables: dict[str, str], number: int) -> None:
    told = gena.Told("uuid:1", number, {key: value.strip() for key, value in variables.items()}, "/x")
    data = gena.serialize_told(told, "10.44.7.105:40000")
    assert gena.is_whole(data)
    assert gena.parse_told(data) == told


@given(st.binary(max_size=400), st.integers(0, len(WHOLE)))
def test_damage_is_an_error_of_ours(noise: bytes, at: int) -> None:
    for data in (noise, WHOLE[:at] + noise + WHOLE[at:]):
        try:
            if gena.is_whole(data):
                gena.parse_told(data)
        except WireError:
            pass
