"""IPv6: what is typed there, names that lead elsewhere by it, and addresses that a NAT64 translates."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, IPv6Address, IPv6Network, ip_address
from pathlib import Path
from typing import Any

import anyio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.targets import Target, outer_targets
from hooper.check.typed_names import NameSeen, by_name
from hooper.net.nat64 import Nat64Door
from hooper.net.system import SystemDoor
from hooper.net.types import Datagram, Endpoint, Refused
from hooper.planning.card import make_card
from hooper.planning.topology import Topology
from hooper.planning.typed import six_for, typed, typed_six
from hooper.wire.nat64 import LENGTHS, embedded, extracted, prefix_in
from hooper.words.said import Said, quoted
from support.program import BOATHOUSE, Lab, Ran, town_here
from support.sites import ONE_BOX, codes, site

NAME, PUBLIC, HUB6 = "boathouse.heronquay.example", IPv4Address("203.0.113.44"), IPv6Address("2001:db8:44:7::50")
SITE = f"""\
{ONE_BOX}address6 = "{HUB6}"
[hosts.film-box]
address = "10.44.7.30"
[services.hub-page]
host = "hub"
speaks = "https"
port = 8443
reach = "public"
[services.desk]
host = "hub"
speaks = "rdp"
outside_port = 13389
reach = "public"
[services.film-page]
host = "film-box"
speaks = "https"
reach = "public"
[services.shell]
host = "hub"
speaks = "ssh"
family = "ipv6"
reach = "public"
[names."{NAME}"]
line = "fibre"
"""
WITH_SIX = SITE + 'types = ["A", "AAAA"]\nhost = "hub"\n'
# RFC 6052 section 2.4
VECTORS = {
    "2001:db8::/32": "2001:db8:c000:221::",
    "2001:db8:100::/40": "2001:db8:1c0:2:21::",
    "2001:db8:122::/48": "2001:db8:122:c000:2:2100::",
    "2001:db8:122:300::/56": "2001:db8:122:3c0:0:221::",
    "2001:db8:122:344::/64": "2001:db8:122:344:c0:2:2100::",
    "2001:db8:122:344::/96": "2001:db8:122:344::192.0.2.33",
    "64:ff9b::/96": "64:ff9b::192.0.2.33",
}


@pytest.mark.parametrize("prefix", VECTORS)
def test_translated_addresses_are_as_the_standard_has_them(prefix: str) -> None:
    network, inside = IPv6Network(prefix), IPv4Address("192.0.2.33")
    assert embedded(network, inside) == IPv6Address(VECTORS[prefix])
    assert extracted(network, IPv6Address(VECTORS[prefix])) == inside


@given(st.sampled_from(LENGTHS), st.ip_addresses(v=6), st.ip_addresses(v=4))
def test_what_is_put_in_comes_out(length: int, base: IPv6Address, inside: IPv4Address) -> None:
    network = IPv6Network((base, length), strict=False)
    made = embedded(network, inside)
    assert (made in network, extracted(network, made)) == (True, inside)
    assert length == 96 or made.packed[8] == 0, "bits 64 to 71 are zero (RFC 6052 section 2.2)"


@given(st.sampled_from(LENGTHS), st.binary(min_size=16, max_size=16))
def test_the_prefix_is_found_by_the_name_that_has_no_ipv6(length: int, base: bytes) -> None:
    """RFC 7050 section 3; where both well-known addresses could stand at two places, nothing is claimed."""
    octets = bytearray(base)
    octets[8] = 0
    network = IPv6Network((bytes(octets), length), strict=False)
    answers = [embedded(network, IPv4Address(text)) for text in ("192.0.0.170", "192.0.0.171")]
    assert prefix_in(answers) in (network, None)
    if not any(octet in (192, 170, 171) for octet in octets[: length // 8]):
        assert prefix_in(answers) == network


@pytest.mark.parametrize("text", ["2001:db8::1", "::", "2001:db8:122:344:c0:2:2100:1"])
def test_an_answer_without_the_known_addresses_tells_no_prefix(text: str) -> None:
    assert prefix_in([IPv6Address(text)]) is None


@pytest.mark.parametrize("length", [0, 31, 97, 128])
def test_other_lengths_are_refused(length: int) -> None:
    with pytest.raises(ValueError, match="NAT64 prefix"):
        embedded(IPv6Network((0, length)), PUBLIC)


def test_a_translated_door_speaks_ipv4_to_who_asks_and_ipv6_to_the_network() -> None:
    """The loopback stands for the translator: the last 32 bits of ::1 are the address 0.0.0.1."""

    async def work() -> None:
        real = SystemDoor()
        door = Nat64Door(real, IPv6Network("::/96"))
        one = IPv4Address("0.0.0.1")
        async with await real.datagrams(local=Endpoint(IPv6Address("::1"), 0)) as far:
            async with await door.datagrams() as near:
                await near.send(b"question", Endpoint(one, far.local.port))
                came = await far.receive()
                assert isinstance(came, Datagram)
                await far.send(b"answer", came.sender)
                answer = await near.receive()
            assert answer == Datagram(b"answer", Endpoint(one, far.local.port))
        with pytest.raises(Refused):
            await door.connect(one, 9)

    async def bounded() -> None:
        with anyio.fail_after(10):
            await work()

    anyio.run(bounded)


def topology(text: str) -> Topology:
    return Topology(site(text).site)


def test_over_ipv6_the_ports_are_the_devices_own_and_the_name_only_where_it_leads() -> None:
    plain, six = topology(SITE), topology(WITH_SIX)
    assert (six_for(plain, "hub-page"), six_for(plain, "film-page")) == (HUB6, None)
    texts = {key: found.text if (found := typed_six(plain, key)) else None for key in plain.site.services}
    assert texts == {
        "hub-page": f"https://[{HUB6}]:8443/",
        "desk": f"[{HUB6}]:3389",
        "film-page": None,
        "shell": f"ssh {HUB6}",
    }
    assert [typed_six(six, key).text for key in ("hub-page", "desk", "shell")] == [  # type: ignore[union-attr]
        f"https://{NAME}:8443/", f"{NAME}:3389", f"ssh {NAME}"
    ]  # fmt: skip
    assert typed(plain, "shell") == typed_six(plain, "shell"), "for IPv6 alone: no name that has IPv4 only"


def test_cards_say_what_is_to_be_typed_over_ipv6() -> None:
    def expected(text: str, service: str) -> str:
        made = topology(text)
        shown = typed(made, service)
        assert shown is not None
        lines = [line for line in make_card(made, service, shown, None).expect if "IPv6" in line]
        return lines[0] if lines else ""

    assert expected(WITH_SIX, "hub-page") == "It works over IPv6 too, by the same name."
    assert expected(WITH_SIX, "desk") == f"Over IPv6 its port is 3389: where this stays silent, type {NAME}:3389."
    assert expected(SITE, "desk") == f"From a network that has IPv6 alone, type [{HUB6}]:3389 instead."
    assert expected(SITE, "shell").startswith("It is reached over IPv6 alone")
    assert expected(SITE, "film-page") == ""


def test_a_name_that_leads_to_another_host_over_ipv6_is_found_in_the_plan() -> None:
    assert "name-six-elsewhere" in codes(WITH_SIX)
    assert "name-six-elsewhere" not in codes(SITE)
    own = WITH_SIX.replace('host = "film-box"', 'host = "hub"\nport = 9443')
    assert "name-six-elsewhere" not in codes(own)
    assert "name-six-elsewhere" in codes(own.replace("port = 9443", 'port = 9443\nfamily = "ipv4"'))


def named(service: str, *six: str, own: IPv6Address | None = HUB6) -> tuple[str, Said] | None:
    targets, _ = outer_targets(topology(SITE), [service], {"fibre": PUBLIC}, None)
    seen = NameSeen(NAME, (PUBLIC,), quoted("resolver"), (PUBLIC,), tuple(IPv6Address(text) for text in six))
    (found,) = by_name(targets[0], {NAME: seen}, own)
    return found.wrong


@pytest.mark.parametrize(
    ("service", "six", "own", "wrong"),
    [
        ("hub-page", (), HUB6, None),
        ("hub-page", (str(HUB6),), HUB6, None),
        ("hub-page", ("2001:db8::1",), HUB6, "which is not 2001:db8:44:7::50"),
        ("hub-page", (str(HUB6), "2001:db8::1"), HUB6, "leads to 2001:db8::1 too"),
        ("desk", (str(HUB6),), HUB6, "at port 3389 and not at 13389"),
        ("film-page", (str(HUB6),), None, "and it is not reached over IPv6"),
    ],
)
def test_a_name_is_held_against_both_families(
    service: str, six: tuple[str, ...], own: IPv6Address | None, wrong: str | None
) -> None:
    found = named(service, *six, own=own)
    assert (found is None) == (wrong is None)
    if found is not None and wrong is not None:
        assert (found[0], wrong in str(found[1])) == ("name-other-family", True), found


def test_a_target_over_ipv6_has_the_name_that_leads_there() -> None:
    targets, _ = outer_targets(topology(SITE), ["hub-page"], {"fibre": PUBLIC}, None, six=True)
    seen = {NAME: NameSeen(NAME, (PUBLIC,), quoted("resolver"), (PUBLIC,), (HUB6,))}
    made: dict[Any, Target] = {ip_address(str(t.address)): next(iter(by_name(t, seen, HUB6))) for t in targets}
    assert (made[HUB6].name, made[PUBLIC].name) == (NAME, NAME)
    assert next(iter(by_name(made[HUB6], {}, HUB6))).address == HUB6


SIX_SITE = BOATHOUSE.replace('address = "10.44.7.50"', 'address = "10.44.7.50"\naddress6 = "2001:db8:44:7::50"', 1)


@pytest.fixture(scope="module")
def six_lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """The town with the hub planned over both families, and its sheets entered."""
    with town_here(tmp_path_factory.mktemp("six")) as town:
        Path(town.env["HOOPER_SITE"]).write_text(SIX_SITE)
        lab = Lab(town.env, town.folder)
        assert lab.enter_sheets().code == 0
        yield lab


def looked(lab: Lab, command: str, tmp_path: Path) -> Ran:
    options = ("--from", "interface:usb0", "--deadline", "0.8", "--state", str(tmp_path), "--json")
    return lab.run(command, "hub-page", *options)


def test_in_the_lab_each_family_is_judged_by_itself(six_lab: Lab, tmp_path: Path) -> None:
    pages = six_lab.run("lab", "read", "--json").document["gateways"]
    openings = [(page["gateway"], rule["target_address"]) for page in pages for rule in page["rules"]
                if rule["target_address"] == str(HUB6)]  # fmt: skip
    assert openings == [("fibre-box", str(HUB6)), ("club-router", str(HUB6))]
    rows = {row["family"]: row for row in looked(six_lab, "check", tmp_path).document["results"]}
    assert {family: (row["verdict"], row["ok"], row["port"]) for family, row in rows.items()} == {
        "ipv4": ("answered", True, 8443), "ipv6": ("answered", True, 8443)
    }  # fmt: skip
    assert looked(six_lab, "why", tmp_path).document["causes"] == []
    assert six_lab.run("lab", "break", "opening-missing", "hub-page").code == 0
    rows = {row["family"]: row for row in looked(six_lab, "check", tmp_path).document["results"]}
    assert (rows["ipv4"]["ok"], rows["ipv6"]["ok"], rows["ipv6"]["verdict"]) == (True, False, "silent")
    ran = looked(six_lab, "why", tmp_path)
    assert [(one["code"], one["certainty"]) for one in ran.document["causes"]] == [
        ("opening-missing", "likely"), ("host-filters-strangers", "possible")
    ]  # fmt: skip
    assert six_lab.run("lab", "mend").code == 0
    assert looked(six_lab, "why", tmp_path).document["causes"] == []


@pytest.mark.parametrize("fault", ["opening-missing", "service-four-only", "host-six-moved"])
@pytest.mark.parametrize("family", ["both", "ipv6"])
def test_each_fault_of_ipv6_has_its_cause(six_lab: Lab, fault: str, family: str, tmp_path: Path) -> None:
    """Where IPv4 goes on working, and where the service is planned over IPv6 alone."""
    site = Path(six_lab.env["HOOPER_SITE"])
    if family == "ipv6":
        site.write_text(SIX_SITE.replace("[services.hub-page]\n", '[services.hub-page]\nfamily = "ipv6"\n'))
    try:
        ran = looked(six_lab, "why", tmp_path)
        assert (ran.document["causes"], ran.document["ok"]) == ([], True), ran
        assert six_lab.run("lab", "break", fault, "hub-page").code == 0
        ran = looked(six_lab, "why", tmp_path)
        found = {one["code"]: one["certainty"] for one in ran.document["causes"]}
        assert (fault in found, ran.document["ok"]) == (True, False), found
        assert {code for code, certainty in found.items() if certainty == "certain"} <= {fault}
        assert not [code for code in found if code.startswith(("rule-", "carrier", "port-"))]
        six_lab.run("lab", "mend")
        assert looked(six_lab, "why", tmp_path).document["ok"] is True
    finally:
        site.write_text(SIX_SITE)
        six_lab.run("lab", "mend")


def test_a_name_that_leads_home_over_ipv6_must_lead_to_the_right_device(six_lab: Lab, tmp_path: Path) -> None:
    assert six_lab.run("lab", "break", "name-other-family", "hub-page").code == 0
    ran = looked(six_lab, "why", tmp_path)
    assert [one["code"] for one in ran.document["causes"]] == ["name-other-family"]
    rows = {row["family"]: row["problems"] for row in looked(six_lab, "check", tmp_path).document["results"]}
    assert rows == {"ipv4": ["name-other-family"], "ipv6": []}
    six_lab.run("lab", "mend")


def test_the_card_of_a_service_over_ipv6_alone_needs_nobody_to_tell_the_address(six_lab: Lab) -> None:
    site = Path(six_lab.env["HOOPER_SITE"])
    site.write_text(SIX_SITE.replace("[services.hub-page]\n", '[services.hub-page]\nfamily = "ipv6"\n'))
    try:
        document = six_lab.run("card", "hub-page", "--json").document
        assert (document["type"], document["address_source"]) == (
            f"https://[{HUB6}]:8443/", "address6 of hub, in the site file"
        )  # fmt: skip
        assert "The port 8443 is part of it: without it the address leads nowhere." in document["expect"]
    finally:
        site.write_text(SIX_SITE)


def test_a_service_without_an_opening_has_none_to_lose(six_lab: Lab) -> None:
    for fault in ("opening-missing", "service-four-only", "host-six-moved"):
        ran = six_lab.run("lab", "break", fault, "film-page", "--json")
        assert (ran.code, ran.document["errors"][0]["code"]) == (1, "nothing-to-break")
