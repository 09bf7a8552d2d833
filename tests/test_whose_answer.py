"""Whose answer it was: devices of one make, addresses that are taken, and what was kept of a device before."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from hooper.check.comparing import statuses_differ
from hooper.check.results import PageSeen
from hooper.check.targets import inner_targets
from hooper.evidence.identity import Signs, identified
from hooper.planning.topology import Topology
from support.program import BOATHOUSE, LabHere, town_here
from support.sites import site

PHONE = ("--from", "interface:usb0", "--deadline", "1.5", "--json")


@pytest.fixture
def town(tmp_path: Path) -> Iterator[LabHere]:
    with town_here(tmp_path / "lab") as lab:
        lab.enter_sheets()
        yield lab


def looked(lab: LabHere, *words: str, code: int) -> dict[str, Any]:
    """The one result of a check."""
    ran = lab.run("check", *words)
    assert ran.code == code, ran.out
    (result,) = ran.document["results"]
    return dict(result)


def test_a_rule_that_leads_to_another_of_the_same_make(town: LabHere) -> None:
    """Where the router's table is read, it does not pass; where it is not, it says that nothing tells."""
    assert looked(town, "slip-film", *PHONE, code=0)["identity"] == "kind"
    town.run("lab", "break", "forward-to-twin", "slip-film")
    wrong = looked(town, "slip-film", *PHONE, code=1)
    assert (wrong["verdict"], wrong["identity"]) == ("mismatched", "other")
    assert "club-router's rule for it leads to 10.44.7.177:554" in wrong["detail"]
    found = town.run("why", "slip-film", *PHONE).document["causes"]
    assert [(one["code"], one["certainty"]) for one in found] == [("rule-wrong-host", "certain")]
    town.run("lab", "break", "router-mute")
    town.run("lab", "clock", "--advance", "2h")
    assert looked(town, "slip-film", *PHONE, code=0)["identity"] == "kind"
    looked(town, "slip-film", *PHONE, "--strict", code=1)
    told = town.run("check", "slip-film", "--from", "interface:usb0", "--deadline", "1.5")
    assert "1 looks right" in told.out
    assert "another of its make would answer alike: slip-film. `hooper stand-in slip-film`" in " ".join(
        told.err.split()
    )


def test_a_rule_that_was_told_to_lead_elsewhere_outweighs_an_answer(town: LabHere) -> None:
    town.run("lab", "break", "router-mute")
    town.run("why", "slip-film", "--rule", "club-router=10.44.7.40:554", *PHONE)
    wrong = looked(town, "slip-film", *PHONE, code=1)
    assert "club-router's rule for it leads to 10.44.7.40:554 (desk)" in wrong["detail"]
    town.run("why", "slip-film", "--rule", "club-router=there", *PHONE)
    looked(town, "slip-film", *PHONE, code=0)


def test_another_device_at_the_address_with_another_key(town: LabHere) -> None:
    """It does not pass the first time, nor the second; what was kept of the right one stays."""
    assert looked(town, "film-page", *PHONE, code=0)["identity"] == "proven"
    town.run("lab", "break", "address-taken")
    for place in (("--json",), PHONE, ("--json",), PHONE):
        wrong = looked(town, "film-page", *place, code=1)
        assert (wrong["verdict"], wrong["identity"], wrong["problems"]) == ("mismatched", "other", ["address-taken"])
    found = town.run("why", "film-page", *PHONE).document["causes"]
    assert "address-taken" in {one["code"] for one in found}
    assert not [one for one in found if one["certainty"] == "certain"]
    town.run("lab", "mend")
    assert looked(town, "film-page", *PHONE, "--strict", code=0)["identity"] == "proven"


def test_a_device_that_was_set_up_anew_is_told_by_its_owner(town: LabHere) -> None:
    looked(town, "hub-page", *PHONE, code=0)
    assert town.run("cert", "order").code == 0
    town.run("lab", "install", "boathouse", "hub-page")
    assert looked(town, "hub-page", *PHONE, code=0)["identity"] == "proven"  # its authority vouches for the new one
    looked(town, "film-page", *PHONE, code=0)
    site = town.folder / "site.toml"
    with_mac = site.read_text()
    site.write_text("\n".join(line for line in with_mac.splitlines() if "02:00:5e:44:07:30" not in line) + "\n")
    town.run("lab", "break", "address-taken")
    wrong = looked(town, "film-page", "--json", code=1)
    assert (wrong["verdict"], wrong["problems"]) == ("mismatched", ["identity-changed"])
    told = town.run("host", "know", "film-box", "--json")
    signs = {one["service"]: one for one in told.document["signs"]}
    assert (told.code, signs["film-page"]["before"] not in (None, signs["film-page"]["key"])) == (0, True)
    looked(town, "film-page", "--json", code=0)
    site.write_text(with_mac)
    assert town.run("host", "know", "film-box").code == 1  # it has another MAC than the plan says


def test_a_page_without_encryption_is_known_by_what_it_shows(town: LabHere) -> None:
    """Its title and pictures tell the make; a line of one's own on it tells the device."""
    assert town.run("service", "change", "slip-page", "--reach", "public", "--outside-port", "8081").code == 0
    town.run("lab", "type", "-", stdin=town.run("worksheet", "--accept", "for this test", "--json").out)
    known = town.run("host", "know", "slip-cam", "--json").document["signs"]
    (page,) = [sign for sign in known if sign["service"] == "slip-page"]
    assert (page["key"], page["pictures"]) == (None, [f"/logo.gif {8 * len(page['page'].split(' ')[0])}x32"])
    assert looked(town, "slip-page", *PHONE, code=0)["identity"] == "kind"
    assert town.run("service", "change", "slip-page", "--expect", page["page"]).code == 0
    assert looked(town, "slip-page", *PHONE, code=0)["identity"] == "kind", "another of its make has that too"
    for mac, identity in (("planned", "kind"), (None, "none"), ("other", "other")):  # that of the plan was set up anew
        found = identified(Signs(reached=True, told=True, page_kept=False, mac=mac))  # type: ignore[arg-type]
        assert found.identity == identity


@pytest.mark.parametrize(
    ("expect", "own"),
    [("boat7x4kq91mz2c", True), ("see: 0a1b2c3d4e5f here", True), ("Welcome to the page", False),
     ("123456789012", False), ("Configuration", False), ("cam7", False), (None, False),
     ("SlipwayCam7590", False), ("QuayJet400MFP2", False)],
)  # fmt: skip
def test_a_line_of_ones_own_proves_a_page(expect: str | None, own: bool) -> None:
    target = next(inner_targets(Topology(site(BOATHOUSE).site), ["slip-page"]))
    target = replace(target, expect=expect)
    assert target.own_line is own
    found = identified(Signs(reached=True, told=True, secret=target.own_line))
    assert found.identity == ("proven" if own else "kind")


def test_what_cannot_be_known_is_said(town: LabHere) -> None:
    town.run("lab", "break", "host-off")
    silent = town.run("host", "know", "film-box", "--json")
    assert (silent.code, silent.document["errors"][0]["code"]) == (1, "nothing-shown")
    assert town.run("host", "know", "nix").code == 2


def test_a_device_that_is_gone_while_its_neighbour_answers(town: LabHere) -> None:
    """An old rule leads to the neighbour, which is of the same make; the planned one is not there."""
    town.run("lab", "break", "forward-to-twin", "slip-film")
    town.run("lab", "break", "router-mute")
    town.run("lab", "break", "host-off", "slip-film")
    wrong = looked(town, "slip-film", *PHONE, code=1)
    assert (wrong["verdict"], wrong["identity"]) == ("unproven", "none")
    assert "inside nothing comes back in the same moment" in wrong["detail"]


def test_a_provider_that_answers_itself(town: LabHere) -> None:
    town.run("lab", "break", "provider-answers", "hub-page")
    wrong = looked(town, "hub-page", *PHONE, code=1)
    assert (wrong["verdict"], wrong["identity"]) == ("mismatched", "other")
    found = {one["code"]: one["certainty"] for one in town.run("why", "hub-page", *PHONE).document["causes"]}
    assert "provider-answers" in found
    assert "certain" not in found.values()


def test_a_program_that_has_stopped_inside_while_something_answers_outside(town: LabHere) -> None:
    town.run("lab", "break", "forward-to-twin", "slip-film")
    town.run("lab", "break", "router-mute")
    town.run("lab", "break", "service-stopped", "slip-film")
    assert "inside it refuses in the same moment" in looked(town, "slip-film", *PHONE, code=1)["detail"]


@pytest.mark.parametrize(
    ("outside", "inside", "differ"),
    [(200, 200, False), (200, 401, True), (403, 200, True), (503, 200, False), (429, 200, False), (302, 200, False)],
)
def test_pages_of_the_same_moment(outside: int, inside: int, differ: bool) -> None:
    """A device that is busy with the other look is no other device."""
    pages = [PageSeen(status, None, None, None) for status in (outside, inside)]
    assert statuses_differ(*pages) is differ
    assert not statuses_differ(pages[0], None)


def test_what_a_table_said_lately_speaks_still_when_the_router_is_mute(town: LabHere) -> None:
    """Until a rule is entered anew, or the plan is another one."""
    town.run("lab", "break", "forward-to-twin", "slip-film")
    looked(town, "slip-film", *PHONE, code=1)
    town.run("lab", "break", "router-mute")
    wrong = looked(town, "slip-film", *PHONE, code=1)
    assert (wrong["verdict"], wrong["identity"]) == ("unproven", "none")
    assert "led to 10.44.7.177:554 when it was last read, just now" in wrong["detail"]
    town.run("lab", "clock", "--advance", "2h")
    assert looked(town, "slip-film", *PHONE, code=0)["identity"] == "kind", "that is long ago"
