"""The plan: rules on each gateway of the chain, and findings; each finding with a near miss that does not raise it."""

from __future__ import annotations

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.planning.catalogue import CATALOGUE
from hooper.planning.plan import make_plan
from hooper.planning.worksheet import labels, make_sheets
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
    assert "accepted until 2029-10-31" in accepted.message


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


OF_THE_LINE = {  # raised by what was measured and told, see test_line_and_diagnosis
    "line-behind-carrier",
    "line-shares-ports",
    "line-without-ipv4",
    "line-behind-router",
    "name-behind",
}
FINDINGS: dict[str, tuple[str, str]] = {
    "port-clash": (
        ONE_BOX + service("port = 80") + service('port = "70-90"\ntransport = "both"', key="t"),
        ONE_BOX + service("port = 80") + service('port = 80\ntransport = "udp"', key="t"),
    ),
    "port-blocked": (
        ONE_BOX.replace("[gateways", 'blocked = ["both 80"]\n[gateways', 1) + service("port = 80"),
        ONE_BOX.replace("[gateways", 'blocked = ["udp 80", "tcp 81-99"]\n[gateways', 1) + service("port = 80"),
    ),
    "line-not-public": (ONE_BOX.replace('"dynamic"', '"100.64.0.9"'), ONE_BOX.replace('"dynamic"', '"11.22.33.44"')),
    "cannot-translate": (
        ONE_BOX.replace("[hosts", "form.translate = false\n[hosts") + service("port = 1\noutside_port = 2"),
        ONE_BOX.replace("[hosts", "form.translate = false\n[hosts") + service("port = 2\noutside_port = 2"),
    ),
    "too-many-rules": (
        ONE_BOX.replace("[hosts", "form.ranges = false\n[hosts") + service('port = "100-132"'),
        ONE_BOX.replace("[hosts", "form.ranges = false\n[hosts") + service('port = "100-131"'),
    ),
    "sources-not-kept": (
        TWO_BOXES + service('port = 1\nsources = ["198.51.100.0/24"]'),
        TWO_BOXES + "form.sources = true\n" + service('port = 1\nsources = ["198.51.100.0/24"]'),
    ),
    "address-clash": (
        ONE_BOX + '[hosts.b]\naddress = "10.44.7.1"\n',
        ONE_BOX + '[hosts.b]\naddress = "10.44.7.51"\n',
    ),
    "address-in-pool": (ONE_BOX.replace("7.50", "7.100"), ONE_BOX.replace("7.50", "7.99")),
    "address-moves": (ONE_BOX + 'address_from = "pool"', ONE_BOX + 'address_from = "device"'),
    "mac-missing": (
        ONE_BOX + 'address_from = "reservation"',
        ONE_BOX + 'address_from = "reservation"\nmac = "02:00:5e:44:07:50"',
    ),
    "desktop-open": (
        ONE_BOX + service('speaks = "rdp"'),
        ONE_BOX + service('speaks = "rdp"', reach="tunnel"),
    ),
    "clear-text-open": (ONE_BOX + service('speaks = "http"'), ONE_BOX + service('speaks = "https"')),
    "unknown-protocol-open": (ONE_BOX + service("port = 9"), ONE_BOX + service("port = 9", reach="lan")),
    "acceptance-ended": (
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2026-04-30}'),
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2026-05-01}'),
    ),
    "acceptance-unused": (
        ONE_BOX + service('speaks="https"\naccepted={finding="clear-text-open",reason="r",until=2027-01-01}'),
        ONE_BOX + service('speaks="http"\naccepted={finding="clear-text-open",reason="r",until=2027-01-01}'),
    ),
    "leading-zeros": (ONE_BOX.replace("10.44.7.50", "010.044.007.050"), ONE_BOX),
    "documentation-address": (ONE_BOX.replace('"dynamic"', '"203.0.113.44"'), ONE_BOX),
}


@pytest.mark.parametrize("code", [code for code in CATALOGUE if code not in OF_THE_LINE])
def test_each_finding_is_raised_and_its_near_miss_is_not(code: str) -> None:
    raising, missing = FINDINGS[code]
    assert code in codes(raising)
    assert code not in codes(missing)


def test_errors_make_a_plan_infeasible_and_cannot_be_accepted() -> None:
    text = FINDINGS["port-clash"][0] + 'accepted = {finding="port-clash", reason="r", until=2027-01-01}\n'
    made = plan(text)
    assert not made.feasible
    (clash,) = (f for f in made.findings if f.code == "port-clash")
    assert clash.severity == "error"
    assert "outside_port" in clash.remedy


def test_a_clash_proposes_ports_that_are_free() -> None:
    text = ONE_BOX + "".join(service("port = 3389", key=key) for key in ("a", "b", "c"))
    proposed = [f.remedy.split("`")[1] for f in plan(text).findings if f.code == "port-clash"]
    assert proposed == ["outside_port = 13389", "outside_port = 13390"]


def test_sheets_are_cut_to_the_page() -> None:
    file = site(BOATHOUSE)
    outer, inner = make_sheets(file.site, make_plan(file, date(2026, 5, 1)))
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
    sheets = {s.gateway: s for s in make_sheets(file.site, make_plan(file, date(2026, 5, 1)))}
    assert [(r.host, r.mac) for r in sheets["box"].reservations] == [("hub", "02:00:5e:44:07:50")]
    assert sheets["outer"].reservations == ()
