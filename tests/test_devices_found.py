"""What a device is by what it says, how it is reached with a factory's address, and how it gets into the site file."""

from __future__ import annotations

import random
import string
import sys
import tomllib
from ipaddress import IPv4Address, IPv4Network, ip_address
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.check.greetings import foreign_hosts
from hooper.errors import HooperError, UsageError, WireError
from hooper.line.announced import Announced, Heard, unwrapped
from hooper.line.foreign import is_foreign, steps_to_reach
from hooper.line.kinds import Greeting, kind_of
from hooper.planning.adopting import NewDevice, adopt
from hooper.site.load import parse_site
from hooper.wire import mdns
from hooper.words.data import data
from support.program import Lab, Ran, hooper, town_here, valid

PLACES = ("page", "described", "named", "server", "certificate")
DEVICES = tomllib.loads((Path(__file__).parent / "data" / "greetings.toml").read_text())["device"]
SITE = """\
version = 1
[lines.fibre]
[gateways.box]
line = "fibre"
lan = "10.44.7.1/24"
pool = "10.44.7.100-10.44.7.199"
"""


def greeting(row: dict[str, Any]) -> Greeting:
    texts = tuple((place, row[place]) for place in PLACES if place in row)
    return Greeting(tuple(row.get("announced", ())), tuple(row.get("speaks", ())), texts)


@pytest.mark.parametrize("row", DEVICES, ids=[row["what"] for row in DEVICES])
def test_the_kind_is_named_or_it_is_said_that_it_cannot_be_told(row: dict[str, Any]) -> None:
    seen = kind_of(greeting(row))
    assert seen.kind == row.get("kind")
    told = " ".join(map(str, seen.by))
    own = " ".join(str(value) for value in row.values()).lower()
    assert all(word.strip("“”") in own for said in seen.by for word in [str(said["text"]).lower()])
    if seen.kind is not None:
        assert told, "a kind without a reason"
        assert seen.title == data("kinds")[seen.kind]["title"]


def test_forty_kinds_of_greetings_are_held_against_it() -> None:
    assert len(DEVICES) >= 40
    assert {row.get("kind") for row in DEVICES} == {*data("kinds"), None}


@given(st.lists(st.sampled_from(DEVICES), min_size=1, max_size=3), st.randoms(use_true_random=False))
def test_the_order_in_which_things_are_heard_changes_nothing(rows: list[dict[str, Any]], chance: random.Random) -> None:
    parts = [greeting(row) for row in rows]
    announced = [word for one in parts for word in one.announced]
    speaks = [word for one in parts for word in one.speaks]
    texts = [text for one in parts for text in one.texts]
    first = kind_of(Greeting(tuple(announced), tuple(speaks), tuple(texts)))
    for heard in (announced, speaks, texts):
        chance.shuffle(heard)
    assert kind_of(Greeting(tuple(announced), tuple(speaks), tuple(texts))).kind == first.kind


@given(st.text(max_size=60))
def test_words_without_meaning_name_no_kind(text: str) -> None:
    words = [word for row in data("kinds").values() for word in row.get("words", ())]
    if not any(word in text.lower() for word in words):
        assert kind_of(Greeting(texts=(("page", text),))).kind is None


# --- announcements


def test_an_answer_is_read_as_it_was_written() -> None:
    told = mdns.LocalAnswer("slip-cam", ("_http._tcp", "_rtsp._tcp"), ("Slipway camera, over the water",))
    data = mdns.serialize_answer(told, IPv4Address("10.44.7.21").packed, 7)
    assert mdns.parse_answer(data) == told
    flushed = data.replace(b"\0\1\0\1\0\0\0\x78", b"\0\1\x80\1\0\0\0\x78")  # RFC 6762 section 10.2
    assert flushed != data
    assert mdns.parse_answer(flushed) == told
    questions = mdns.serialize_questions([mdns.EVERY_KIND, "_http._tcp.local."])
    assert mdns.parse_questions(questions) == (mdns.EVERY_KIND, "_http._tcp.local.")
    with pytest.raises(WireError):
        mdns.parse_answer(questions)


def test_a_type_of_upnp_is_unwrapped() -> None:
    assert unwrapped("urn:schemas-upnp-org:device:MediaServer:1") == "MediaServer"
    assert unwrapped("upnp:rootdevice") == "upnp:rootdevice"


# --- addresses of other networks


def test_foreign_is_what_is_in_no_network_of_this_computer() -> None:
    networks = [IPv4Network("10.44.7.0/24"), IPv4Network("192.168.90.0/24")]
    for text in ("192.168.1.64", "169.254.3.4", "10.44.8.1"):
        assert is_foreign(IPv4Address(text), networks)
    for text in ("10.44.7.9", "192.168.90.1", "239.255.255.250", "0.0.0.0", "127.0.0.1", "255.255.255.255"):
        assert not is_foreign(IPv4Address(text), networks)
    assert not is_foreign(ip_address("fe80::1"), networks)


@pytest.mark.parametrize("system", ["linux", "darwin", "win32", "freebsd14"])
@given(st.integers(1, 2**32 - 2).map(IPv4Address))
def test_the_way_to_it_is_on_its_network_and_is_taken_back(system: str, address: IPv4Address) -> None:
    add, opened, take = steps_to_reach(address, "lan0", system)
    own = IPv4Address(add["own"])
    length = 16 if address in IPv4Network("169.254.0.0/16") else 24
    assert own != address
    assert own in IPv4Network((address, length), strict=False)
    assert take["own"] == add["own"]
    assert str(address) in str(opened)
    assert ("netsh" if system == "win32" else "ifconfig" if system == "darwin" else "ip address") in str(add)
    assert "lan0" in str(add)
    assert "lan0" in str(take)


def test_foreign_devices_have_their_kind_and_their_steps() -> None:
    heard: Heard = {
        IPv4Address("192.168.1.64"): Announced({"_rtsp._tcp": None}, {}, {"quay-cam": None, "Quay camera": None}),
        IPv4Address("10.44.7.21"): Announced({"_http._tcp": None}),
    }
    (row,) = foreign_hosts(heard, [IPv4Network("10.44.7.0/24")], "lan0", "linux")
    assert (row.address, row.name, row.kind) == ("192.168.1.64", "quay-cam", "camera")


# --- taken into the site file


def test_a_device_comes_with_what_it_offers_and_nothing_is_ticked() -> None:
    file = parse_site(SITE.encode(), "site.toml")
    devices = [
        NewDevice("10.44.7.21", "02:00:5e:44:07:21", "slip-cam.home.arpa", False, [("rtsp", 554), ("http", 80)]),
        NewDevice("10.44.7.50", None, "", False, [("https", 443), ("https", 8443), ("http", 80)]),
        NewDevice("10.44.7.150", "02:00:5e:44:07:50", "Slip Cam", True, []),
    ]
    made = adopt(file, devices)
    site = parse_site(made.text.encode(), "site.toml").site
    assert set(site.hosts) == {"slip-cam", "device-50", "slip-cam-2"}
    assert {key: (one.speaks, one.used_ports.first) for key, one in site.services.items()} == {
        "slip-cam-page": ("http", 80), "slip-cam-rtsp": ("rtsp", 554),
        "device-50-page": ("https", 443), "device-50-https": ("https", 8443), "device-50-http": ("http", 80),
    }  # fmt: skip
    assert {one.reach for one in site.services.values()} == {"lan"}
    assert all(not any(vars(one.ready).values()) for one in site.hosts.values())
    assert site.hosts["slip-cam-2"].address_from == "reservation"
    assert site.hosts["slip-cam"].address_from == "device"
    with pytest.raises(UsageError):
        adopt(file, [])


@given(st.data())
def test_whatever_a_device_calls_itself_the_file_stays_a_site_file(chosen: st.DataObject) -> None:
    text = st.text(st.sampled_from(string.printable + "äöü“”\u202e"), max_size=70)
    offers = st.lists(st.tuples(st.sampled_from(["http", "https", "ssh", "rtsp"]), st.integers(1, 65535)), max_size=4)
    names = chosen.draw(st.lists(st.tuples(text, offers), min_size=1, max_size=5))
    devices = [
        NewDevice(f"10.44.7.{20 + number}", None, name, False, offered) for number, (name, offered) in enumerate(names)
    ]
    try:
        made = adopt(parse_site(SITE.encode(), "site.toml"), devices)
    except HooperError as exc:
        raise AssertionError(exc.message) from None
    site = parse_site(made.text.encode(), "site.toml").site
    assert len(site.hosts) == len(devices)
    assert len(site.services) == sum(len(set(one.offers)) for one in devices)


# --- as a user sees it, in the town


def own_folder(lab: Lab, tmp_path: Path) -> Path:
    assert lab.run("new", "--found", "--site", str(tmp_path / "site.toml")).code == 0
    return tmp_path / "site.toml"


def test_devices_are_found_named_and_taken_in(lab: Lab, tmp_path: Path) -> None:
    path = own_folder(lab, tmp_path)
    found = lab.run("host", "find", "--sweep", "--site", str(path), "--json")
    rows = {row["address"]: row for row in valid("host-find", found.document)["hosts"]}
    kinds = {address.rpartition(".")[2]: row["kind"] for address, row in rows.items()}
    assert {kinds[end] for end in ("21", "22", "30", "40", "50")} == {
        "camera", "recorder", "storage", "desktop", "home-control",
    }  # fmt: skip
    assert (kinds["60"], kinds["105"]) == (None, None)
    before = path.read_text()
    assert lab.run("host", "find", "--sweep", "--add", "21", "-n", "--site", str(path)).code == 0
    assert path.read_text() == before
    ran = lab.run("host", "find", "--sweep", "--add", "21,10.44.7.30", "--site", str(path))
    assert ran.code == 0, ran.err
    site = parse_site(path.read_bytes(), "site.toml").site
    assert {*site.hosts} == {"slip-cam", "film-box"}
    assert {*site.services} == {"slip-cam-page", "slip-cam-rtsp", "film-box-page", "film-box-ssh"}
    assert lab.run("undo", "--site", str(path)).code == 0
    assert path.read_text() == before


def refused(ran: Ran, *words: str) -> None:
    assert ran.code == 2
    assert all(word in ran.err for word in words), ran.err


def test_what_cannot_be_taken_in_is_said(lab: Lab, tmp_path: Path) -> None:
    path = own_folder(lab, tmp_path)
    look = ("host", "find", "--site", str(path), "--sweep")
    refused(lab.run(*look, "--add", "99"), "no such new device", "10.44.7.21")
    refused(lab.run(*look, "--add", "1"), "a router")
    refused(lab.run(*look, "--add", "105"), "this computer")
    refused(lab.run(*look, "--add", ","), "no device was chosen")
    refused(lab.run(*look, "--add", "21", "--no-ports"), "known by ports")
    refused(lab.run(*look, "-n"), "--add")


def test_a_new_camera_is_heard_reached_and_found(tmp_path: Path) -> None:
    (tmp_path / "town").mkdir()
    with town_here(tmp_path / "town") as lab:
        path = own_folder(lab, tmp_path)
        look = ("host", "find", "--site", str(path), "--sweep")
        assert lab.run("lab", "unpack").code == 0
        (row,) = valid("host-find", lab.run(*look, "--json").document)["foreign"]
        assert (row["address"], row["name"], row["kind"], row["by"]) == ("192.168.1.64", "quay-cam", "camera", ["mDNS"])
        shown = lab.run(*look)
        assert "with an address of another one, as from its" in shown.out
        assert ("netsh" if sys.platform == "win32" else "192.168.1.250") in shown.out
        refused(lab.run("host", "add", "quay-cam", "--address", "192.168.1.64", "--site", str(path)), "host find")
        assert lab.run("lab", "unpack", "10.44.7.23").code == 0
        after = valid("host-find", lab.run(*look, "--json").document)
        assert after["foreign"] == []
        (found,) = [row for row in after["hosts"] if row["address"] == "10.44.7.23"]
        assert (found["kind"], found["offers"]) == ("camera", [["http", 80], ["rtsp", 554]])
    assert hooper("lab", "unpack", env={"HOOPER_LAB": ""}).code == 2
