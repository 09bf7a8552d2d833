"""The decoders, each with input that it reads, to make damaged input of."""

from __future__ import annotations

import base64
import struct
from collections.abc import Callable
from dataclasses import dataclass, replace
from ipaddress import IPv4Address, IPv4Network, IPv6Address
from typing import Any

from hooper.errors import MachineError, WireError
from hooper.net import macos, surroundings, windows
from hooper.tunnels.seen import read_dump, read_status
from hooper.wire import (
    ftp,
    gena,
    head,
    icmp,
    ike,
    ip4,
    mdns,
    natpmp,
    openvpn,
    ovpnfile,
    pcp,
    recognise,
    rfb,
    rtnetlink,
    smb2,
    socks5,
    ssdp,
    ssh,
    sshkex,
    stun,
    upnp,
    wgfile,
    wireguard,
    x224,
)
from hooper.wire import lab_link as town
from hooper.wire import stand_in as standin
from hooper.wire.body import read_body

TRANSACTION, NONCE = bytes(range(12)), bytes(range(100, 112))
KIND = "urn:schemas-upnp-org:service:WANIPConnection:1"
OUTSIDE, INSIDE = IPv4Address("203.0.113.44"), IPv4Address("10.44.7.30")


@dataclass(frozen=True)
class Target:
    """decode: reads one input. seeds: input that it reads."""

    decode: Callable[[bytes], Any]
    seeds: tuple[bytes, ...]
    allowed: tuple[type[Exception], ...] = (WireError,)


def outcome(target: Target, data: bytes) -> bool:
    """Whether `data` gave a value; else the codec's own error. Raises: whatever else came of it: a fault."""
    try:
        target.decode(data)
    except target.allowed:
        return False
    return True


def _stun(data: bytes) -> Any:
    message = stun.Message.parse(data)
    read = (
        message.mapped_address,
        message.other_address,
        message.origin,
        message.error,
        message.wished_change,
        message.serialize,
    )
    return [one() for one in read]


def _stun_seeds() -> tuple[bytes, ...]:
    made = [
        (
            stun.xor_mapped_address(address, 51820, TRANSACTION),
            stun.plain_address(stun.OTHER_ADDRESS, address, 3479),
            stun.plain_address(stun.RESPONSE_ORIGIN, address, 3478),
            (stun.SOFTWARE, b"town"),
            (stun.FINGERPRINT, b""),
        )
        for address in (OUTSIDE, IPv6Address("2001:db8:44::1"))
    ]
    old = (stun.plain_address(stun.MAPPED_ADDRESS, OUTSIDE, 1), stun.plain_address(stun.CHANGED_ADDRESS, OUTSIDE, 2))
    plain = [attributes[:-1] for attributes in made]  # without the fingerprint that any damage breaks
    asked = stun.Message(stun.BINDING_REQUEST, TRANSACTION, (stun.change_request(address=True, port=False),))
    refused = stun.Message(stun.BINDING_ERROR, TRANSACTION, (stun.refusal(420, "Unknown Attribute"),))
    answers = [stun.Message(stun.BINDING_SUCCESS, TRANSACTION, attributes) for attributes in (*made, *plain, old)]
    return tuple(one.serialize() for one in (asked, refused, *answers))


def _pcp_request(data: bytes) -> Any:
    got = pcp.PcpRequest.parse(data)
    return got.serialize(), _options(got.options)


def _pcp_response(data: bytes) -> Any:
    got = pcp.PcpResponse.parse(data)
    return got.serialize(), _options(got.options)


def _options(options: tuple[pcp.Option, ...]) -> Any:
    """Each option by its own reader."""
    readers = {pcp.THIRD_PARTY: pcp.Option.third_party, pcp.FILTER: pcp.Option.filter}
    return [readers[one.code](one) for one in options if one.code in readers]


_MAPPING = pcp.Mapping(NONCE, 6, 443, 443, OUTSIDE)
_OPTIONS = (
    pcp.third_party(INSIDE),
    pcp.Option(pcp.PREFER_FAILURE),
    pcp.source_filter(IPv4Network("198.51.100.0/24"), 0),
    pcp.source_filter(None),
    pcp.Option(200, b"abcde"),
)
_DESCRIPTION = f"""<?xml version="1.0"?>
<root xmlns="urn:schemas-upnp-org:device-1-0"><URLBase>http://10.44.7.1:5000/</URLBase><device>
<manufacturer>Town &amp; works</manufacturer><modelName>Box</modelName><deviceList><device><serviceList><service>
<serviceType>{KIND}</serviceType><controlURL>ctl/IPConn</controlURL></service></serviceList></device></deviceList>
</device></root>""".encode()
_LATIN = _DESCRIPTION.replace(b"?>", b' encoding="latin-1"?>', 1)
_ANSWER = upnp.serialize_response(KIND, "GetExternalIPAddress", (("NewExternalIPAddress", str(OUTSIDE)),))
_PAGE = (
    b"HTTP/1.1 200 OK\r\nServer: works\r\nno colon\r\nX : y\r\nTransfer-Encoding: chunked\r\n\r\n"
    b"5;a=b\r\nhello\r\n0\r\n\r\n"
)
_PLAIN = b"HTTP/1.0 404 Not Found\nContent-Length: 7\n\n<title>a</title>"


def _page(data: bytes) -> Any:
    found = head.split_head(data)
    if found is None:
        return None
    return head.page_title(found[1]), [read_body(found[0], found[1], ended=ended) for ended in (False, True)]


def _socks(data: bytes) -> Any:
    if len(data) < 2:
        return None
    socks5.address_length(data[0], data[1])
    return socks5.parse_address(data[0], data[1:])


def _text(parse: Callable[[str], Any]) -> Callable[[bytes], Any]:
    """A reader of what a command of the system prints."""

    def decode(data: bytes) -> Any:
        found = parse(data.decode("utf-8", "replace"))
        return list(found) if found is not None else None

    return decode


def _netlink(kind: int, body: bytes) -> bytes:
    return struct.pack("=IHHII", 16 + len(body), kind, 0, 1, 0) + body


_NEIGHBOUR = struct.pack("=BBHiHBB", 2, 0, 0, 5, 2, 0, 1) + b"\x08\0\x01\0" + INSIDE.packed
_NEIGHBOUR += b"\x0a\0\x02\0\x02\0\x5e\x44\x07\x01\0\0"
_KIND = b"\x08\0\x01\0tun\0"
_LINK = struct.pack("=BBHiII", 0, 0, 65534, 7, 1, 0) + struct.pack("=HH", 4 + len(_KIND), 18) + _KIND
_ERROR = struct.pack("=IBBBBII", 111, 2, 3, 3, 0, 0, 0) + b"\x02\0\0\0" + OUTSIDE.packed + bytes(8)

_SERVER = bytes(range(1, 33))
_PUBLIC = wireguard.public_of(_SERVER)
_CLIENT = wireguard.Initiator(bytes(range(2, 34)), _PUBLIC, ephemeral=bytes(range(3, 35)), index=7)
_FIRST = _CLIENT.initiation(bytes.fromhex("400000006b07de5c236bc790"))
_RESPONSE, _FAR = wireguard.Responder(_SERVER).respond(
    wireguard.Responder(_SERVER).open(_FIRST), ephemeral=bytes(range(4, 36)), index=9
)
_KEYS = _CLIENT.read(_RESPONSE)
assert isinstance(_KEYS, wireguard.SessionKeys)
_SESSION = _KEYS

_ASKS = openvpn.ControlPacket(openvpn.SERVER_RESET, b"server..", (0,), b"client..", 0, bytes.fromhex("000100020001"))
_CLIENT_KEY = (
    b"-----BEGIN OpenVPN tls-crypt-v2 client key-----\n"
    + base64.b64encode(bytes(256 + 288) + (290).to_bytes(2, "big"))
    + b"\n-----END OpenVPN tls-crypt-v2 client key-----\n"
)


def _openvpn_answer(data: bytes) -> Any:
    channel = openvpn.Channel(openvpn.Bare(), b"client..", int)
    channel.opening()
    return channel.receive(data)


TARGETS: dict[str, Target] = {
    "stun": Target(_stun, _stun_seeds()),
    "natpmp-request": Target(
        lambda data: natpmp.NatPmpRequest.parse(data).serialize(),
        tuple(natpmp.NatPmpRequest(opcode, 443, 443, 3600).serialize() for opcode in range(3)),
    ),
    "natpmp-response": Target(
        lambda data: natpmp.NatPmpResponse.parse(data).serialize(),
        tuple(natpmp.NatPmpResponse(opcode, 0, 12345, OUTSIDE, 443, 443, 3600).serialize() for opcode in range(4)),
    ),
    "pcp-request": Target(
        _pcp_request,
        (
            pcp.PcpRequest(pcp.ANNOUNCE, 0, INSIDE).serialize(),
            pcp.PcpRequest(pcp.MAP, 3600, INSIDE, _MAPPING, _OPTIONS).serialize(),
            pcp.PcpRequest(2, 3600, INSIDE, body=bytes(56)).serialize(),
        ),
    ),
    "pcp-response": Target(
        _pcp_response,
        (
            pcp.PcpResponse(pcp.ANNOUNCE, 0, 0, 99).serialize(),
            pcp.PcpResponse(pcp.MAP, 0, 3600, 99, _MAPPING, _OPTIONS).serialize(),
            pcp.PcpResponse(pcp.MAP, pcp.ADDRESS_MISMATCH, 3600, 99).serialize(),
        ),
    ),
    "gena-told": Target(
        lambda data: (gena.is_whole(data), gena.parse_told(data)),
        (gena.serialize_told(gena.Told("uuid:1", 3, {"ExternalIPAddress": "203.0.113.44"}, "/x"), "10.44.7.105:4"),),
    ),
    "gena-granted": Target(
        lambda data: gena.parse_granted(head.parse_head(data)),
        (b"HTTP/1.1 200 OK\r\nSID: uuid:1\r\nTIMEOUT: Second-1800",),
    ),
    "passing-addresses": Target(
        lambda data: surroundings.parse_passing(data.decode("utf-8", "replace").splitlines()),
        (b"20010db8004400070000000000000105 02 40 00 01     lan0\n",),
    ),
    "mdns-answer": Target(
        mdns.parse_answer,
        (
            mdns.serialize_answer(mdns.LocalAnswer("slip-cam", ("_http._tcp",), ("Slipway",)), INSIDE.packed),
            mdns.serialize_answer(mdns.LocalAnswer("", ("_ipp._tcp", "_http._tcp")), INSIDE.packed, 7),
        ),
    ),
    "mdns-questions": Target(mdns.parse_questions, (mdns.serialize_questions([mdns.EVERY_KIND, "_http._tcp.local."]),)),
    "ssdp-search": Target(ssdp.parse_search, (ssdp.serialize_search(ssdp.TARGETS[0], ssdp.GROUP, wait_s=1),)),
    "ssdp-answer": Target(
        ssdp.parse_answer, (ssdp.serialize_answer("http://10.44.7.1:5000/d.xml", ssdp.TARGETS[0], "uuid:1", "works"),)
    ),
    "ssdp-notice": Target(
        ssdp.parse_notice,
        tuple(
            ssdp.serialize_notice(ssdp.Notice(kind, "http://10.44.7.1/", "upnp:rootdevice", "uuid:1"))
            for kind in ("alive", "update", "byebye")
        ),
    ),
    "description": Target(
        lambda data: upnp.parse_description(data, "http://10.44.7.1/d.xml"),
        (
            _DESCRIPTION,
            _DESCRIPTION.replace(b"&amp;", b"&"),
            _LATIN,
        ),
    ),
    "soap-action": Target(
        upnp.parse_action, (upnp.serialize_action(KIND, "AddPortMapping", (("NewPortMappingDescription", "a<b"),)),)
    ),
    "soap-response": Target(
        lambda data: upnp.parse_response(data, "GetExternalIPAddress"),
        (_ANSWER, _ANSWER.replace(b"203.", b"<&>203."), upnp.serialize_fault(718, "ConflictInMappingEntry")),
    ),
    "http": Target(_page, (_PAGE, _PLAIN)),
    "socks": Target(_socks, (b"\x01\xcb\0\x71\x2c\x01\xbb", b"\x03\x04name\0\x50", b"\x04" + bytes(18))),
    "ssh": Target(ssh.parse_identification, (b"welcome\r\nSSH-2.0-OpenSSH_9.2p1 Debian-2\r\n",)),
    "ssh-packet": Target(sshkex.parse_packet, (sshkex.serialize_packet(b"\x14" + bytes(40)),)),
    "ssh-kexinit": Target(
        sshkex.KexInit.parse, (sshkex.KexInit(bytes(16), ("curve25519-sha256",), sshkex.HOST_KEYS).serialize(),)
    ),
    "rfb": Target(rfb.parse_version, (b"RFB 003.008\n",)),
    "rfb-security": Target(lambda data: rfb.parse_security(data, "RFB 003.008"), (b"\x02\x01\x02",)),
    "ftp": Target(ftp.split_reply, (b"220-Films\r\n220 ready\r\n", b"227 (10,44,7,30,195,80)\r\n")),
    "smb2": Target(smb2.parse_negotiated, (smb2.serialize_negotiate(bytes(16)),)),
    "stand-in": Target(lambda data: standin.answer_to(data, bytes(16)), (standin.serialize_question(bytes(16)),)),
    "x224-confirm": Target(x224.parse_confirm, (x224.serialize_confirm(x224.Confirm(x224.HYBRID)),)),
    "x224-request": Target(x224.parse_request, (x224.serialize_request(),)),
    "first-bytes": Target(recognise.recognise, (b"SSH-2.0-x\r\n", _PAGE, b"RFB 003.008\n", b"\x16\x03\x01\0\x10")),
    "icmp": Target(icmp.parse_extended_error, (_ERROR,)),
    "rtnetlink": Target(
        rtnetlink.parse,
        (_netlink(28, _NEIGHBOUR), _netlink(16, _LINK) + _netlink(20, bytes(8)), _netlink(3, bytes(4))),
    ),
    "macos-routes": Target(
        _text(macos.parse_routes),
        (
            b"Internet:\nDestination Gateway Flags Netif Expire\ndefault 10.44.7.1 UGScg en0\n0/1 10.8.0.5 UGSc utun4\n"
            b"192.168.1 link#6 UCS en0 !\n10.44.7.1 2:0:5e:44:7:1 UHLWIir en0 1187\n",
            b"default fe80::1%en0 UGcg en0\n2001:db8:44:7::/64 link#6 UC en0\n",
        ),
    ),
    "macos-resolvers": Target(
        _text(macos.parse_resolvers), (b"resolver #1\n  nameserver[0] : 10.44.7.1\n  flags : x\n",)
    ),
    "macos-neighbours": Target(
        _text(macos.parse_neighbours),
        (b"? (10.44.7.1) at 2:0:5e:44:7:1 on en0 ifscope [ethernet]\n", b"2001:db8::1 2:0:5e:44:7:1 en0 23s R R\n"),
    ),
    "windows": Target(
        windows.parse,
        (
            b'{"adapters":[{"Name":"WLAN","InterfaceType":71}],"routes":[{"DestinationPrefix":"0.0.0.0/0","NextHop":'
            b'"10.44.7.1","InterfaceAlias":"WLAN","RouteMetric":0,"InterfaceMetric":25}],"neighbours":{"IPAddress":'
            b'"10.44.7.1","LinkLayerAddress":"02-00-5E-44-07-01","InterfaceAlias":"WLAN","State":5},"resolvers":'
            b'[{"InterfaceAlias":"WLAN","ServerAddresses":["10.44.7.1"]}]}',
        ),
    ),
    "proc-routes": Target(
        _text(lambda text: surroundings.parse_routes(text.splitlines())),
        (
            b"Iface Destination Gateway Flags RefCnt Use Metric Mask MTU Window IRTT\n"
            b"lan0 00000000 01072C0A 0003 0 0 100 00000000 0 0 0\n",
        ),
    ),
    "proc-routes6": Target(
        _text(lambda text: surroundings.parse_routes6(text.splitlines())),
        (
            b"0" * 32
            + b" 00 "
            + b"0" * 32
            + b" 00 20010db8004400070000000000000001 00000400 00000001 00000000 00000003 "
            b"lan0\n",
        ),
    ),
    "wireguard-initiation": Target(wireguard.Responder(_SERVER).open, (_FIRST,)),
    "wireguard-answer": Target(_CLIENT.read, (_RESPONSE, wireguard.cookie_reply(_FIRST, _PUBLIC, bytes(16)))),
    "wireguard-transport": Target(
        lambda data: replace(_SESSION).receive(data), (replace(_FAR).send(b"film"), replace(_FAR).send(b""))
    ),
    "wireguard-file": Target(
        _text(lambda text: [section.items("AllowedIPs") for section in wgfile.parse(text).sections]),
        (b"[Interface]\nPrivateKey = x\n[Peer]\r\nAllowedIPs=10.44.7.0/24, ::/0 # films\n", b"\xef\xbb\xbf[peer]\n"),
    ),
    "wireguard-dump": Target(
        _text(read_dump),
        (
            b"wg0\tprivate\tpublic\t51820\toff\nwg0\tkey\t(none)\t203.0.113.44:5\t10.0.0.0/8,::/0\t1795674960\t1\t2\toff\n",
            b"wg0 key (none) (none) (none) 0 0 0 off\n",
        ),
        (WireError, MachineError),
    ),
    "openvpn-packet": Target(
        lambda data: openvpn.Channel(openvpn.Bare(), b"client..", int, "server").receive(data),
        (openvpn.ControlPacket(openvpn.CLIENT_RESET, b"somebody", number=0).head + bytes(5),),
    ),
    "openvpn-answer": Target(
        _openvpn_answer,
        (
            b"".join((_ASKS.head, _ASKS.body)),
            openvpn.ControlPacket(openvpn.ACK, b"server..", (0,), b"client..").head + b"\x01\0\0\0\0client..",
        ),
    ),
    "openvpn-guarded": Target(
        lambda data: openvpn.parse_packet(data, openvpn.TlsCrypt(bytes(256), "server")),
        (openvpn.TlsCrypt(bytes(256)).seal(b"\x38somebody", bytes(5), 1),),
    ),
    "openvpn-frames": Target(openvpn.unframe, (openvpn.frame(b"\x38somebody" + bytes(5)) * 2,)),
    "openvpn-key": Target(_text(openvpn.parse_static_key), (openvpn.static_key_text(bytes(range(256))).encode(),)),
    "openvpn-client-key": Target(_text(openvpn.parse_client_key), (_CLIENT_KEY,)),
    "ike": Target(
        lambda data: ike.read_answer(data, b"initiatr", marked=False),
        (b"initiatr" + bytes(8) + bytes.fromhex("292022200000000000000024000000080000000e"),),
    ),
    "openvpn-file": Target(
        _text(lambda text: [one.words for one in ovpnfile.parse(text).options]),
        (b'client\nremote "a b" 1194 udp # here\n<ca>\nx\n</ca>\n<connection>\nremote c\n</connection>\n',),
    ),
    "openvpn-status": Target(
        _text(lambda text: read_status(text).clients),
        (
            b"OpenVPN CLIENT LIST\nUpdated,2026-11-26\nCommon Name,Real Address,Bytes Received,Bytes Sent,Connected"
            b" Since\ncox,1.2.3.4:5,1,2,x\nROUTING TABLE\nEND\n",
            b"TITLE\tOpenVPN\nTIME\tx\t1795674960\nHEADER\tCLIENT_LIST\tCommon Name\tReal Address\tBytes Received"
            b"\tBytes Sent\tConnected Since (time_t)\nCLIENT_LIST\tcox\t1.2.3.4:5\t1\t2\t1795674960\nEND\n",
        ),
        (WireError, MachineError),
    ),
    "ipv4-packet": Target(
        lambda data: ip4.echo_reply(ip4.Packet.parse(data)),
        (ip4.Packet(OUTSIDE, INSIDE, ip4.ICMP, ip4.icmp(8, 0, bytes(20))).serialize(),),
    ),
    "lab-line": Target(town.parse_line, (b'{"a": 1}', b'{"a": [[[{}]]]}')),
    "lab-frame": Target(
        lambda data: town.parse_lengths(data[:8].ljust(8, b"\0")), (town.serialize_frame({"a": 1}, b"xyz"),)
    ),
}
