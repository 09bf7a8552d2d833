"""The plan: rules on each gateway of the chain, and findings; each finding with a near miss that does not raise it."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.worksheet import labels, make_sheets
from hooper.words import catalogue
from support.program import BOATHOUSE
from support.sites import ONE_BOX, codes, plan, site

TWO_BOXES = ONE_BOX.replace('line = "fibre"', 'behind = "outer"\nwan = "192.168.90.2"') + (
    '[gateways.outer]\nline = "fibre"\nlan = "192.168.90.1/24"\npool = "192.168.90.20-192.168.90.199"\n'
)


def service(more: str, *, key: str = "s", reach: str = "public") -> str:
    return f'[services.{key}]\nhost = "hub"\nreach = "{reach}"\n{more}\n'


def test_the_boathouse_gets_a_rule_on_each_box_and_the_second_desktop_is_translated() -> None:
    made = plan(BOATHOUSE)
    assert made.feasible
    assert [f.gateway for f in made.forwards] == ["fibre-box"] * 8 + ["club-router"] * 8
    outer, inner = (f for f in made.forwards if f.service == "timing-desk")
    assert (outer.outside_ports, outer.target_address, outer.target_ports) == (
        (13389, 13389),
        "192.168.90.2",
        (13389, 13389),
    )
    assert (inner.outside_address, inner.target_address, inner.target_ports) == (
        "192.168.90.2",
        "10.44.7.41",
        (3389, 3389),
    )
    assert (outer.sources, inner.sources) == ((), ("198.51.100.0/24",))
    assert (outer.by, inner.by, outer.outside_address, outer.line) == ("hand", "auto", None, "fibre")
    assert {f.service for f in made.forwards}.isdisjoint({"slip-page", "film-shell", "recorder-page"})


def test_the_boathouse_has_two_warnings_and_its_accepted_risk_is_a_note() -> None:
    found = plan(BOATHOUSE).findings
    assert [(f.code, f.subject) for f in found if f.severity != "note"] == [
        ("desktop-open", "services.desk"),
        ("desktop-open", "services.timing-desk"),
    ]
    (accepted,) = (f for f in found if f.code == "clear-text-open")
    assert accepted.severity == "note"
    assert "accepted until 2029-10-31" in str(accepted.message)


def test_a_fixed_address_is_the_outside_of_the_outermost_rule() -> None:
    made = plan(ONE_BOX.replace('"dynamic"', '"203.0.113.44"') + service("port = 99"))
    assert [f.outside_address for f in made.forwards] == ["203.0.113.44"]


def test_where_the_inner_box_cannot_translate_the_outer_one_does() -> None:
    text = TWO_BOXES.replace("[hosts", "[gateways.box.form]\ntranslate = false\n[hosts")
    outer, inner = plan(text + service("port = 99\noutside_port = 9999")).forwards
    assert (outer.gateway, outer.outside_ports, outer.target_ports) == ("outer", (9999, 9999), (99, 99))
    assert (inner.gateway, inner.outside_ports, inner.target_ports) == ("box", (99, 99), (99, 99))


def test_a_page_without_both_and_without_ranges_gets_single_rules() -> None:
    text = ONE_BOX.replace("[hosts", "[gateways.box.form]\nboth = false\nranges = false\n[hosts")
    made = plan(text + service('port = "500-502"\ntransport = "both"\noutside_port = "600-602"'))
    assert [
        (f.transport, f.outside_ports[0], f.target_ports[0])
        for f in made.forwards
        if f.outside_ports and f.target_ports
    ] == [(transport, 600 + n, 500 + n) for n in range(3) for transport in ("tcp", "udp")]


@given(st.permutations(list(site(BOATHOUSE).site.services)))
def test_the_plan_does_not_depend_on_the_order_of_entries(order: list[str]) -> None:
    file = site(BOATHOUSE)
    shuffled = file.site.model_copy(update={"services": {key: file.site.services[key] for key in order}})
    other = make_plan(type(file)(file.name, file.text, shuffled, file.padded), date(2026, 5, 1))
    assert other == plan(BOATHOUSE)


# raised by what was measured and told, see test_line_and_diagnosis, test_situation and test_survey_table
OF_THE_LINE = {
    "line-behind-router",
    "name-behind",
    "resolver-silent",
    "resolver-differs",
    "way-out-by-tunnel",
    "address-differs",
    "rule-still-stands",
    "line-has-two-addresses",
    "box-not-in-file",
    "gateway-not-on-the-way",
}
HUB6 = ONE_BOX.replace('"dynamic"', '"dynamic"\nprefix6 = "2001:db8:44::/56"') + 'address6 = "2001:db8:44:7::50"\n'
NAMED = '[names."home.heronquay.example"]\nline = "fibre"\n'
SIX_NAME = NAMED + 'types = ["A", "AAAA"]\nhost = "hub"\n'
BY_HAND = ONE_BOX.replace('line = "fibre"', 'line = "fibre"\ncontrol = "hand"')
CERTIFIED = NAMED + (
    '[authorities.ca]\ndirectory = "https://ca.heronquay.example/directory"\n'
    '[certificates.c]\nauthority = "ca"\nchallenge = "http-01"\nnames = ["home.heronquay.example"]\n'
)
RESERVED = 'address_from = "reservation"\n'
GATE = '[hosts.gate]\naddress = "10.44.7.60"\n[services.gate]\nhost = "gate"\nspeaks = "wireguard"\nreach = "public"\n'
TUNNEL = GATE + '[tunnels.t]\nservice = "gate"\nsubnet = "10.88.7.0/24"\n'
SECOND_TUNNEL = (
    '[services.second]\nhost = "gate"\nspeaks = "wireguard"\nreach = "public"\noutside_port = 51999\n'
    '[tunnels.u]\nservice = "second"\nsubnet = "10.88.8.0/24"\n'
)
KEYS = [f"{letter * 42}A=" for letter in "abc"]
PEER = TUNNEL + f'[peers.p]\ntunnel = "t"\naddress = "10.88.7.11"\npublic_key = "{KEYS[0]}"\n'
OTHER_PEER = f'[peers.q]\ntunnel = "t"\naddress = "10.88.7.12"\npublic_key = "{KEYS[1]}"\n'
SHELL = '[services.shell]\nhost = "hub"\nspeaks = "ssh"\nreach = "tunnel"\n'
ACCOUNT = '[accounts.a]\nhost = "hub"\nuser = "cox"\n'
BY_USER = PEER.replace("[peers.p]\n", '[peers.p]\nuser = "cox"\n').replace(
    'subnet = "10.88.7.0/24"\n', 'subnet = "10.88.7.0/24"\nmade_by = "device"\n'
)
BY_DEVICE = TUNNEL + f'made_by = "device"\npublic_key = "{KEYS[2]}"\n'
FTP_DATA = service('port = "50000-50009"\ntransport = "tcp"', key="data")


def form(text: str, *lines: str) -> str:
    """`text` with these lines in the form of its inner gateway."""
    return text.replace("[hosts", "[gateways.box.form]\n" + "\n".join(lines) + "\n[hosts", 1)


def ready(item: str, *, said: bool) -> str:
    return ONE_BOX + f"ready = {{ {item} = {str(said).lower()} }}\n" + service("port = 9")


def certificate(text: str) -> str:
    return ONE_BOX + CERTIFIED.replace('["home.heronquay.example"]', text)


FINDINGS: dict[str, tuple[str, str]] = {
    "port-clash": (
        ONE_BOX + service("port = 80\noutside_port = 80") + service('port = "70-90"\noutside_port = "70-90"', key="t"),
        ONE_BOX + service("port = 80\noutside_port = 80") + service('port = 80\ntransport = "udp"', key="t"),
    ),
    "port-blocked": (
        ONE_BOX.replace("[gateways", 'blocked = ["both 80"]\n[gateways', 1) + service("port = 80\noutside_port = 80"),
        ONE_BOX.replace("[gateways", 'blocked = ["udp 80", "tcp 81-99"]\n[gateways', 1) + service("port = 80"),
    ),
    "port-kept": (
        form(ONE_BOX, 'own_ports = ["tcp 7547"]') + service("port = 9\noutside_port = 7547"),
        form(ONE_BOX, 'own_ports = ["udp 7547"]') + service("port = 9\noutside_port = 7547"),
    ),
    "port-chosen": (
        form(ONE_BOX, 'own_ports = ["tcp 443"]') + service('speaks = "https"'),
        form(ONE_BOX, 'own_ports = ["tcp 444"]') + service('speaks = "https"'),
    ),
    "no-port-left": (
        form(ONE_BOX, 'own_ports = ["both 1-65535"]') + service("port = 9"),
        form(ONE_BOX, 'own_ports = ["both 1-65534"]') + service("port = 9"),
    ),
    "line-not-public": (ONE_BOX.replace('"dynamic"', '"100.64.0.9"'), ONE_BOX.replace('"dynamic"', '"11.22.33.44"')),
    "line-behind-carrier": (
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "carrier-nat"'),
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "several-nats"'),
    ),
    "line-shares-ports": (
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "shared-ports"'),
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "public"'),
    ),
    "line-without-ipv4": (
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "no-ipv4"'),
        ONE_BOX.replace('"dynamic"', '"dynamic"\nsituation = "unclear"'),
    ),
    "line-passed-over": (
        ONE_BOX.replace('line = "fibre"', 'line = ["mobile", "fibre"]')
        + '[lines.mobile]\nsituation = "carrier-nat"\n'
        + service("port = 9"),
        ONE_BOX.replace('line = "fibre"', 'line = ["mobile", "fibre"]') + "[lines.mobile]\n" + service("port = 9"),
    ),
    "resolver-unusable": (
        ONE_BOX.replace('pool = "10', 'dns = ["0.0.0.0"]\npool = "10'),
        ONE_BOX.replace('pool = "10', 'dns = ["10.44.7.1"]\npool = "10'),
    ),
    "cannot-translate": (
        form(ONE_BOX, "translate = false") + service("port = 1\noutside_port = 2"),
        form(ONE_BOX, "translate = false") + service("port = 2\noutside_port = 2"),
    ),
    "too-many-rules": (
        form(ONE_BOX, "ranges = false") + service('port = "100-132"'),
        form(ONE_BOX, "ranges = false") + service('port = "100-131"'),
    ),
    "sources-not-kept": (
        TWO_BOXES + service('port = 1\nsources = ["198.51.100.0/24"]'),
        TWO_BOXES + "form.sources = true\n" + service('port = 1\nsources = ["198.51.100.0/24"]'),
    ),
    "range-too-wide": (ONE_BOX + service('port = "1000-1100"'), ONE_BOX + service('port = "1000-1099"')),
    "open-by-another": (
        ONE_BOX + service('port = "20-30"') + '[services.shell]\nhost = "hub"\nspeaks = "ssh"\nreach = "lan"\n',
        ONE_BOX + service('port = "20-21"') + '[services.shell]\nhost = "hub"\nspeaks = "ssh"\nreach = "lan"\n',
    ),
    "tunnel-missing": (
        ONE_BOX + '[services.shell]\nhost = "hub"\nspeaks = "ssh"\nreach = "tunnel"\n',
        ONE_BOX + service('speaks = "wireguard"') + '[services.far]\nhost = "hub"\nspeaks = "ssh"\nreach = "tunnel"\n',
    ),
    "transport-unused": (
        ONE_BOX + service('speaks = "ssh"\ntransport = "both"'),
        ONE_BOX + service('speaks = "https"\ntransport = "both"'),
    ),
    "transport-wrong": (
        ONE_BOX + service('speaks = "wireguard"\ntransport = "tcp"'),
        ONE_BOX + service('speaks = "openvpn"\ntransport = "tcp"'),
    ),
    "ports-missing": (ONE_BOX + service('speaks = "ftp"'), ONE_BOX + service('speaks = "ftp"') + FTP_DATA),
    "inside-ipsec": (ONE_BOX + service('speaks = "l2tp"'), ONE_BOX + service('speaks = "ike"')),
    "protocol-not-passed": (
        ONE_BOX + service('speaks = "esp"'),
        form(ONE_BOX, "protocols = true") + service('speaks = "esp"'),
    ),
    "address-not-on-line": (
        ONE_BOX.replace('"dynamic"', '"11.22.33.44"') + service('port = 1\noutside_address = "11.22.33.45"'),
        ONE_BOX.replace('"dynamic"', '["11.22.33.44", "11.22.33.45"]')
        + service('port = 1\noutside_address = "11.22.33.45"'),
    ),
    "port-in-url": (ONE_BOX + service('speaks = "https"\nport = 8443'), ONE_BOX + service('speaks = "https"')),
    "port-by-family": (
        HUB6 + service("port = 9\noutside_port = 10009"),
        HUB6 + service('port = 9\noutside_port = 10009\nfamily = "ipv4"'),
    ),
    "rules-over-limit": (
        form(ONE_BOX, "rules = 1") + service("port = 1") + service("port = 2", key="t"),
        form(ONE_BOX, "rules = 2") + service("port = 1") + service("port = 2", key="t"),
    ),
    "no-pinhole": (form(HUB6, "pinholes = false") + service("port = 1"), HUB6 + service("port = 1")),
    "everything-impossible": (
        TWO_BOXES + 'everything_to = "box"\n',
        TWO_BOXES + 'everything_to = "box"\nform.everything = true\n',
    ),
    "one-entry-instead": (
        TWO_BOXES + "form.everything = true\n" + "".join(service(f"port = {n}", key=f"s{n}") for n in range(1, 5)),
        TWO_BOXES + "form.everything = true\n" + "".join(service(f"port = {n}", key=f"s{n}") for n in range(1, 4)),
    ),
    "no-reservations": (
        form(ONE_BOX, "reservations = false") + RESERVED,
        form(ONE_BOX, "reservations = true") + RESERVED,
    ),
    "no-hairpin": (
        form(ONE_BOX, "hairpin = false") + NAMED + service("port = 1"),
        form(ONE_BOX, "hairpin = true") + NAMED + service("port = 1"),
    ),
    "address-clash": (
        ONE_BOX + '[hosts.b]\naddress = "10.44.7.1"\n',
        ONE_BOX + '[hosts.b]\naddress = "10.44.7.51"\n',
    ),
    "address-not-usable": (ONE_BOX.replace("7.50", "7.255"), ONE_BOX.replace("7.50", "7.254")),
    "address-in-pool": (ONE_BOX.replace("7.50", "7.100"), ONE_BOX.replace("7.50", "7.99")),
    "address-moves": (ONE_BOX + 'address_from = "pool"', ONE_BOX + 'address_from = "device"'),
    "pool-unknown": (
        ONE_BOX.replace("pool", "#"),
        ONE_BOX.replace("pool", "#") + RESERVED,
    ),
    "pool-holds-gateway": (
        ONE_BOX.replace("10.44.7.100-", "10.44.7.1-"),
        ONE_BOX.replace("10.44.7.100-", "10.44.7.2-"),
    ),
    "mac-missing": (
        ONE_BOX + RESERVED,
        ONE_BOX + RESERVED + 'mac = "02:00:5e:44:07:50"',
    ),
    "mac-clash": (
        ONE_BOX + 'mac = "2:0:5e:44:7:50"\n[hosts.b]\naddress = "10.44.7.9"\nmac = "0200.5e44.0750"\n',
        ONE_BOX + 'mac = "2:0:5e:44:7:50"\n[hosts.b]\naddress = "10.44.7.9"\nmac = "0200.5e44.0751"\n',
    ),
    "mac-group": (ONE_BOX + 'mac = "01-00-5E-44-07-50"', ONE_BOX + 'mac = "00-00-5E-44-07-50"'),
    "mac-private": (
        ONE_BOX + RESERVED + 'mac = "02:00:5e:44:07:50"',
        ONE_BOX + RESERVED + 'mac = "00:00:5e:44:07:50"',
    ),
    "prefix-overlap": (
        TWO_BOXES.replace("10.44.7.1/24", "192.168.0.1/16").replace("10.44.7.", "192.168.7.")
        + '[hosts.x]\naddress = "192.168.7.9"\n',
        TWO_BOXES,
    ),
    "prefix-common": (
        ONE_BOX.replace("10.44.7.", "192.168.1.") + service('speaks = "ssh"', reach="tunnel"),
        ONE_BOX + service('speaks = "ssh"', reach="tunnel"),
    ),
    "route-needed": (ONE_BOX + TUNNEL, ONE_BOX + TUNNEL.replace('host = "gate"', 'host = "box"')),
    "address6-missing": (
        ONE_BOX + service('port = 1\nfamily = "ipv6"'),
        HUB6 + service('port = 1\nfamily = "ipv6"'),
    ),
    "address6-not-public": (
        HUB6.replace("2001:db8:44:7::50", "fd00::50") + service("port = 1"),
        HUB6 + service("port = 1"),
    ),
    "address6-elsewhere": (
        HUB6.replace("2001:db8:44:7::50", "2001:db8:45::50") + service("port = 1"),
        HUB6 + service("port = 1"),
    ),
    "name-missing": (
        ONE_BOX + service("port = 1"),
        ONE_BOX.replace('"dynamic"', '"11.22.33.44"') + service("port = 1"),
    ),
    "name-unkept": (
        ONE_BOX + service('port = 1\nname = "away.heronquay.example"'),
        ONE_BOX + NAMED + service('port = 1\nname = "home.heronquay.example"'),
    ),
    "name-of-other-line": (
        ONE_BOX
        + NAMED.replace("fibre", "mobile")
        + "[lines.mobile]\n"
        + service('port = 1\nname = "home.heronquay.example"'),
        ONE_BOX + NAMED + "[lines.mobile]\n" + service('port = 1\nname = "home.heronquay.example"'),
    ),
    "name-six-elsewhere": (
        HUB6 + '[hosts.shed]\naddress = "10.44.7.51"\n' + SIX_NAME + service("port = 1").replace("hub", "shed"),
        HUB6 + SIX_NAME + service("port = 1"),
    ),
    "certificate-other-name": (
        ONE_BOX + CERTIFIED + 'services = ["s"]\n' + service('speaks = "https"\nname = "x.home.heronquay.example"'),
        ONE_BOX + CERTIFIED + 'services = ["s"]\n' + service('speaks = "https"\nname = "home.heronquay.example"'),
    ),
    "validation-blocked": (
        BY_HAND + CERTIFIED,
        ONE_BOX + CERTIFIED,
    ),
    "wildcard-needs-dns": (
        certificate('["*.home.heronquay.example"]'),
        certificate('["home.heronquay.example"]'),
    ),
    "desktop-open": (
        ONE_BOX + service('speaks = "rdp"'),
        ONE_BOX + service('speaks = "rdp"', reach="tunnel"),
    ),
    "sharing-open": (ONE_BOX + service('speaks = "smb"'), ONE_BOX + service('speaks = "ssh"')),
    "lan-protocol-open": (ONE_BOX + service('speaks = "modbus"'), ONE_BOX + service('speaks = "modbus"', reach="lan")),
    "router-page-open": (
        ONE_BOX.replace("7.50", "7.1") + service('speaks = "https"'),
        ONE_BOX + service('speaks = "https"'),
    ),
    "clear-text-open": (ONE_BOX + service('speaks = "http"'), ONE_BOX + service('speaks = "https"')),
    "unknown-protocol-open": (ONE_BOX + service("port = 9"), ONE_BOX + service("port = 9", reach="lan")),
    "default-password": (ONE_BOX + service("port = 9"), ready("default_password_changed", said=True)),
    "no-second-factor": (ready("second_factor", said=False), ready("second_factor", said=True)),
    "no-tls": (ready("tls", said=False), ready("tls", said=True)),
    "no-updates": (ready("updates", said=False), ready("updates", said=True)),
    "no-autostart": (ready("autostart", said=False), ready("autostart", said=True)),
    "clock-wrong": (ready("clock", said=False), ready("clock", said=True)),
    "dns-wrong": (ready("dns", said=False), ready("dns", said=True)),
    "base-url-wrong": (ready("base_url", said=False), ready("base_url", said=True)),
    "relay-on": (ready("relay_off", said=False), ready("relay_off", said=True)),
    "acceptance-ended": (
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2026-04-30}'),
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2026-05-01}'),
    ),
    "acceptance-unused": (
        ONE_BOX + service('speaks="https"\naccepted={finding="clear-text-open",reason="r",until=2027-01-01}'),
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2027-01-01}'),
    ),
    "tunnels-clash": (
        ONE_BOX + TUNNEL + SECOND_TUNNEL,
        ONE_BOX + TUNNEL + SECOND_TUNNEL.replace('reach = "public"', 'reach = "public"\nport = 51821'),
    ),
    "peers-clash": (ONE_BOX + PEER + OTHER_PEER.replace(KEYS[1], KEYS[0]), ONE_BOX + PEER + OTHER_PEER),
    "tunnel-shut": (ONE_BOX + TUNNEL.replace('"public"', '"lan"'), ONE_BOX + TUNNEL),
    "peer-shut-out": (
        TWO_BOXES + PEER.replace("10.44.7.60", "192.168.90.60") + 'into = ["hub"]\n',
        TWO_BOXES + PEER + 'into = ["hub"]\n',
    ),
    "peer-ended": (ONE_BOX + PEER + "until = 2026-04-30\n", ONE_BOX + PEER + "until = 2026-06-30\n"),
    "peer-ends-soon": (ONE_BOX + PEER + "until = 2026-05-09\n", ONE_BOX + PEER + "until = 2026-06-30\n"),
    "peer-without-key": (ONE_BOX + PEER.replace(f'public_key = "{KEYS[0]}"\n', ""), ONE_BOX + PEER),
    "peer-not-kept": (
        ONE_BOX + PEER.replace(TUNNEL, BY_DEVICE) + 'into = ["hub"]\n',
        ONE_BOX + PEER + 'into = ["hub"]\n',
    ),
    "one-secret-for-all": (
        ONE_BOX + BY_DEVICE.replace("[tunnels.t]", "[tunnels.t]\none_secret = true"),
        ONE_BOX + BY_DEVICE,
    ),
    "tunnel-for-nobody": (
        ONE_BOX + PEER + 'into = ["gate"]\n' + SHELL,
        ONE_BOX + PEER + SHELL,
    ),
    "tunnel-dns-lost": (
        ONE_BOX + TUNNEL + 'dns = ["172.20.1.1"]\n',
        ONE_BOX + TUNNEL + 'dns = ["10.44.7.1", "9.9.9.9"]\n',
    ),
    "tunnel-by-number": (ONE_BOX + TUNNEL, ONE_BOX + NAMED + TUNNEL),
    "account-ended": (ONE_BOX + ACCOUNT + "until = 2026-01-01\n", ONE_BOX + ACCOUNT + "until = 2036-01-01\n"),
    "account-too-much": (
        ONE_BOX + ACCOUNT + 'rights = ["administer"]\nneeds = ["look"]\n',
        ONE_BOX + ACCOUNT + 'rights = ["administer"]\n',
    ),
    "account-one-factor": (
        ONE_BOX + ACCOUNT + "second_factor = false\n" + service("port = 1"),
        ONE_BOX + ACCOUNT + "second_factor = false\n" + service("port = 1", reach="lan"),
    ),
    "peer-without-right": (
        ONE_BOX + BY_USER + ACCOUNT.replace("hub", "gate") + 'rights = ["use"]\n',
        ONE_BOX + BY_USER + ACCOUNT.replace("hub", "gate") + 'rights = ["tunnel"]\n',
    ),
    "tunnel-key-unknown": (ONE_BOX + TUNNEL + 'made_by = "device"\n', ONE_BOX + BY_DEVICE),
    "leading-zeros": (ONE_BOX.replace("10.44.7.50", "010.044.007.050"), ONE_BOX),
    "documentation-address": (ONE_BOX.replace('"dynamic"', '"203.0.113.44"'), ONE_BOX),
}


PLANNED = [
    code
    for code in catalogue.codes("finding")
    if code not in OF_THE_LINE and catalogue.meaning("finding", code).group != "profile"
]


@pytest.mark.parametrize("code", PLANNED)
def test_each_finding_is_raised_and_its_near_miss_is_not(code: str) -> None:
    raising, missing = FINDINGS[code]
    assert code in codes(raising)
    assert code not in codes(missing)


def test_a_proof_over_port_80_is_no_worry_where_a_text_record_can_be_set() -> None:
    auto = BY_HAND + CERTIFIED.replace('challenge = "http-01"\n', "")
    assert "validation-blocked" in codes(auto)
    own = '[updaters.u]\nkind = "dns-update"\nkey = "k"\ntoken = "env:T"\n'
    kept = auto.replace('line = "fibre"\n[auth', 'line = "fibre"\nupdated_by = "u"\n[auth')
    assert "validation-blocked" not in codes(kept + own)


def test_errors_make_a_plan_infeasible_and_cannot_be_accepted() -> None:
    text = FINDINGS["port-clash"][0] + 'accepted = {finding="port-clash", reason="r", until=2027-01-01}\n'
    made = plan(text)
    assert not made.feasible
    (clash,) = (f for f in made.findings if f.code == "port-clash")
    assert clash.severity == "error"
    assert "outside_port" in str(clash.remedy)


def test_a_clash_proposes_ports_that_are_free() -> None:
    text = ONE_BOX + "".join(service("port = 3389\noutside_port = 3389", key=key) for key in ("a", "b", "c"))
    proposed = [str(f.remedy).split("`")[1] for f in plan(text).findings if f.code == "port-clash"]
    assert proposed == ["outside_port = 13389", "outside_port = 23389"]
    chosen = plan(text.replace("outside_port = 3389\n", ""))
    assert [rule.outside_ports for rule in chosen.forwards] == [(3389, 3389), (13389, 13389), (23389, 23389)]


def test_sheets_are_cut_to_the_page() -> None:
    file = site(BOATHOUSE)
    outer, inner = make_sheets(Topology(file.site), make_plan(file, date(2026, 5, 1)))
    assert (outer.gateway, inner.gateway) == ("fibre-box", "club-router")
    assert len(outer.rules) == len(inner.rules) == 8
    assert any("provider" in note for note in outer.notes)
    assert any("192.168.90.2 is club-router" in note for note in outer.notes)
    cut = labels(outer.rules, 6)
    assert len(set(cut)) == 8
    assert all(len(label) <= 6 for label in cut)
    assert {"record", "recor2"} <= set(cut)


def test_a_reservation_stands_on_the_sheet_of_its_gateway() -> None:
    file = site(
        TWO_BOXES.replace(
            "[gateways.outer]", 'address_from = "reservation"\nmac = "02:00:5e:44:07:50"\n[gateways.outer]'
        )
    )
    sheets = {s.gateway: s for s in make_sheets(Topology(file.site), make_plan(file, date(2026, 5, 1)))}
    assert [(r.host, r.mac) for r in sheets["box"].reservations] == [("hub", "02:00:5e:44:07:50")]
    assert sheets["outer"].reservations == ()
