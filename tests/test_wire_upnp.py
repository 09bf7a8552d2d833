"""SSDP, descriptions, SOAP, bodies of messages: the standards' own examples, what routers really send, damage."""

from __future__ import annotations

import re
from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import WireError
from hooper.gateways.igd import read_rule
from hooper.wire import head, ssdp, upnp
from hooper.wire.body import LIMIT, read_body

# UPnP Device Architecture 2.0, section 1.3.3, filled in as a router does
ANSWER = (
    b"HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age = 120\r\nDATE: Mon, 04 May 2026 09:00:00 GMT\r\nEXT:\r\n"
    b"LOCATION: http://10.44.7.1:45693/rootDesc.xml\r\nSERVER: works/1 UPnP/1.1 town/2\r\n"
    b"ST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\n"
    b"USN: uuid:73a9cb68::urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\n\r\n"
)
KIND = "urn:schemas-upnp-org:service:WANIPConnection:1"
DESCRIPTION = f"""<?xml version="1.0"?>
<root xmlns="urn:schemas-upnp-org:device-1-0"><URLBase>http://10.44.7.1:5000/</URLBase>
<device><manufacturer>Town  works</manufacturer><modelName>Box</modelName>
<deviceList><device><deviceList><device><serviceList><service>
<serviceType>{KIND}</serviceType><controlURL>ctl/IPConn</controlURL></service>
<service><serviceType>urn:schemas-upnp-org:service:WANPPPConnection:1</serviceType><controlURL>/ctl/PPP</controlURL>
</service></serviceList></device></deviceList></device></deviceList></device></root>""".encode()


def test_a_search_as_the_standard_has_it() -> None:
    sent = ssdp.serialize_search(ssdp.TARGETS[0], ssdp.GROUP, wait_s=1)
    assert sent == (
        b'M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: "ssdp:discover"\r\nMX: 1\r\n'
        b"ST: urn:schemas-upnp-org:device:InternetGatewayDevice:1\r\n\r\n"
    )
    assert b"MX" not in ssdp.serialize_search(
        ssdp.TARGETS[0], "10.44.7.1", wait_s=None
    )  # section 1.3.2: not to one device
    assert ssdp.parse_search(sent) == ssdp.TARGETS[0]


def test_answers_to_a_search() -> None:
    got = ssdp.parse_answer(ANSWER)
    assert got.location == "http://10.44.7.1:45693/rootDesc.xml"
    assert got.target.endswith("InternetGatewayDevice:1")
    odd = ANSWER.replace(b"\r\n", b"\n").replace(b"LOCATION: ", b"Location:").rstrip(b"\n")
    assert ssdp.parse_answer(odd).location == got.location
    made = ssdp.serialize_answer("http://10.44.7.1:1/", ssdp.TARGETS[0], "uuid:1", "town/1")
    assert ssdp.parse_answer(made) == ssdp.SearchAnswer(
        "http://10.44.7.1:1/", ssdp.TARGETS[0], f"uuid:1::{ssdp.TARGETS[0]}"
    )
    for damaged in (
        b"",
        b"NOTIFY * HTTP/1.1\r\n\r\n",
        ANSWER.replace(b"200", b"404"),
        ANSWER.replace(b"LOCATION", b"X"),
    ):
        with pytest.raises(WireError):
            ssdp.parse_answer(damaged)


def test_a_description_with_its_services() -> None:
    found = upnp.parse_description(DESCRIPTION, "http://10.44.7.1:45693/rootDesc.xml")
    assert found.name == "Town works Box"
    assert [service.control for service in found.services] == [
        "http://10.44.7.1:5000/ctl/IPConn", "http://10.44.7.1:5000/ctl/PPP"
    ]  # fmt: skip
    without = re.sub(b"<URLBase>.*</URLBase>", b"", DESCRIPTION)
    found = upnp.parse_description(without, "http://10.44.7.1:45693/deep/rootDesc.xml")
    assert found.services[0].control == "http://10.44.7.1:45693/deep/ctl/IPConn"


@pytest.mark.parametrize(
    "change",
    [
        lambda data: b"\xef\xbb\xbf\r\n" + data,
        lambda data: data + b"\0\0\r\n",
        lambda data: data.replace(b"Town  works", b"Town & works \xfe\xbf"),
        lambda data: data.replace(b'<?xml version="1.0"?>', b'<?xml version="1.0" encoding="no-such"?>'),
        lambda data: data.replace(b'xmlns="urn:schemas-upnp-org:device-1-0"', b'xmlns="urn:wrong"'),
        lambda data: data.replace(b"Box", b"B\x01ox"),
        lambda data: data.replace(b"Box", b"Box <of mine> & more"),
    ],
)
def test_damaged_descriptions_are_understood(change: object) -> None:
    data = change(DESCRIPTION)  # type: ignore[operator]
    assert len(upnp.parse_description(data, "http://10.44.7.1/").services) == 2


def test_what_would_load_or_swell_is_refused() -> None:
    for data in (
        b'<!DOCTYPE a [<!ENTITY b SYSTEM "file:///etc/hostname">]><a>&b;</a>',
        b'<!DOCTYPE a [<!ENTITY b "bbbb"><!ENTITY c "&b;&b;&b;">]><a>&c;</a>',
        b"<a><b></a>",
        b"",
        b"<" * 1000,
    ):
        with pytest.raises(WireError):
            upnp.parse_xml(data)


def test_actions_and_their_answers() -> None:
    asked = upnp.serialize_action(
        KIND, "AddPortMapping", [("NewRemoteHost", ""), ("NewPortMappingDescription", "a<b>&c")]
    )
    assert upnp.parse_action(asked) == ("AddPortMapping", {"NewRemoteHost": "", "NewPortMappingDescription": "a<b>&c"})
    answer = upnp.serialize_response(KIND, "GetExternalIPAddress", [("NewExternalIPAddress", "203.0.113.44")])
    assert upnp.parse_response(answer, "GetExternalIPAddress") == {"NewExternalIPAddress": "203.0.113.44"}
    assert upnp.parse_response(upnp.serialize_fault(718, "Conflict"), "AddPortMapping") == upnp.SoapFault(
        718, "Conflict"
    )
    assert upnp.parse_response(b"<Envelope><Body><Fault/></Body></Envelope>", "X") == upnp.SoapFault(
        0, "refused without a code"
    )
    with pytest.raises(WireError):
        upnp.parse_response(answer, "AddPortMapping")
    unescaped = answer.replace(b"<NewExternal", b"<Label>a <b</Label><NewExternal")
    got = upnp.parse_response(unescaped, "GetExternalIPAddress")
    assert isinstance(got, dict)
    assert got["NewExternalIPAddress"] == "203.0.113.44"


@given(st.text(), st.text())
def test_any_text_travels_whole(label: str, other: str) -> None:
    clean = upnp._NOT_XML.sub("", label).encode("utf-8", "replace").decode()
    asked = upnp.serialize_action(KIND, "X", [("A", clean)])
    assert upnp.parse_action(asked)[1]["A"].split() == clean.split()
    with suppress(WireError):
        upnp.parse_response(other.encode("utf-8", "replace"), "X")


@given(st.binary(max_size=300), st.integers(0, len(DESCRIPTION)), st.binary(max_size=6))
def test_damage_gives_a_value_or_a_wire_error(noise: bytes, cut: int, patch: bytes) -> None:
    cases = (noise, DESCRIPTION[:cut] + patch + DESCRIPTION[cut + len(patch) :], ANSWER[:cut] + patch)
    for data in cases:
        for parse in (ssdp.parse_answer, ssdp.parse_search, upnp.parse_xml, upnp.parse_action):
            with suppress(WireError):
                parse(data)
        with suppress(WireError):
            upnp.parse_description(data, "http://10.44.7.1/")


PARTS = ("Protocol", "ExternalPort", "InternalPort", "InternalClient", "LeaseDuration", "Enabled", "RemoteHost")


@given(st.dictionaries(st.sampled_from([f"New{part}" for part in PARTS]), st.text(max_size=12)))
def test_nonsense_in_a_table_is_no_rule_or_a_sound_one(got: dict[str, str]) -> None:
    rule = read_rule(got)
    assert rule is None or (rule.transport in ("tcp", "udp") and 0 <= rule.outside_port <= 65535 and rule.lease_s >= 0)


# --- bodies


def of(*fields: tuple[str, str], status: int = 200) -> head.Head:
    return head.Head("HTTP", (1, 1), fields, status=status)


def test_bodies_by_length_by_chunks_and_by_the_end() -> None:
    assert read_body(of(("content-length", "4")), b"abcdef", ended=False) == b"abcd"
    assert read_body(of(("content-length", "9")), b"abcd", ended=False) is None
    assert read_body(of(("content-length", "9")), b"abcd", ended=True) == b"abcd"
    assert read_body(of(("content-length", "many")), b"abcd", ended=False) is None
    assert read_body(of(), b"abcd", ended=True) == b"abcd"
    assert read_body(of(status=204), b"", ended=False) == b""
    # RFC 9112 section 7.1
    chunked = of(("transfer-encoding", "chunked"))
    whole = b"4\r\nWiki\r\n6 ;x=y\r\npedia \r\nE\r\nin \r\n\r\nchunks.\r\n0\r\n\r\n"
    assert read_body(chunked, whole, ended=False) == b"Wikipedia in \r\n\r\nchunks."
    assert read_body(chunked, whole[:-5], ended=False) is None
    assert read_body(chunked, whole[:20], ended=True) == b"Wikiped"
    for bad in (b"zz\r\n", b"-1\r\nabc", b"123456789\r\n"):
        with pytest.raises(WireError):
            read_body(chunked, bad, ended=False)
    with pytest.raises(WireError):
        read_body(of(), bytes(LIMIT + 1), ended=True)


@given(st.binary(max_size=200), st.booleans(), st.booleans())
def test_any_body_gives_bytes_or_a_wire_error(data: bytes, chunked: bool, ended: bool) -> None:
    given_head = of(("transfer-encoding", "chunked")) if chunked else of()
    with suppress(WireError):
        got = read_body(given_head, data, ended=ended)
        assert got is not None or not ended


@pytest.mark.parametrize(
    ("encoding", "name"),
    [
        ("gb2312", "机器"),
        ("shift_jis", "箱"),
        ("windows-1252", "Häuschen"),
        ("iso-8859-15", "Häuschen"),
        ("utf-7", "box"),
    ],
)
def test_names_in_the_encoding_that_the_description_names(encoding: str, name: str) -> None:
    start = f'<?xml version="1.0" encoding="{encoding}"?>'.encode()
    page = start + b"<root><device><modelName>" + name.encode(encoding) + b"</modelName></device></root>"
    assert upnp.parse_description(page, "http://10.44.7.1/d.xml").name == name


@pytest.mark.parametrize("encoding", ["no-such", "base64", "utf-16", "x" * 60])
def test_an_encoding_that_is_none_does_no_harm(encoding: str) -> None:
    page = DESCRIPTION.replace(b'"1.0"', f'"1.0" encoding="{encoding}"'.encode())
    assert upnp.parse_description(page, "http://10.44.7.1/d.xml").services
