"""The guided run on kernel NAT, with two mute routers and real servers."""

from __future__ import annotations

import base64
import html
import json
import re
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from hooper.site.load import parse_site
from support.namespaces import PUBLIC, KernelTown, kernel_town
from support.person import Person
from support.program import program
from support.tunnels import tunnel_town
from test_real_six import HOST6, WALL

pytestmark = pytest.mark.real


@pytest.fixture
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
        town.serve_page("film-page", "film-box", 443, "Race films")
        town.serve_shell("film-shell", "film-box", 22)
        town.serve_page("hub-page", "hub", 8443, "Heating and doors")
        yield town


def adopt_the_film_box(one: Person) -> None:
    """Pick it among the devices that were found, and what it offers first."""
    one.until("belong to this site? (several: 1,3)")
    number = re.search(r"(\d+) 10\.44\.7\.30 ", one.until("Answer:"))
    assert number is not None, one.plain
    one.answer("", number[1])
    one.answer("from outside? (several: 1,3)", "1")


def test_two_mute_routers_from_an_empty_folder_to_a_proof(town: KernelTown, tmp_path: Path) -> None:
    """Only one is seen; that another stands before it comes out by its address. A hand types while it is watched."""
    started = time.monotonic()
    one = Person(tmp_path, wrap=town.wrap("here"))
    one.answer("called [Home]:", "Boathouse")
    one.answer("of own-router (Enter: not known yet; none: it has none):", "192.168.90.2")
    one.answer("enter rules on?", "yes")
    one.answer("[192.168.90.1/24]:", "")
    one.answer("of outer-box (Enter: not known yet; none: it has none):", PUBLIC)
    adopt_the_film_box(one)
    one.answer("Answer [public]:", "")
    one.answer("came with changed?", "yes")
    one.until("Enter when it is typed.")
    rule = {
        "service": "page",
        "transport": "tcp",
        "outside_ports": [443, 443],
        "target_ports": [443, 443],
        "sources": [],
    }
    town.enter([{"gateway": "fibre-box", "rules": [{**rule, "target_address": "192.168.90.2"}]},
                {"gateway": "club-router", "rules": [{**rule, "target_address": "10.44.7.30"}]}])  # fmt: skip
    one.until("It answers from outside now")
    one.answer("anything else?", "")
    one.until("All is done and proven.")
    assert one.ended() == 0, one.plain[-3000:]
    assert one.answers <= 12
    assert time.monotonic() - started < 60
    site = parse_site((tmp_path / "site.toml").read_bytes(), "site.toml").site
    assert [one.reach for one in site.services.values()].count("public") == 1
    assert site.gateways["own-router"].behind == ("outer-box",)
    # before a journey: it is proven anew, and a rule that is gone is seen
    own = {"XDG_STATE_HOME": str(tmp_path / "state")}
    drill = ("drill", "--until", str(datetime.now(UTC).date() + timedelta(days=20)))
    ready = program(*drill, wrap=town.wrap("here"), cwd=tmp_path, env=own)
    assert (ready.code, ready.out.startswith("You may go.")) == (0, True), ready.out + ready.err
    town.remove("fibre-box", "page")
    gone = program(*drill, wrap=town.wrap("here"), cwd=tmp_path, env=own)
    assert (gone.code, "it does not answer from outside" in gone.out) == (1, True), gone.out + gone.err


def test_one_router_that_takes_rules_needs_no_hand(town: KernelTown, tmp_path: Path) -> None:
    """The box before it hands everything on; its daemon says that it has the public address."""
    all_on = 'add rule ip town pre iifname "wan" tcp dport 1-65535 dnat to 192.168.90.2\n'
    town.run("fibre-box", "nft", "-f", "-", stdin=all_on)
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    started = time.monotonic()
    one = Person(tmp_path, wrap=town.wrap("here"))
    one.answer("called [Home]:", "")
    adopt_the_film_box(one)
    one.answer("Answer [public]:", "")
    one.answer("came with changed?", "yes")
    one.answer("into own-router now?", "")
    one.answer("proven from outside?", "")
    one.until("same certificate as inside")
    one.answer("anything else?", "")
    one.until("All is done and proven.")
    assert one.ended() == 0, one.plain[-3000:]
    assert one.answers <= 12
    assert time.monotonic() - started < 60


def test_a_phone_on_the_same_network_answers_and_a_stranger_does_not(town: KernelTown, tmp_path: Path) -> None:
    """Over real sockets, with a client that is none of ours."""
    one = Person(tmp_path, wrap=town.wrap("here"), more=("--with-phone",))
    seen = one.until("of the first browser that knows the code.")
    url, code = re.search(r"http://10\.44\.7\.105:\d+/\w+", seen), re.search(r"Its code: (\d{6})", seen)
    assert url is not None
    assert code is not None

    def curl(path: str, body: str = "", jar: Path = tmp_path / "jar") -> str:
        more = ("-d", body) if body else ()
        return town.run("hub", "curl", "-s", "-m", "5", "-b", str(jar), "-c", str(jar), *more, f"{url[0]}{path}")

    wrong = f"{(int(code[1]) + 1) % 10**6:06}"
    assert json.loads(curl("/join", json.dumps({"code": wrong})))["left"] == 4
    assert json.loads(curl("/now"))["joined"] is False
    assert json.loads(curl("/join", json.dumps({"code": code[1]})))["joined"] is True
    assert json.loads(curl("/join", json.dumps({"code": code[1]}), tmp_path / "other"))["taken"] is True
    assert "frame-ancestors 'none'" in town.run("hub", "curl", "-si", "-m", "5", url[0])
    view = json.loads(curl("/now"))
    assert view["view"]["text"] == "What is this place called"
    assert json.loads(curl("/say", json.dumps({"number": view["number"], "word": "Quay"})))["ok"] is True
    one.until("Quay (on the phone)")
    one.until("(Enter: not known yet; none: it has none)")
    one.type("leave\n")
    assert one.ended() == 1
    assert 'title = "Quay"' in (tmp_path / "site.toml").read_text()


def test_a_phone_comes_in_by_a_tunnel_after_eight_answers(tmp_path: Path) -> None:
    """WireGuard on the device itself, behind a router that takes rules: the server is proven, then a real phone."""
    own = tmp_path / "own"
    own.mkdir()
    (tmp_path / "kernel").mkdir()
    with tunnel_town(tmp_path / "kernel", "w") as town:
        town.serve_page("film-page", "film-box", 443, "Race films")
        all_on = 'add rule ip town pre iifname "wan" udp dport 1-65535 dnat to 192.168.90.2\n'
        town.run("fibre-box", "nft", "-f", "-", stdin=all_on)
        town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
        started = time.monotonic()
        one = Person(own, columns=60, wrap=town.wrap("here"))  # too narrow for the code: a page holds it
        one.answer("called [Home]:", "")
        adopt_the_film_box(one)
        one.answer("Answer [public]:", "tunnel")
        one.answer("[phone]:", "")
        one.until("home-server")
        one.answer("into own-router now?", "")
        conf, profile = own / "home-server" / "home.conf", own / "phone.conf"
        conf.write_text(conf.read_text().replace("/etc/wireguard", str(conf.parent)))  # else it is copied there
        town.up("film-box", conf)
        one.until("(Enter: later)")
        held = re.search(r'download="phone.conf" href="data:[^,]*;base64,([^"]+)"', (own / "phone.html").read_text())
        assert held is not None
        profile.write_bytes(base64.b64decode(html.unescape(held[1])))
        town.up("phone", profile)
        try:
            town.wait_for("phone", "10.44.7.30", 443)
            dump = tmp_path / "dump.txt"
            dump.write_text(town.run("film-box", "wg", "show", "all", "dump"))
            one.answer("", str(dump))
            one.answer("anything else?", "")
            assert one.ended() == 0, one.plain[-3000:]
            assert one.answers <= 8
            assert time.monotonic() - started < 60
            assert "All is done and proven." in one.plain
        finally:
            town.down("phone", profile)
            town.down("film-box", conf)


def test_ipv6_alone_ends_in_an_opening_that_is_proven(tmp_path: Path) -> None:
    """The outermost router has no IPv4: the kernel's own firewall gets an opening to the device's address."""
    own = tmp_path / "own"
    own.mkdir()
    with kernel_town(tmp_path, mark="v") as town:
        town.add_ipv6()
        town.run("film-box", "ip", "address", "add", f"{HOST6}/64", "dev", "eth0", "nodad")
        town.run("film-box", "ip", "-6", "route", "add", "default", "via", "2001:db8:44:7::1")
        town.run("club-router", "nft", "-f", "-", stdin=WALL)
        town.serve_page("film-page", "film-box", 443, "Race films", six=True)
        one = Person(own, wrap=town.wrap("here"))
        one.answer("called [Home]:", "")
        one.answer("of own-router (Enter: not known yet; none: it has none):", "192.168.90.2")
        one.answer("enter rules on?", "yes")
        one.answer("[192.168.90.1/24]:", "")
        one.answer("of outer-box (Enter: not known yet; none: it has none):", "none")
        one.answer("Answer [letter]:", "ipv6")
        adopt_the_film_box(one)
        one.answer("Answer [public]:", "")
        one.answer("IPv6 address of", HOST6)
        one.answer("came with changed?", "yes")
        for _ in range(2):
            one.answer("Enter when it is typed.", "")
        one.answer("Answer [cable]:", "later")
        one.answer("anything else?", "")
        assert one.ended() == 1
        assert one.answers <= 16
        here = {"wrap": town.wrap("here"), "cwd": own, "env": {"XDG_STATE_HOME": str(own / "state")}}
        for opened in (False, True):
            if opened:
                hole = f"add rule ip6 wall through ip6 daddr {HOST6} tcp dport 443 accept\n"
                town.run("club-router", "nft", "-f", "-", stdin=hole)
            packed = program("visit", "pack", "--out", str(tmp_path / "visit.json"), "--force", **here)  # type: ignore[arg-type]
            assert packed.code == 0, packed.err
            away = {"wrap": town.wrap("rented"), "cwd": tmp_path}
            program("visit", "run", str(tmp_path / "visit.json"), "--force", "--yes", **away)  # type: ignore[arg-type]
            program("visit", "take", str(tmp_path / "visit-result.json"), **here)  # type: ignore[arg-type]
            ahead = program("next", **here)  # type: ignore[arg-type]
            assert (ahead.code == 0) == opened, ahead.out
        assert "All is done and proven." in ahead.out


def test_where_nothing_can_be_found_nothing_is_called_done(tmp_path: Path) -> None:
    own = {"XDG_STATE_HOME": str(tmp_path / "state")}
    alone = {"wrap": ("unshare", "-n"), "cwd": tmp_path, "env": own}
    told = program("guide", "--answer", "title=Boathouse", **alone)  # type: ignore[arg-type]
    assert (told.code, "Left to do: all of it." in told.err) == (1, True), told.err
    assert "All is done" not in told.err
    document = program("guide", "--json", "--answer", "title=Boathouse", **alone).document  # type: ignore[arg-type]
    assert (document["left"], document["commands"][0]["exit_code"]) == (1, 4)
    assert not (tmp_path / "site.toml").exists()
