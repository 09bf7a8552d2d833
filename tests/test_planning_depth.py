"""Planning in depth: lines, addresses, IPv6, everything inward, who may open, addresses to propose, tables, sheets."""

from __future__ import annotations

import json
from dataclasses import replace
from ipaddress import IPv4Address, IPv4Network
from itertools import islice, product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper import deeds
from hooper.check.targets import outer_targets
from hooper.planning.against import BadTable, compare, read_table
from hooper.planning.audit import audit
from hooper.planning.device_sheets import device_sheets
from hooper.planning.free_addresses import COMMON, free_addresses, free_prefix
from hooper.planning.free_ports import OuterSide, transports
from hooper.planning.kept_back import NotReady, kept_back, refusal, refusals
from hooper.planning.letter import letters
from hooper.planning.openers import Protocol, Target, entering, may_open
from hooper.planning.topology import Topology
from hooper.planning.typed import outside_port
from hooper.planning.unfolded import side_doors
from hooper.planning.values import EVERYTHING, Plan
from hooper.planning.worksheet import changes_since, client_lines, labels, make_sheets, sheet_mark
from hooper.ports import Ports
from hooper.report.chain import as_svg, as_tree
from hooper.site.load import parse_site
from support.program import BOATHOUSE
from support.sites import ONE_BOX, TODAY, plan, site
from test_planning import HUB6, TWO_BOXES, form, service

TWO_LINES = ONE_BOX.replace('line = "fibre"', 'line = ["fibre", "mobile"]') + "[lines.mobile]\n"
TWO_WAYS = """\
version = 1
[lines.fibre]
situation = "carrier-nat"
[lines.mobile]
[gateways.fibre-box]
line = "fibre"
lan = "192.168.90.1/24"
[gateways.mobile-box]
line = "mobile"
lan = "192.168.91.1/24"
[gateways.own]
behind = ["fibre-box", "mobile-box"]
wan = ["192.168.90.2", "192.168.91.2"]
lan = "10.44.7.1/24"
[hosts.hub]
address = "10.44.7.50"
[hosts.outer]
address = "192.168.90.70"
"""


def ways(text: str, key: str = "s") -> list[tuple[str, str, tuple[int, int] | None, str, tuple[int, int] | None]]:
    """Gateway, line, outside ports, target and its ports of a service's rules."""
    return [
        (rule.gateway, rule.line, rule.outside_ports, rule.target_address, rule.target_ports)
        for rule in plan(text).forwards
        if rule.service == key
    ]


# --- lines and addresses


def test_a_service_takes_its_line_or_the_first_that_can_be_forwarded_to() -> None:
    assert ways(TWO_LINES + service("port = 9"))[0][1] == "fibre"
    assert ways(TWO_LINES + service('port = 9\nline = "mobile"'))[0][1] == "mobile"
    shared = TWO_LINES.replace('"dynamic"', '"100.64.0.9"')
    assert ways(shared + service("port = 9"))[0][1] == "mobile"
    assert ways(TWO_WAYS + service("port = 9")) == [
        ("mobile-box", "mobile", (9, 9), "192.168.91.2", (9, 9)),
        ("own", "mobile", (9, 9), "10.44.7.50", (9, 9)),
    ]
    (only,) = ways(TWO_WAYS + service("port = 9").replace('"hub"', '"outer"'))
    assert only == ("fibre-box", "fibre", (9, 9), "192.168.90.70", (9, 9))  # its only way, with an error on the line
    assert not plan(TWO_WAYS + service("port = 9").replace('"hub"', '"outer"')).feasible


def test_the_same_port_on_two_lines_is_no_clash() -> None:
    text = (
        TWO_LINES
        + service("port = 9\noutside_port = 9")
        + service('port = 9\noutside_port = 9\nline = "mobile"', key="t")
    )
    assert plan(text).feasible
    behind = TWO_WAYS.replace('situation = "carrier-nat"\n', "")
    both = service("port = 9\noutside_port = 9") + service('port = 9\noutside_port = 9\nline = "mobile"', key="t")
    assert plan(behind + both).feasible


def test_two_public_addresses_share_a_port_and_the_link_between_the_boxes_gets_another() -> None:
    text = TWO_BOXES.replace('"dynamic"', '["11.22.33.1", "11.22.33.2"]') + '[hosts.b]\naddress = "10.44.7.51"\n'
    text += service("port = 443\noutside_port = 443")
    text += service('port = 443\noutside_port = 443\noutside_address = "11.22.33.2"', key="t").replace('"hub"', '"b"')
    made = plan(text)
    assert made.feasible
    outer = {rule.service: rule for rule in made.forwards if rule.gateway == "outer"}
    assert {key: rule.outside_address for key, rule in outer.items()} == {"s": "11.22.33.1", "t": "11.22.33.2"}
    assert outer["s"].target_ports != outer["t"].target_ports
    assert outer["s"].target_ports == (443, 443)


def test_other_ip_protocols_go_by_number_where_every_gateway_can() -> None:
    text = form(ONE_BOX, "protocols = true") + service("transport = 47")
    (rule,) = plan(text).forwards
    assert (rule.transport, rule.outside_ports, rule.target_ports) == ("47", None, None)
    twice = plan(text + service("transport = 47", key="t"))
    assert [f.code for f in twice.findings if f.severity == "error"] == ["port-clash"]
    assert len(twice.forwards) == 1
    for wrong in ("transport = 6", "transport = 256", "transport = 47\nport = 9", 'transport = "icmp"'):
        with pytest.raises(Exception, match=r"."):
            parse_site((ONE_BOX + service(wrong)).encode(), "s")


def test_a_chosen_port_avoids_what_is_blocked_kept_and_taken() -> None:
    text = form(ONE_BOX, 'own_ports = ["tcp 10443"]').replace(
        "[gateways", 'blocked = ["tcp 443", "tcp 20443"]\n[gateways', 1
    )
    made = plan(text + service('speaks = "https"') + service("port = 1\noutside_port = 30443", key="t"))
    assert {rule.service: rule.outside_ports for rule in made.forwards} == {"s": (40443, 40443), "t": (30443, 30443)}
    assert {f.code for f in made.findings} >= {"port-chosen", "port-in-url"}
    both = plan(ONE_BOX + service('port = "70-75"\ntransport = "both"') + service("port = 73", key="a"))
    assert {rule.service: rule.outside_ports for rule in both.forwards} == {"a": (73, 73), "s": (10070, 10075)}


def test_a_pinhole_in_each_firewall_on_the_way_and_no_port_changes() -> None:
    inner = HUB6.replace('line = "fibre"', 'behind = "outer"\nwan = "192.168.90.2"')
    text = (
        inner + '[gateways.outer]\nline = "fibre"\nlan = "192.168.90.1/24"\n' + service("port = 9\noutside_port = 99")
    )
    holes = [rule for rule in plan(text).forwards if rule.kind == "pinhole"]
    assert [(h.gateway, h.outside_address, h.outside_ports, h.target_ports) for h in holes] == [
        (key, "2001:db8:44:7::50", (9, 9), (9, 9)) for key in ("outer", "box")
    ]
    only6 = plan(text + 'family = "ipv6"\n')
    assert {rule.kind for rule in only6.forwards} == {"pinhole"}
    limited = plan(text + 'sources = ["198.51.100.0/24"]\n')
    assert not [rule for rule in limited.forwards if rule.kind == "pinhole"]  # nobody may come by IPv6


def test_over_ipv6_a_service_comes_by_the_line_whose_prefix_its_host_has() -> None:
    text = HUB6.replace('line = "fibre"', 'line = ["mobile", "fibre"]') + "[lines.mobile]\n" + service("port = 9")
    assert {(rule.kind, rule.line) for rule in plan(text).forwards} == {("forward", "mobile"), ("pinhole", "fibre")}
    held = plan(text + 'line = "mobile"\n')
    assert {(rule.kind, rule.line) for rule in held.forwards} == {("forward", "mobile"), ("pinhole", "mobile")}


def test_everything_goes_inward_as_one_entry() -> None:
    text = TWO_BOXES + 'everything_to = "box"\nform.everything = true\nform.translate = false\n'
    text += '[hosts.o]\naddress = "192.168.90.9"\n'
    text += service("port = 9\noutside_port = 99") + service("port = 8", key="t").replace('"hub"', '"o"')
    made = plan(text)
    outer = [rule for rule in made.forwards if rule.gateway == "outer"]
    assert [(r.service, r.outside_ports, r.target_address) for r in outer] == [
        ("t", (8, 8), "192.168.90.9"),
        (EVERYTHING, (1, 65535), "192.168.90.2"),
    ]
    assert ways(text) == [("box", "fibre", (99, 99), "10.44.7.50", (9, 9))]
    file = site(text)
    sheet = make_sheets(Topology(file.site), made)[0]
    assert sheet.gateway == "outer"
    assert any("everything else" in note for note in sheet.notes)


def test_sources_are_never_widened() -> None:
    for text in (TWO_BOXES, HUB6):
        made = plan(text + service('port = 9\nsources = ["198.51.100.0/24", "2001:db8:9::/48"]'))
        assert made.forwards == ()
        (found,) = (f for f in made.findings if f.code == "sources-not-kept")
        assert "tunnel" in str(found.remedy)


@given(
    st.lists(st.tuples(st.sampled_from(["tcp", "udp", "both"]), st.integers(1, 65535), st.integers(1, 50)), max_size=20)
)
def test_a_choice_is_always_open_and_nobodys(takes: list[tuple[str, int, int]]) -> None:
    side = OuterSide()
    taken: set[tuple[str, int]] = set()
    for number, (transport, first, length) in enumerate(takes):
        choice = next(side.choices(transport, Ports(first, min(first + length - 1, 65535))), None)
        if choice is None:
            continue
        ports = {(one, port) for one in (("tcp", "udp") if transport == "both" else (transport,))
                 for port in range(choice[0], choice[1] + 1)}  # fmt: skip
        assert not ports & taken
        assert side.owner(transport, choice) is None
        side.take(f"s{number}", transport, choice)
        assert side.owner(transport, choice) is not None
        taken |= ports


# --- who may open what for whom


def test_who_may_open_what_for_whom() -> None:
    """As observed: for oneself always; for others IGD where the router is set so; NAT-PMP never; PCP hardly ever."""
    protocols: tuple[Protocol, ...] = ("igd", "pcp", "natpmp")
    targets: tuple[Target, ...] = ("own", "other", "beyond")
    said = {
        (protocol, target, others): may_open(protocol, target, opens_for_others=others).possible
        for protocol, target, others in product(protocols, targets, (True, False, None))
    }
    for protocol, others in product(protocols, (True, False, None)):
        assert (said[protocol, "own", others], said[protocol, "beyond", others]) == ("yes", "no")
    assert [said["igd", "other", o] for o in (True, False, None)] == ["yes", "no", "unknown"]
    assert [said["pcp", "other", o] for o in (True, False, None)] == ["unknown", "no", "unknown"]
    assert {said["natpmp", "other", o] for o in (True, False, None)} == {"no"}


def test_how_each_rule_can_be_put_there() -> None:
    text = TWO_BOXES.replace('lan = "10.44.7.1/24"', 'lan = "10.44.7.1/24"\nopens_for_others = false')
    text = text.replace("version = 1\n", 'version = 1\nsite.here = "pc"\n') + '[hosts.pc]\naddress = "10.44.7.9"\n'
    text += service("port = 9") + service("port = 8", key="mine").replace('"hub"', '"pc"')
    rows = {(row.gateway, row.service): row for row in entering(Topology(site(text).site), plan(text))}
    # the outer box sees its inner router asking, for that router's own address
    assert (rows["outer", "s"].from_here, rows["outer", "s"].from_device) == ("yes", "yes")
    assert (rows["box", "s"].from_here, rows["box", "s"].from_device) == ("no", "yes")
    assert rows["box", "mine"].from_here == "yes"
    hand = text.replace("opens_for_others = false", 'control = "hand"')
    assert {row.protocol for row in entering(Topology(site(hand).site), plan(hand)) if row.gateway == "box"} == {None}
    from_outside = text.replace('"10.44.7.9"', '"192.168.90.9"')
    rows = {(row.gateway, row.service): row for row in entering(Topology(site(from_outside).site), plan(from_outside))}
    assert rows["box", "s"].from_here == "no"  # it is not behind that box


# --- addresses and prefixes to propose


def test_free_addresses_are_nobodys() -> None:
    file = site(TWO_BOXES)
    found = list(free_addresses(file.site, "outer"))
    assert found[0] == IPv4Address("192.168.90.200")  # the pool is .20 to .199
    assert len(found) == 254 - 180 - 2  # without pool, gateway and the inner router
    unknown = list(islice(free_addresses(site(ONE_BOX.replace("pool", "#")).site, "box"), 2))
    assert unknown == [IPv4Address("10.44.7.254"), IPv4Address("10.44.7.253")]
    assert (
        list(free_addresses(site(ONE_BOX.replace("10.44.7.1/24", "10.44.7.49/30").replace("pool", "#")).site, "box"))
        == []
    )


@given(st.integers(16, 28))
def test_a_free_prefix_meets_nothing(length: int) -> None:
    file = site(TWO_BOXES)
    prefix = free_prefix(file.site, length)
    assert prefix == free_prefix(file.site, length)
    assert not any(prefix.overlaps(other) for other in (*COMMON, *(g.lan.network for g in file.site.gateways.values())))
    assert prefix.subnet_of(IPv4Network("10.0.0.0/8"))


def test_macs_in_all_common_spellings() -> None:
    for text in (
        "02:00:5E:44:07:41",
        "02-00-5e-44-07-41",
        "0200.5e44.0741",
        "02005E440741",
        "2:0:5e:44:7:41",
        "0200:5e44:0741",
    ):
        assert site(ONE_BOX + f'mac = "{text}"').site.hosts["hub"].mac == "02:00:5e:44:07:41"


# --- readiness and audit


def test_what_is_kept_back_until_it_is_ready() -> None:
    def kept(more: str, ready: str = "ready.default_password_changed = true\n") -> list[str]:
        text = ONE_BOX + ready + "form = 0\n".replace("form = 0\n", "") + service(more)
        text = text.replace("[hosts", "form.sources = true\n[hosts", 1)
        found = kept_back(site(text).site, plan(text))
        return [item.code for items in found.values() for item in items]

    assert kept('speaks = "https"') == []
    assert kept('speaks = "https"', "") == ["default-password"]
    assert kept('speaks = "https"', "ready.default_password_changed = false\n") == ["default-password"]
    assert kept('speaks = "wireguard"', "") == []  # it has no password
    for speaks, code in (("http", "clear-text-open"), ("rdp", "desktop-open"), ("smb", "sharing-open")):
        assert kept(f'speaks = "{speaks}"') == [code]
        assert kept(f'speaks = "{speaks}"\nsources = ["198.51.100.0/24"]') == []
        taken = f'accepted = {{ finding = "{code}", reason = "r", until = %s }}'
        assert kept(f'speaks = "{speaks}"\n' + taken % "2026-05-01") == []
        assert kept(f'speaks = "{speaks}"\n' + taken % "2026-04-30") == [code]


def test_who_is_kept_back_is_told_all_that_stands_against_it() -> None:
    text = ONE_BOX.replace("[hosts", "form.sources = true\n[hosts", 1) + service('speaks = "rdp"')
    file, made = site(text).site, plan(text)
    (found,) = kept_back(file, made).values()
    assert len(found) == 2
    (told,) = refusals(file, made).values()
    assert told.reason == "; ".join(str(item.message) for item in found)
    assert told.message == f"not entered: {told.reason}"
    first, *more = str(told.remedy).split(" If it has to be so, give ")
    assert first == str(found[0].remedy)
    assert more == [f"{deeds.ACCEPT}: it is written into the site file with an end."]
    assert "If it has to be so" not in str(refusal([replace(found[0], code="open-by-another")]).remedy)
    assert str(NotReady("it is open", "Shut it.", "desk").message) == "desk: not entered: it is open"


def test_the_audit_puts_the_gravest_first() -> None:
    text = ONE_BOX + "ready.default_password_changed = true\n"
    text += service('speaks = "https"') + service('speaks = "smb"', key="z") + service("port = 9", key="a")
    text += service(
        'speaks = "rtsp"\naccepted = { finding = "clear-text-open", reason = "r", until = 2027-01-01 }', key="c"
    )
    text += service('speaks = "ssh"', key="t", reach="tunnel")
    found = audit(Topology(site(text).site), plan(text), TODAY)
    assert [(row.service, row.risk, row.accepted) for row in found.exposed] == [
        ("z", "high", False), ("a", "medium", False), ("s", "low", False), ("c", "high", True)
    ]  # fmt: skip
    assert [(one.service, one.ended) for one in found.accepted] == [("c", False)]
    assert found.not_exposed == ("t",)


# --- a table against the plan


def test_a_table_is_held_against_the_plan() -> None:
    text = ONE_BOX + service("port = 443") + service('port = "500-502"\ntransport = "both"', key="r")
    text += service("port = 80\noutside_port = 8080", key="gone") + service("port = 22", key="moved")
    table = (
        "Name;Protocol;External Port;Internal IP;Internal Port\n"
        "web;TCP;443;10.44.7.50;443\n"
        + "".join(f"r{n};TCP/UDP;{n};10.44.7.50;\n" for n in (500, 501, 502))
        + "ssh;TCP;22;10.44.7.51;22\nold;UDP;9999;10.44.7.9;9999\n"
    )
    found = compare(plan(text).forwards, read_table(table, "t.csv"), "box")
    assert [(row.service, row.state) for row in found] == [
        ("moved", "different"), ("s", "same"), ("r", "same"), ("gone", "missing"), (None, "unknown")
    ]  # fmt: skip
    assert found[0].found == "10.44.7.51:22"
    off = read_table("outside port,inside address,enabled\n443,10.44.7.50,no\n", "t")
    assert compare(plan(text).forwards, off, "box")[1].state == "different"
    wide = read_table("outside port,inside address\n1-60000,10.44.7.50\n", "t")
    assert compare(plan(text).forwards, wide, "box")[1].state == "different"


def test_json_tables_of_every_shape_are_read() -> None:
    row = {"transport": "tcp", "outside_ports": [443, 443], "target_address": "10.44.7.50", "target_ports": [443, 443]}
    for data in (
        [row],
        {"rules": [row]},
        {"gateways": [{"gateway": "box", "rules": [row]}]},
        {"a": {"b": [row, {"x": 1}]}},
    ):
        (read,) = read_table(json.dumps(data), "t.json")
        assert (read.outside, read.target, read.inside, read.transport) == ((443, 443), "10.44.7.50", (443, 443), "tcp")


@pytest.mark.parametrize(
    "table",
    ["", "a,b\n1,2\n", "outside port,inside address\nx,10.0.0.1\n", "outside port,inside address\n70000,10.0.0.1\n",
     "outside port,inside address\n80,nowhere\n", "outside port,inside address,protocol\n80,10.0.0.1,icmp\n",
     "outside port,inside address,inside port\n80-90,10.0.0.1,80-85\n", "[", "{}", "[" * 100_000, '[{"port": 1}]',
     "outside port,inside address\n80\n", '[{"port": [1,"x"], "ip": "10.0.0.1"}]'],
)  # fmt: skip
def test_a_table_that_cannot_be_read_is_said_with_its_place(table: str) -> None:
    with pytest.raises(BadTable) as caught:
        read_table(table, "t.csv")
    assert caught.value.where is not None


@given(st.text(max_size=200) | st.text("[]{},:;\"'0123456789port ip\n", max_size=200))
def test_any_text_is_a_table_or_a_bad_one(text: str) -> None:
    try:
        read_table(text, "t")
    except BadTable as exc:
        assert exc.where is not None


# --- sheets


def test_device_sheets_name_everything_a_network_page_asks_for() -> None:
    file = site(BOATHOUSE)
    sheets = {sheet.device: sheet for sheet in device_sheets(Topology(file.site))}
    hub, router = sheets["hub"], sheets["club-router"]
    assert (hub.address, hub.mask, hub.gateway, hub.dns) == (
        "10.44.7.50", "255.255.255.0", "10.44.7.1", ("10.44.7.1", "192.0.2.53")
    )  # fmt: skip
    assert [one.base_url for one in hub.services] == ["https://boathouse.heronquay.example:8443/"]
    assert "hang" in hub.notes[0]
    assert "http://10.44.7.50/" in hub.notes[0]
    assert (router.outer_side, router.address, router.gateway) == (True, "192.168.90.2", "192.168.90.1")
    assert [tick.said for tick in hub.ticks][:3] == [True, True, None]


def test_the_letter_names_the_rules_and_the_alternatives() -> None:
    file = site(BOATHOUSE)
    (letter,) = letters(file.site, make_sheets(Topology(file.site), plan(BOATHOUSE)))
    text = "\n".join(letter.paragraphs)
    assert letter.gateway == "fibre-box"
    for words in ("TCP port 443 to 192.168.90.2", "UDP port 51820", "bridge mode", "carrier NAT"):
        assert words in text


def test_what_changed_since_the_last_sheet() -> None:
    before = plan(ONE_BOX + service("port = 9") + service("port = 8", key="t")).forwards
    after = plan(ONE_BOX.replace("7.50", "7.51") + service("port = 9") + service("port = 7", key="u")).forwards
    found = changes_since("box", before, after)
    assert [(one.change, one.rule.service) for one in found] == [("remove", "t"), ("alter", "s"), ("enter", "u")]
    assert found[1].was is not None
    assert found[1].was.target_address == "10.44.7.50"
    assert changes_since("box", before, before) == []


def test_a_sheet_that_left_a_service_out_is_another_one_once_it_is_on_it() -> None:
    made, own = plan(BOATHOUSE), site(BOATHOUSE).site
    marked = sheet_mark(own, made, "club-router")
    assert sheet_mark(own, made, "club-router", without=["nobody"]) == marked
    assert sheet_mark(own, made, "club-router", without=["desk"]) != marked
    tunnel = '[tunnels.oars]\nservice = "gate"\nsubnet = "10.88.44.0/24"\n'
    assert sheet_mark(site(BOATHOUSE + tunnel).site, made, "club-router") != marked  # it has a route to enter now


def test_labels_fit_the_page_and_differ() -> None:
    rules = [rule for rule in plan(BOATHOUSE).forwards if rule.gateway == "fibre-box"]
    for length in (1, 3, 8):
        for dashes in (True, False):
            made = labels(rules, length, dashes=dashes)
            assert len(set(made)) == len(rules) or length == 1
            assert all(len(label) <= length or length == 1 for label in made)
            assert dashes or all(label.isalnum() for label in made)


def test_hosts_lines_for_devices_inside() -> None:
    text = form(ONE_BOX, "hairpin = false") + '[names."home.heronquay.example"]\nline = "fibre"\n' + service("port = 9")
    (line,) = client_lines(Topology(site(text).site))
    assert (line.name, line.address, line.services, line.needed) == (
        "home.heronquay.example",
        "10.44.7.50",
        ("s",),
        True,
    )


def test_the_picture_has_every_service_and_is_escaped() -> None:
    file = site(BOATHOUSE)
    drawn = as_svg(Topology(file.site), "<&> Boathouse")
    from xml.etree import ElementTree as ET

    shown = " ".join(ET.fromstring(drawn).itertext())
    for key in file.site.services:
        assert key[:12] in shown
    assert "<&> Boathouse" in shown
    tree = as_tree(Topology(file.site))
    assert tree.inner[0].text == "fibre"
    assert as_svg(Topology(site("version = 1\n").site), "x")


def test_an_opening_over_ipv6_that_lets_another_service_in_is_never_called_closed() -> None:
    """A check that looks over IPv4 alone cannot tell, and says so."""
    text = HUB6
    text += '[services.wide]\nhost = "hub"\nport = "20-30"\nreach = "public"\nfamily = "ipv6"\n'
    text += '[services.shell]\nhost = "hub"\nspeaks = "ssh"\nreach = "lan"\n'
    topology, made = Topology(site(text).site), plan(text)
    doors = list(side_doors(topology, made.forwards))
    assert [(door.service, door.by, door.family) for door in doors] == [("shell", "wide", "ipv6")]
    targets, _ = outer_targets(topology, ["shell"], {"fibre": IPv4Address("203.0.113.44")}, None, doors)
    (door,) = [target for target in targets if target.beyond]
    assert (door.address, door.expected, "over IPv6" in str(door.beyond)) == (None, "unreachable", True)


# --- what rules let in beyond what they are for, port by port

BESIDE = (
    HUB6.replace("[hosts", "form.sources = true\nform.protocols = true\n[hosts", 1)
    + """
[services.wide]
host = "hub"
port = "20-30"
transport = "both"
outside_port = "120-130"
reach = "public"
family = "both"
[services.few]
host = "hub"
port = "40-44"
reach = "public"
sources = ["198.51.100.0/24", "203.0.113.0/24"]
family = "ipv4"
[services.old]
host = "hub"
speaks = "gre"
reach = "public"
family = "ipv4"
[services.shell]
host = "hub"
speaks = "ssh"
reach = "lan"
[services.clock]
host = "hub"
speaks = "unknown"
transport = "udp"
port = "28-35"
reach = "tunnel"
[services.one]
host = "hub"
port = 42
reach = "public"
outside_port = 4200
sources = ["198.51.100.0/24"]
[services.all]
host = "hub"
port = "41-43"
reach = "public"
outside_port = "5100-5102"
sources = ["198.51.100.0/24", "203.0.113.0/24", "192.0.2.0/24"]
[services.same]
host = "hub"
port = 41
reach = "public"
outside_port = 6100
sources = ["198.51.100.0/24", "203.0.113.0/24"]
[services.quiet]
host = "hub"
speaks = "gre"
reach = "lan"
"""
)


def _beyond(topology: Topology, made: Plan, *, allowed: bool) -> set[tuple[object, ...]]:
    """By definition, without any of what makes it quick."""
    found: set[tuple[object, ...]] = set()
    for rule in made.forwards:
        family = "ipv6" if rule.kind == "pinhole" else "ipv4"
        for key, entry in topology.site.services.items():
            host, own = topology.site.devices[entry.host], {str(one) for one in entry.sources}
            if key == rule.service or rule.target_address not in (str(host.address), str(host.address6)):
                continue
            may = entry.reach == "public" and (not own or (bool(rule.sources) and set(rule.sources) <= own))
            for transport in transports(entry.used_transport) if may == allowed else ():
                if transport not in transports(rule.transport):
                    continue
                if rule.target_ports is None or not entry.has_ports:
                    found.add((key, rule.service, transport, None, rule.sources, family))
                    continue
                by = topology.site.services[rule.service]
                shift = outside_port(topology, rule.service) - by.used_ports.first if family == "ipv4" else 0
                for port in range(rule.target_ports[0], rule.target_ports[1] + 1):
                    if entry.used_ports.first <= port <= entry.used_ports.last:
                        found.add((key, rule.service, transport, port + shift, rule.sources, family))
    return found


@pytest.mark.parametrize("allowed", [False, True])
def test_what_rules_let_in_beside_is_told_port_by_port(allowed: bool) -> None:
    topology, made = Topology(site(BESIDE).site), plan(BESIDE)
    doors = list(side_doors(topology, made.forwards, allowed=allowed))
    told: set[tuple[object, ...]] = set()
    for door in doors:
        each = [None] if door.outside is None else range(door.outside.first, door.outside.last + 1)
        told |= {(door.service, door.by, door.transport, port, door.sources, door.family) for port in each}
    assert told == _beyond(topology, made, allowed=allowed)
    assert len({door._replace(sources=()) for door in doors}) == len(doors)  # each once, whatever routers are passed
    words = {door.words() for door in doors}
    if not allowed:
        assert {"tcp 122", "tcp 22 over IPv6", "udp 128-130", "udp 28-30 over IPv6", "the IP protocol 47"} <= words
