"""why on kernel NAT: the same causes as in the lab, with a real STUN server and a provider's own NAT."""

from __future__ import annotations

import base64
import contextlib
import re
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.gateways.find import find_routers
from hooper.site.load import parse_site
from hooper.store.entries import LiveRule
from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, kernel_town
from support.program import Ran, hooper, valid

pytestmark = pytest.mark.real

NAMED = f"""
[names."boathouse.heronquay.example"]
line = "fibre"
[measure]
resolvers = ["{RENTED}"]
stun = ["{RENTED}:3478"]
[services.zone]
host = "hub"
speaks = "dns"
transport = "udp"
reach = "public"
"""
STUN = f'[measure]\nstun = ["{RENTED}:3478"]\n'
# what breaks the town, and the cause that must be found
FAULTS = {
    "rule missing outer": "rule-missing-outer",
    "rule missing inner": "rule-missing-inner",
    "wrong host": "rule-wrong-host",
    "host moved": "host-moved",
    "service stopped": "service-stopped",
    "provider's block": "port-blocked",
    "carrier NAT": "carrier-nat",
    "unplugged": "host-off",
    "moved, and still remembered": "host-moved",
    "moved 10 s before": "host-moved",
    "moved 40 s before": "host-moved",
    "firewall answers its network only": "host-filters-strangers",
    "firewall drops all": "host-filters-all",
    "no gateway": "host-without-way-out",
    "a wrong gateway": "host-without-way-out",
    "line down": "line-down",
    "inner WAN moved": "inner-wan-moved",
    "another device has its address": "address-taken",
    "large packets are lost on the way": "packets-too-large",
    "this computer goes out by another router": "own-line",
    "this computer's tunnel has the LAN's network": "own-tunnel",
}
# what neither a look from here nor a router's page decides
ON_THE_DEVICE = {
    "service stopped",
    "provider's block", "unplugged", "firewall answers its network only", "firewall drops all", "no gateway",
    "a wrong gateway", "line down", "another device has its address", "large packets are lost on the way",
}  # fmt: skip


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
        town.serve_stun("stun", "rented")
        town.serve_page("hub-other", "hub", 443, "Heating")
        yield town


@pytest.fixture
def town(built: KernelTown) -> Iterator[KernelTown]:
    """Everything as it should be; the site file knows the film box by its MAC."""
    mac = built.mac("film-box")
    text = SITE.replace("[lines.fibre]", STUN + "[lines.fibre]")
    text = text.replace('address = "10.44.7.30"', f'address = "10.44.7.30"\nmac = "{mac}"')
    (built.folder / "site.toml").write_text(text)
    built.clear()
    built.enter(hooper("worksheet", "--json", "--site", str(built.folder / "site.toml")).document["sheets"])
    if "film-page" not in built.servers:
        built.serve_page("film-page", "film-box", 443, "Race films")
    if "film-shell" not in built.servers:
        built.serve_shell("film-shell", "film-box", 22)
    yield built
    built.unblock()
    mend_ways(built)
    built.run("fibre-box", "ip", "link", "set", "wan", "up")
    built.carrier_nat(on=False)
    built.filter("film-box", "all")
    built.plug("film-box", on=True)
    built.move("film-box", "10.44.7.30")
    built.run("club-router", "ip", "address", "flush", "dev", "wan")
    built.run("club-router", "ip", "address", "add", "192.168.90.2/24", "dev", "wan")
    built.run("club-router", "ip", "route", "replace", "default", "via", "192.168.90.1")


def why(town: KernelTown, state: str, *arguments: str, deadline: str = "1.5") -> Ran:
    return hooper(
        "why", "film-page", "--from", "interface:usb0", "--json", "--deadline", deadline, "--state", state,
        "--site", str(town.folder / "site.toml"), *arguments, place=town.ns("here"),
    )  # fmt: skip


def causes(ran: Ran) -> list[tuple[str, str]]:
    return [(cause["code"], cause["certainty"]) for cause in valid("why", ran.document)["causes"]]


def wrong_host(town: KernelTown) -> None:
    rule = {"outside_ports": [443, 443], "target_address": "10.44.7.50", "target_ports": [443, 443]}
    town.remove("club-router", "film-page")
    named = {**rule, "service": "film-page", "transport": "tcp", "sources": []}
    town.enter([{"gateway": "club-router", "rules": [named]}])


def moved_before(town: KernelTown, then: Callable[..., None], *arguments: object) -> None:
    town.move("film-box", "10.44.7.132", forgotten=False)
    then(*arguments)


def remembered(town: KernelTown) -> None:
    """The neighbours' entries as they are once they have not been confirmed for a while."""
    for neighbour, interface in (("here", "lan0"), ("club-router", "lan")):
        entry = ("10.44.7.30", "lladdr", town.mac("film-box"), "dev", interface, "nud", "stale")
        town.run(neighbour, "ip", "neigh", "replace", *entry)


SWALLOWS = "add table ip small\nadd chain ip small out { type filter hook output priority 0; }\n"
SWALLOWS += "add rule ip small out icmp type destination-unreachable drop\n"


def taken(town: KernelTown) -> None:
    """Somebody's device has come with its address fixed, and the film box is off."""
    town.plug("film-box", on=False)
    town.run("hub", "ip", "address", "add", "10.44.7.30/24", "dev", "eth0")
    for neighbour, interface in (("here", "lan0"), ("club-router", "lan")):
        town.run(neighbour, "ip", "neigh", "flush", "dev", interface)


def lose_large(town: KernelTown) -> None:
    """The way out is narrower than the devices think, and nobody is told so (RFC 2923 section 2.1)."""
    town.run("fibre-box", "nft", "-f", "-", stdin=SWALLOWS)
    town.run("fibre-box", "ip", "link", "set", "wan", "mtu", "576")
    town.run("inet", "ip", "link", "set", "tofibre", "mtu", "576")


def swallow_lan(town: KernelTown) -> None:
    """A VPN of work that uses the same network as the boathouse."""
    town.run("here", "ip", "tuntap", "add", "dev", "work0", "mode", "tun")
    town.run("here", "ip", "address", "add", "10.99.0.2/24", "dev", "work0")
    town.run("here", "ip", "link", "set", "work0", "up")
    town.run("here", "ip", "route", "add", "10.44.7.0/25", "dev", "work0")


def mend_ways(town: KernelTown) -> None:
    town.run("here", "ip", "route", "replace", "default", "via", "10.44.7.1", "dev", "lan0", "metric", "100")
    for name, command in (
        ("hub", ("ip", "address", "del", "10.44.7.30/24", "dev", "eth0")),
        ("here", ("ip", "link", "del", "work0")),
        ("fibre-box", ("nft", "delete", "table", "ip", "small")),
        ("fibre-box", ("ip", "link", "set", "wan", "mtu", "1500")),
        ("inet", ("ip", "link", "set", "tofibre", "mtu", "1500")),
    ):
        with contextlib.suppress(AssertionError):
            town.run(name, *command)


def break_it(town: KernelTown, fault: str) -> None:
    deeds: dict[str, Callable[[], object]] = {
        "rule missing outer": lambda: town.remove("fibre-box", "film-page"),
        "rule missing inner": lambda: town.remove("club-router", "film-page"),
        "wrong host": lambda: wrong_host(town),
        "host moved": lambda: town.move("film-box", "10.44.7.132"),
        "service stopped": lambda: town.stop("film-page"),
        "provider's block": lambda: town.block(443),
        "carrier NAT": lambda: town.carrier_nat(on=True),
        "unplugged": lambda: town.plug("film-box", on=False),
        "moved, and still remembered": lambda: town.move("film-box", "10.44.7.132", forgotten=False),
        "moved 10 s before": lambda: moved_before(town, time.sleep, 10),
        "moved 40 s before": lambda: moved_before(town, remembered, town),
        "firewall answers its network only": lambda: town.filter("film-box", "lan"),
        "firewall drops all": lambda: town.filter("film-box", "nobody"),
        "no gateway": lambda: town.gateway("film-box", None),
        "a wrong gateway": lambda: town.gateway("film-box", "10.44.7.250"),
        "line down": lambda: town.run("fibre-box", "ip", "link", "set", "wan", "down"),
        "inner WAN moved": lambda: (
            town.run("club-router", "ip", "address", "flush", "dev", "wan"),
            town.run("club-router", "ip", "address", "add", "192.168.90.77/24", "dev", "wan"),
            town.run("club-router", "ip", "route", "replace", "default", "via", "192.168.90.1"),
            town.run("fibre-box", "ip", "neigh", "flush", "all"),
        ),
        "another device has its address": lambda: taken(town),
        "large packets are lost on the way": lambda: lose_large(town),
        "this computer goes out by another router": lambda: town.run(
            "here", "ip", "route", "replace", "default", "via", "10.44.7.50", "dev", "lan0", "metric", "100"
        ),
        "this computer's tunnel has the LAN's network": lambda: swallow_lan(town),
    }
    deeds[fault]()


def deciding_step(town: KernelTown, asked: str) -> tuple[str, ...]:
    """What a person reads off the page that is asked for."""
    if "--wan" in asked:
        gateway = asked.split("--wan ")[1].split("=")[0]
        shown = town.run(gateway, "ip", "-4", "-o", "address", "show", "dev", "wan")
        return ("--wan", f"{gateway}={shown.split('inet ')[1].split('/')[0]}")
    if "--at" in asked:
        shown = town.run("film-box", "ip", "-4", "-o", "address", "show", "dev", "eth0")
        return ("--at", shown.split("inet ")[1].split("/")[0])
    gateway = asked.split("--rule ")[1].split("=")[0]
    found = re.search(r"dport 443 dnat to ([0-9.]+)", town.run(gateway, "nft", "list", "chain", "ip", "town", "pre"))
    return ("--rule", f"{gateway}={found[1] if found else 'missing'}")


def test_without_a_fault_all_is_well(town: KernelTown, tmp_path: Path) -> None:
    ran = why(town, str(tmp_path))
    assert (causes(ran), ran.document["ok"], ran.code) == ([], True, 0)
    public = next(step for step in ran.document["steps"] if step["step"] == "public-address")
    assert PUBLIC in public["evidence"][0]
    assert "STUN" in public["evidence"][0]
    host = ran.document["steps"][0]
    assert (host["state"], "with the planned MAC" in host["evidence"][0]) == ("ok", True)


@pytest.mark.parametrize("fault", FAULTS)
def test_each_fault_comes_to_its_cause(town: KernelTown, tmp_path: Path, fault: str) -> None:
    assert why(town, str(tmp_path / "before")).code == 0, "the device is known to its neighbours"
    break_it(town, fault)
    state = str(tmp_path / "after")
    told: tuple[str, ...] = ()
    for _ in range(6):
        ran = why(town, state, *told)
        assert FAULTS[fault] in dict(causes(ran)), causes(ran)
        certain = [code for code, certainty in causes(ran) if certainty == "certain"]
        wanted = [cause["would_make_certain"] or "" for cause in ran.document["causes"]]
        asked = next((text for text in wanted if any(option in text for option in ("--wan", "--rule", "--at"))), None)
        if certain or asked is None or fault in ON_THE_DEVICE:
            break
        told = (*told, *deciding_step(town, asked))
    assert ran.code in (1, 4)
    assert certain == ([FAULTS[fault]] if fault not in ON_THE_DEVICE else certain)
    assert set(certain) <= {FAULTS[fault]}


def test_a_stale_name_fails_who_types_it(town: KernelTown, tmp_path: Path) -> None:
    """The line is sound, and the name that the card shows leads elsewhere: no command calls that well."""
    town.serve_names("rented", base64.b64encode(b"heron" * 6).decode())
    path = town.folder / "named.toml"
    path.write_text((town.folder / "site.toml").read_text().replace(STUN, "") + NAMED)
    try:
        ran = why(town, str(tmp_path), "--site", str(path))
        checked = hooper(
            "check", "film-page", "--from", "interface:usb0", "--site", str(path), "--state", str(tmp_path), "--json",
            place=town.ns("here"),
        )  # fmt: skip
    finally:
        town.stop("names")
    assert causes(ran) == [("name-stale", "certain")]
    (result,) = checked.document["results"]
    assert (checked.code, result["ok"], result["problems"]) == (1, False, ["name-stale"])


def test_a_rule_for_udp_that_is_gone(town: KernelTown, tmp_path: Path) -> None:
    path = town.folder / "named.toml"
    path.write_text((town.folder / "site.toml").read_text().replace(STUN, "") + NAMED)
    town.clear()
    town.enter(hooper("worksheet", "fibre-box", "--json", "--site", str(path)).document["sheets"])
    town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
    town.serve_names("hub", base64.b64encode(b"heron" * 6).decode())
    where = ("--site", str(path), "--state", str(tmp_path), "--json")

    def ask() -> Ran:
        place = ("why", "zone", "--from", "interface:usb0", "--deadline", "1.5")
        return hooper(*place, *where, place=town.ns("here"))

    try:
        unseen = ask()
        opened = hooper("router", "open", "zone", *where, place=town.ns("here"))
        well = ask()
        town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")  # it forgets all
        gone = ask()
    finally:
        town.stop("igd-club-router")
        town.stop("names")
    assert "rule-missing-inner" in dict(causes(unseen))
    assert opened.code == 0, opened.err
    assert (well.document["ok"], causes(well)) == (True, [])  # a name server is asked in its own protocol
    assert causes(gone) == [("rule-lost", "certain")]


def test_a_router_that_was_told_to_show_a_public_address(town: KernelTown, tmp_path: Path) -> None:
    """Router software has a setting for it; another NAT stands before it all the same."""
    town.serve_router("club-router", secure=False, more="ext_ip=11.22.33.99")
    try:
        site = ("--site", str(town.folder / "site.toml"), "--state", str(tmp_path), "--json")
        for _ in range(3):  # a kernel answers so many hops a second and no more, and others have just asked it
            surveyed = hooper("survey", *site, place=town.ns("here")).document
            if surveyed["situation"] != "unclear":
                break
        well = why(town, str(tmp_path / "well"))
        town.remove("fibre-box", "film-page")
        gone = why(town, str(tmp_path / "gone"))
    finally:
        town.stop("igd-club-router")
    assert (surveyed["situation"], surveyed["can_forward"]) == ("several-nats", True)
    assert any("cannot be its own" in remark for remark in surveyed["remarks"]), surveyed
    assert (well.code, causes(well)) == (0, [])
    assert "rule-missing-outer" in dict(causes(gone))
    assert {code for code, certainty in causes(gone) if certainty == "certain"} <= {"rule-missing-outer"}


def check(town: KernelTown, state: Path, code: int) -> dict[str, Any]:
    """The film page from the phone's mobile data."""
    ran = hooper(
        "check", "film-page", "--from", "interface:usb0", "--json", "--deadline", "3", "--state", str(state),
        "--site", str(town.folder / "site.toml"), place=town.ns("here"),
    )  # fmt: skip
    assert ran.code == code, ran.out
    (result,) = valid("check", ran.document)["results"]
    return dict(result)


def test_a_rule_that_leads_to_another_device_with_the_same_key(town: KernelTown, tmp_path: Path) -> None:
    """Their maker gave both one certificate: only the router's own table tells that it is the other one."""
    site = parse_site((town.folder / "site.toml").read_bytes(), "site.toml").site
    town.serve_page("twin", "hub", 9443, "Race films", pair=(town.folder / "film-page" / "pair.pem").read_text())
    town.serve_router("club-router", secure=False, more="ext_ip=11.22.33.98")

    async def enter() -> None:
        found = await find_routers(town.door("here"), site, ["club-router"], 5.0)
        await found.routers["club-router"].add(LiveRule("tcp", 443, "10.44.7.50", 9443, "", "by hand", True, 0))

    try:
        assert check(town, tmp_path / "well", 0)["identity"] == "proven"
        town.remove("club-router", "film-page")
        anyio.run(enter)
        wrong = check(town, tmp_path / "well", 1)  # its key was kept, and does not do
        why_wrong = causes(why(town, str(tmp_path / "why"), deadline="3"))
    finally:
        town.stop("igd-club-router")
        town.run("club-router", "nft", "delete", "table", "inet", "filter")
        town.stop("twin")
    assert (wrong["verdict"], wrong["identity"]) == ("mismatched", "other")
    assert "club-router's rule for it leads to 10.44.7.50:9443 (hub)" in wrong["detail"]
    assert why_wrong == [("rule-wrong-host", "certain")]


def test_another_device_at_the_planned_address(town: KernelTown, tmp_path: Path) -> None:
    """With another MAC and another certificate than a moment before: it passes neither now nor the next time."""
    assert check(town, tmp_path, 0)["identity"] == "proven"
    mac = town.mac("film-box")
    town.stop("film-page")
    town.run("film-box", "ip", "link", "set", "dev", "eth0", "address", "02:00:5e:99:99:77")
    town.gateway("film-box", "10.44.7.1")
    town.run("here", "ip", "neigh", "flush", "dev", "lan0")
    town.run("club-router", "ip", "neigh", "flush", "dev", "lan")
    town.serve_page("film-page", "film-box", 443, "Race films", anew=True)
    try:
        first, second = check(town, tmp_path, 1), check(town, tmp_path, 1)
    finally:
        town.run("film-box", "ip", "link", "set", "dev", "eth0", "address", mac)
        town.gateway("film-box", "10.44.7.1")
        town.run("here", "ip", "neigh", "flush", "dev", "lan0")
        town.run("club-router", "ip", "neigh", "flush", "dev", "lan")
    for wrong in (first, second):
        assert (wrong["verdict"], wrong["problems"]) == ("mismatched", ["address-taken"])
    assert check(town, tmp_path, 1)["problems"] == ["identity-changed"]  # its MAC again, and not its certificate


def test_survey_by_a_real_stun_server(town: KernelTown, tmp_path: Path) -> None:
    def survey(*arguments: str) -> Ran:
        site = ("--site", str(town.folder / "site.toml"), "--state", str(tmp_path), "--json")
        ran = hooper("survey", *site, *arguments, place=town.ns("here"))
        valid("survey", ran.document)
        return ran

    assert survey().document["public_address"]["ipv4"] == PUBLIC
    assert survey("--wan", f"fibre-box={PUBLIC}").document["situation"] == "several-nats"
    town.carrier_nat(on=True)
    ran = survey("--wan", "fibre-box=100.64.44.9")
    assert (ran.document["situation"], ran.code) == ("carrier-nat", 1)
