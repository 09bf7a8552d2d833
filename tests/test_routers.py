"""Driving routers that lie, cap, repeat themselves, break off or say nothing, over loopback."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address
from typing import Any

import anyio
import pytest
from anyio.abc import ByteStream, SocketAttribute
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import HooperError, NoAnswer, WireError
from hooper.gateways.driver import RouterLied, RouterRefuses, SourceDropped
from hooper.gateways.find import RouterMute, _describe
from hooper.gateways.igd import Igd
from hooper.gateways.rules import is_ours, rows, wanted_rules
from hooper.lab.devices import read_request
from hooper.net.plain_http import Url, ask
from hooper.net.system import SystemDoor
from hooper.planning.values import Forward
from hooper.ports import Ports
from hooper.store.entries import Entered, LiveRule, key_of
from hooper.wire import head, upnp

KIND = "urn:schemas-upnp-org:service:WANIPConnection:1"
IGD = Igd(SystemDoor(), Url(IPv4Address("192.0.2.1"), 80, "/"), KIND, "box", 1.0)  # for what it can, not to ask it
HOME = IPv4Address("127.0.0.1")
RULE = LiveRule("tcp", 8443, "10.44.7.50", 8443, "", "hooper hub-page", enabled=True, lease_s=604_800)
Handler = Callable[[ByteStream], Awaitable[None]]


def served(handler: Handler, work: Callable[[Igd], Awaitable[Any]], deadline: float = 2.0) -> Any:
    """Run `work` against a router on loopback whose every connection is handled by `handler`."""

    async def main() -> Any:
        listener = await anyio.create_tcp_listener(local_host=str(HOME))
        port = listener.extra(SocketAttribute.local_port)
        async with listener, anyio.create_task_group() as tasks:

            async def one(stream: ByteStream) -> None:
                async with stream:
                    with suppress(anyio.BrokenResourceError, anyio.EndOfStream):
                        await handler(stream)

            tasks.start_soon(partial(listener.serve, one))
            try:
                return await work(Igd(SystemDoor(), Url(HOME, port, "/control"), KIND, "box", deadline))
            finally:
                tasks.cancel_scope.cancel()

    with unwrapped():
        return anyio.run(main)


@contextmanager
def unwrapped() -> Iterator[None]:
    """The one error inside the groups that the helper's own tasks put around it."""
    try:
        yield
    except BaseExceptionGroup as group:
        error: BaseException = group
        while isinstance(error, BaseExceptionGroup) and len(error.exceptions) == 1:
            error = error.exceptions[0]
        raise error from None


@dataclass
class Box:
    """A router with a table, and a way to bend each answer. bend: by the action's name."""

    table: list[LiveRule] = field(default_factory=list)
    bend: dict[str, Callable[[dict[str, str], list[tuple[str, str]]], Any]] = field(default_factory=dict)

    async def __call__(self, stream: ByteStream) -> None:
        got = await read_request(stream)
        assert got is not None
        name, given = upnp.parse_action(got[1])
        answer = self._do(name, given)
        if name in self.bend and not isinstance(answer, upnp.SoapFault):
            answer = self.bend[name](given, answer)
        if isinstance(answer, upnp.SoapFault):
            body, status = upnp.serialize_fault(answer.code, answer.text), 500
        else:
            body, status = answer if isinstance(answer, bytes) else upnp.serialize_response(KIND, name, answer), 200
        await stream.send(head.serialize_response(status, "-", "HTTP/1.1", (), body))

    def _do(self, name: str, given: dict[str, str]) -> Any:
        def shown(rule: LiveRule) -> list[tuple[str, str]]:
            key = [("NewRemoteHost", rule.source), ("NewExternalPort", str(rule.outside_port))]
            key.append(("NewProtocol", rule.transport.upper()))
            return [*key, ("NewInternalPort", str(rule.target_port)), ("NewInternalClient", rule.target_address),
                    ("NewEnabled", "1"), ("NewPortMappingDescription", rule.label),
                    ("NewLeaseDuration", str(rule.lease_s))]  # fmt: skip

        if name == "GetGenericPortMappingEntry":
            index = int(given["NewPortMappingIndex"])
            return shown(self.table[index]) if index < len(self.table) else upnp.SoapFault(713, "end")
        found = [r for r in self.table if str(r.outside_port) == given.get("NewExternalPort")]
        if name == "GetSpecificPortMappingEntry":
            return shown(found[0])[3:] if found else upnp.SoapFault(714, "none")
        if name == "DeletePortMapping":
            self.table = [r for r in self.table if r not in found]
        if name == "AddPortMapping":
            new = LiveRule("tcp", int(given["NewExternalPort"]), given["NewInternalClient"],
                           int(given["NewInternalPort"]), "", given["NewPortMappingDescription"], enabled=True,
                           lease_s=int(given["NewLeaseDuration"]))  # fmt: skip
            self.table = [*(r for r in self.table if r not in found), new]
        return []


def test_a_sound_router() -> None:
    box = Box()
    granted = served(box, lambda igd: igd.add(RULE))
    assert granted == RULE
    assert served(box, lambda igd: igd.table()) == [RULE]
    served(box, lambda igd: igd.delete(RULE))
    assert served(box, lambda igd: igd.entry(RULE)) is None


def test_a_yes_is_read_back() -> None:
    def other_port(given: dict[str, str], answer: Any) -> Any:
        box.table = [replace(RULE, target_port=80)]
        return answer

    def nothing(given: dict[str, str], answer: Any) -> Any:
        box.table = []
        return answer

    def stays(given: dict[str, str], answer: Any) -> Any:
        box.table = [RULE]
        return answer

    def other_host(given: dict[str, str], answer: Any) -> Any:
        box.table = [replace(RULE, target_address="10.44.7.9")]
        return answer

    bends = ((other_port, "10.44.7.50:80", 0), (nothing, "has no such rule", 0), (other_host, "10.44.7.9:8443", 1))
    for bend, words, left in bends:
        box = Box(bend={"AddPortMapping": bend})
        with pytest.raises(RouterLied, match=words):
            served(box, lambda igd: igd.add(RULE))
        assert len(box.table) == left, "what it made of ours is taken away, somebody else's is not"
    box = Box(bend={"DeletePortMapping": stays})
    with pytest.raises(RouterLied, match="still has it"):
        served(box, lambda igd: igd.delete(RULE))


def test_a_source_that_the_router_drops_opens_nothing() -> None:
    """Real software was seen to say yes and to open the port to everyone: then the rule is taken away again."""
    wanted = replace(RULE, source="198.51.100.7")
    box = Box()
    with pytest.raises(SourceDropped):
        served(box, partial(_add, rule=wanted))
    assert box.table == []

    def kept(given: dict[str, str], answer: Any) -> Any:
        box.table = [replace(rule, source=given["NewRemoteHost"]) for rule in box.table]
        return answer

    box = Box(bend={"AddPortMapping": kept})
    assert served(box, partial(_add, rule=wanted)).source == "198.51.100.7"


@pytest.mark.parametrize("code", [725, 402])
def test_a_router_that_knows_only_rules_without_an_end(code: int) -> None:
    def permanent(given: dict[str, str], answer: Any) -> Any:
        if given["NewLeaseDuration"] == "0":
            return answer
        box.table = []
        return upnp.SoapFault(code, "OnlyPermanentLeasesSupported")

    box = Box(bend={"AddPortMapping": permanent})
    assert served(box, lambda igd: igd.add(RULE)).lease_s == 0


def test_a_router_that_cannot_show_a_single_entry() -> None:
    box = Box([RULE], bend={"GetSpecificPortMappingEntry": lambda *_: upnp.SoapFault(401, "Invalid Action")})
    assert served(box, lambda igd: igd.entry(RULE)) == RULE


def test_tables_without_an_end_and_with_nonsense() -> None:
    """The first shows its one entry for ever; the second has an entry that makes no sense between two that do."""
    entry = Box([RULE])._do("GetGenericPortMappingEntry", {"NewPortMappingIndex": "0"})

    async def endless(stream: ByteStream) -> None:
        await read_request(stream)
        body = upnp.serialize_response(KIND, "GetGenericPortMappingEntry", entry)
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", (), body))

    assert served(endless, lambda igd: igd.table()) == [RULE]
    second = replace(RULE, outside_port=443)
    box = Box([RULE, replace(RULE, target_address="not-an-address", outside_port=1), second])
    assert served(box, lambda igd: igd.table()) == [RULE, second]
    label = replace(RULE, label="a" * 60 + "\udcfe\udcbf".encode("utf-8", "replace").decode())
    assert served(Box([label]), lambda igd: igd.table())[0].leads_as(RULE)


ANSWER = upnp.serialize_response(KIND, "GetExternalIPAddress", [("NewExternalIPAddress", "203.0.113.44")])
FIRST = b"HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\n"


@pytest.mark.parametrize(
    "sent",
    [
        FIRST + b"Content-Length: %d\r\n\r\n" % len(ANSWER) + ANSWER,
        FIRST + b"\r\n" + ANSWER,  # no length: until it hangs up
        FIRST + b"Content-Length: 9999\r\n\r\n" + ANSWER,  # too long
        FIRST + b"Content-Length: many\r\n\r\n" + ANSWER,
        FIRST + b"A line without a colon\r\nEXT :\r\nContent-Length : %d\r\n\r\n" % len(ANSWER) + ANSWER,
        FIRST + b"Transfer-Encoding: chunked\r\n\r\n%x\r\n" % len(ANSWER) + ANSWER + b"\r\n0\r\n\r\n",
        FIRST + b"Transfer-Encoding: chunked\r\n\r\n%x\r\n" % len(ANSWER) + ANSWER,  # unfinished
        b"HTTP/1.1 100 Continue\r\n\r\n" + FIRST + b"\r\n" + ANSWER,
        b"HTTP/1.0 500 Whatever\n\n" + ANSWER,  # the status lies
        FIRST.replace(b"\r\n", b"\n") + b"\n\xef\xbb\xbf" + ANSWER,
    ],
)
def test_odd_messages_are_understood(sent: bytes) -> None:
    async def odd(stream: ByteStream) -> None:
        await read_request(stream)
        await stream.send(sent)

    assert served(odd, lambda igd: igd.external_address()) == IPv4Address("203.0.113.44")


@pytest.mark.parametrize(
    ("sent", "kind"),
    [
        (b"", NoAnswer),
        (b"HTTP/1.1 200 OK\r\n", NoAnswer),
        (b"SSH-2.0-box\r\n", WireError),
        (b"HTTP/1.1 200 OK\r\n\r\n", WireError),
        (b"HTTP/1.1 200 OK\r\n\r\n<html><body>Log in</html>", WireError),
        (b"HTTP/1.1 200 OK\r\n\r\n" + b"x" * 400_000, WireError),
        (b'HTTP/1.1 200 OK\r\n\r\n<!DOCTYPE a [<!ENTITY b "b">]><a>&b;</a>', WireError),
        (b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nzz\r\n", WireError),
        (b"HTTP/1.1 500 No\r\n\r\n" + upnp.serialize_fault(501, "Action Failed"), RouterRefuses),
    ],
)
def test_what_is_no_answer_is_an_error_of_ours(sent: bytes, kind: type[HooperError]) -> None:
    async def odd(stream: ByteStream) -> None:
        await read_request(stream)
        await stream.send(sent)

    with pytest.raises(kind):
        served(odd, lambda igd: igd.external_address())


def test_silence_ends_at_the_deadline() -> None:
    async def silent(stream: ByteStream) -> None:
        await anyio.sleep(60)

    with pytest.raises(NoAnswer, match=r"within 0.3 s"):
        served(silent, lambda igd: igd.external_address(), deadline=0.3)


def test_an_empty_address_is_none() -> None:
    for text in ("", "0.0.0.0", "unknown", "::1::"):
        box = Box(bend={"GetExternalIPAddress": lambda *_, text=text: [("NewExternalIPAddress", text)]})
        assert served(box, lambda igd: igd.external_address()) is None


async def _add(igd: Igd, rule: LiveRule) -> LiveRule:
    return await igd.add(rule)


def test_nonsense_is_never_sent() -> None:
    box = Box()
    for bad in (replace(RULE, outside_port=70000), replace(RULE, target_port=0)):
        with pytest.raises(ValueError, match="is no port"):
            served(box, partial(_add, rule=bad))
    assert box.table == []


# --- descriptions


def described(pages: dict[str, bytes], locations: list[str]) -> Igd:
    async def page(stream: ByteStream) -> None:
        got = await read_request(stream)
        assert got is not None
        body = pages.get(got[0].target, b"")
        if got[0].method == "POST":
            name, _ = upnp.parse_action(got[1])
            up = "Connected" if got[0].target == "/up" else "Disconnected"
            body = upnp.serialize_response(KIND, name, [("NewConnectionStatus", up)])
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", (), body))

    async def work(igd: Igd) -> Igd:
        port = igd.control.port
        return await _describe(SystemDoor(), "box", HOME, [one.format(port=port) for one in locations], 2.0)

    found = served(page, work)
    assert isinstance(found, Igd)
    return found


def description(*services: tuple[str, str]) -> bytes:
    inside = "".join(
        f"<service><serviceType>urn:schemas-upnp-org:service:{kind}</serviceType><controlURL>{url}</controlURL></service>"
        for kind, url in services
    )
    return f"<root><device><modelName>Box</modelName><serviceList>{inside}</serviceList></device></root>".encode()


HERE = "http://127.0.0.1:{port}/a"


def test_of_several_connections_the_one_that_is_up_is_taken() -> None:
    pages = {"/a": description(("WANIPConnection:1", "/down"), ("WANPPPConnection:1", "/up"))}
    assert described(pages, [HERE]).control.target == "/up"
    pages = {"/a": description(("WANIPConnection:1", "/one"), ("Layer3Forwarding:1", "/two"))}
    assert described(pages, [HERE]).control.target == "/one"
    pages = {"/a": b"<html>no", "/b": description(("WANPPPConnection:1", "x"))}
    assert described(pages, [HERE, HERE.replace("/a", "/b")]).control.target == "/x"


@pytest.mark.parametrize(
    "locations",
    [
        [],
        ["http://127.0.0.2:{port}/a"],  # another machine than the one that answered
        ["https://127.0.0.1:{port}/a"],
        ["http://router.example/a"],
        ["file:///etc/hostname"],
        ["http://127.0.0.1:99999/a"],
        ["http://127.0.0.1:{port}/a\r\nX: y"],
    ],
)
def test_locations_that_lead_elsewhere_are_not_followed(locations: list[str]) -> None:
    with pytest.raises(HooperError):
        described({"/a": description(("WANIPConnection:1", "/one"))}, locations)


def test_a_control_address_on_another_machine_is_not_used() -> None:
    with pytest.raises(RouterMute, match="offers no connection"):
        described({"/a": description(("WANIPConnection:1", "http://127.0.0.2:80/one"))}, [HERE])


@given(st.text(max_size=60))
def test_any_text_is_a_url_or_a_wire_error(text: str) -> None:
    for given_text in (text, f"http://{text}", f"http://10.44.7.1{text}"):
        try:
            url = Url.parse(given_text)
        except WireError:
            continue
        assert url.target.startswith(("/", "?"))
        assert "\r" not in url.target


def test_plain_requests_have_what_routers_want() -> None:
    seen: list[head.Head] = []

    async def note(stream: ByteStream) -> None:
        got = await read_request(stream)
        assert got is not None
        seen.append(got[0])
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", (), b"x"))

    async def work(igd: Igd) -> None:
        await ask(igd.door, igd.control, 2.0, method="POST", fields=(("SOAPAction", '"a#b"'),), body=b"abc")

    served(note, work)
    (asked,) = seen
    assert (asked.method, asked.get("content-length"), asked.get("soapaction")) == ("POST", "3", '"a#b"')
    assert (asked.get("host") or "").startswith("127.0.0.1:")


# --- what is wanted, whose it is


def forward(**more: Any) -> Forward:
    usual: dict[str, Any] = {
        "gateway": "box", "line": "fibre", "kind": "forward", "service": "hub-page", "transport": "tcp",
        "outside_address": None, "outside_ports": (8443, 8443), "target_address": "10.44.7.50",
        "target_ports": (8443, 8443), "sources": (), "by": "auto", **more,
    }  # fmt: skip
    for key in ("outside_ports", "target_ports"):
        usual[key] = Ports(*usual[key]) if usual[key] is not None else None
    return Forward(**usual)


def test_what_igd_can_say_and_what_it_cannot() -> None:
    def entries(**more: Any) -> list[tuple[str, int, int, str]]:
        wanted = wanted_rules(IGD, [forward(**more)], "box", 0)
        return [(w.rule.transport, w.rule.outside_port, w.rule.target_port, w.rule.source) for w in wanted if w.rule]

    assert entries() == [("tcp", 8443, 8443, "")]
    assert entries(gateway="other") == []
    assert entries(transport="both") == [("tcp", 8443, 8443, ""), ("udp", 8443, 8443, "")]
    assert entries(outside_ports=(5000, 5002), target_ports=(6000, 6002)) == [
        ("tcp", 5000, 6000, ""), ("tcp", 5001, 6001, ""), ("tcp", 5002, 6002, "")
    ]  # fmt: skip
    assert entries(sources=("198.51.100.7/32", "198.51.100.8/32")) == [
        ("tcp", 8443, 8443, "198.51.100.7"), ("tcp", 8443, 8443, "198.51.100.8")
    ]  # fmt: skip
    for more, words in (
        ({"sources": ("198.51.100.0/24",)}, "single addresses"),
        ({"outside_ports": (5000, 5999), "target_ports": (5000, 5999)}, "each port of a wide range"),
        ({"transport": "47", "outside_ports": None, "target_ports": None}, "for TCP and UDP only"),
    ):
        (one,) = wanted_rules(IGD, [forward(**more)], "box", 0)
        assert (one.rule, words in one.reason) == (None, True)


def test_whose_an_entry_is() -> None:
    now = datetime(2026, 5, 1, tzinfo=UTC)

    def ours(entry: LiveRule, until: datetime | None) -> bool:
        mine = Entered("box", "hub-page", RULE, "open", (), until)
        return is_ours(entry, {key_of(RULE): mine}, now)

    assert ours(RULE, None)
    assert ours(replace(RULE, label="garbage þ"), now + timedelta(days=1)), "labels come back damaged"
    assert not ours(replace(RULE, target_address="10.44.7.9"), None)
    assert not ours(replace(RULE, label="a game"), now - timedelta(days=1)), "ours has ended: this is somebody else's"
    assert not is_ours(RULE, {}, now)
    wanted = list(wanted_rules(IGD, [forward()], "box", 0))
    elsewhere = replace(RULE, target_port=80)
    (row,) = rows("igd", [elsewhere], wanted, {}, now)
    assert (row.service, row.owner, row.meets_plan) == ("hub-page", "labelled", False)
    (row,) = rows("igd", [replace(RULE, enabled=False)], wanted, {}, now)
    assert not row.meets_plan
