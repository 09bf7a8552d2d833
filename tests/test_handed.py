"""Names that a web server tells apart on one port: planned by one rule, held back together, checked and explained."""

from __future__ import annotations

import random
from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import Any

import pytest

from hooper.errors import HooperError
from hooper.planning.edits import add_service, pin
from hooper.planning.kept_back import kept_back
from hooper.planning.plan import make_plan
from hooper.planning.topology import Topology
from hooper.planning.typed import typed
from hooper.site.handed import bearers
from hooper.site.load import SiteFile, parse_site
from support.namespaces import PUBLIC, SITE, KernelTown, kernel_town, needs
from support.program import LabHere, hooper, town_here, valid
from test_real_giving import Home

TODAY = date(2026, 5, 1)
DEVICES = ("photo", "film", "notes", "doors")
NAME = "regatta.heronquay.example"


HEAD = """\
version = 1
[lines.fibre]
address = "203.0.113.7"
[gateways.box]
line = "fibre"
lan = "10.1.1.1/24"
[hosts.server]
address = "10.1.1.10"
ready.default_password_changed = true
"""


def site(services: list[str], *more: str, ticked: bool = True) -> SiteFile:
    head = [HEAD]
    for at, key in enumerate(DEVICES):
        tick = "ready.default_password_changed = true\n" if ticked else ""
        head.append(f'[hosts.{key}]\naddress = "10.1.1.{20 + at}"\n{tick}[names."{key}.example"]\nline = "fibre"\n'
                    f'[services.{key}-page]\nhost = "{key}"\nspeaks = "http"\nport = {5000 + at}\n')  # fmt: skip
    return parse_site("".join([*head, *services, *more]).encode(), "site.toml")


def handed(key: str, *more: str, port: int = 443) -> str:
    rest = "\n".join([f"port = {port}", *more, ""])
    return (f'[services.{key}]\nhost = "server"\nspeaks = "https"\nreach = "public"\nname = "{key}.example"\n'
            f'hands_to = "{key}-page"\n{rest}')  # fmt: skip


WEB = '[services.web]\nhost = "server"\nspeaks = "https"\nreach = "public"\n'


@pytest.mark.parametrize("seed", range(6))
def test_one_port_has_one_rule_whatever_the_order(seed: int) -> None:
    """Names never take a port from each other, and none of them has another outside port than its neighbours'."""
    draw = random.Random(seed)
    ports = {key: draw.choice((443, 8443)) for key in DEVICES}
    tables = [handed(key, port=ports[key]) for key in DEVICES] + ([WEB] if draw.random() < 0.5 else [])
    plans = set()
    for _ in range(4):
        draw.shuffle(tables)
        file = site(tables)
        plan = make_plan(file, TODAY)
        plans.add(plan.forwards)
        assert plan.feasible, plan.findings
        assert sorted(rule.outside_ports[0] for rule in plan.forwards if rule.outside_ports) == sorted(
            {*ports.values(), *([443] if WEB in tables else [])}
        )
        topology = Topology(file.site)
        for key, port in ports.items():
            text = typed(topology, key)
            assert text is not None
            assert text.text == f"https://{key}.example{'' if port == 443 else f':{port}'}/"
            by = topology.bearer(key)
            assert {rule.service for rule in plan.forwards if rule.outside_ports == (port, port)} == {by}
            assert topology.outside_ports[key] == topology.outside_ports[by]
        assert not [item for item in plan.findings if item.code in ("open-by-another", "port-clash", "port-chosen")]
    assert len(plans) == 1


def test_a_name_more_moves_nobody() -> None:
    """Neither the outside port nor whose rule it is, once the web server's own service is there."""
    file = site([WEB, handed("photo")])
    rows: dict[str, Any] = {"host": "server", "speaks": "https", "reach": "public", "name": "doors.example",
                            "hands_to": "doors-page"}  # fmt: skip
    more = add_service(file, "aa-doors", rows)
    after = parse_site(more.text.encode(), "site.toml")
    assert make_plan(after, TODAY).forwards == make_plan(file, TODAY).forwards
    assert "outside_port" not in more.text.partition("[services.aa-doors]")[2]
    pinned = parse_site(pin(after).text.encode(), "site.toml")
    assert [key for key, one in pinned.site.services.items() if one.outside_port is not None] == ["web"]


@pytest.mark.parametrize(
    ("tables", "place", "says"),
    [
        ([WEB, handed("photo").replace("photo.example", "film.example"), handed("film")], "name", "has this name"),
        ([WEB, handed("photo").replace('name = "photo.example"\n', "")], "photo", "the key 'name' is missing"),
        ([WEB, handed("photo").replace("photo-page", "nobody")], "hands_to", "nobody"),
        ([WEB, handed("photo").replace("photo-page", "web")], "", ""),
        ([WEB, handed("photo"), handed("film").replace("film-page", "photo")], "hands_to", "hands on itself"),
        ([WEB, handed("photo").replace('"https"', '"ssh"')], "hands_to", "ssh is not handed on by name"),
        ([WEB, handed("photo").replace('"public"', '"lan"')], "reach", "another one than that of web"),
        ([WEB, handed("photo", 'sources = ["198.51.100.0/24"]')], "sources", "another one than that of web"),
        ([WEB, handed("photo", "outside_port = 444")], "outside_port", "another one than that of web"),
    ],
)  # fmt: skip
def test_what_cannot_be_told_apart_is_said_where_it_stands(tables: list[str], place: str, says: str) -> None:
    if not says:  # a web server's page may stand behind its own port
        assert bearers(site(tables).site) == {"photo": "web"}
        return
    with pytest.raises((HooperError, ExceptionGroup)) as found:
        site(tables)
    errors = found.value.errors if hasattr(found.value, "errors") else [found.value]
    assert any(place in str(one) and says in str(one) for one in errors), [str(one) for one in errors]


def test_the_device_behind_holds_all_of_the_port_back() -> None:
    """One rule lets all of the names in: a default password behind one of them keeps the rule from being entered."""
    file = site([WEB, handed("photo"), handed("film")], ticked=False)
    held = kept_back(file.site, make_plan(file, TODAY))
    assert {*held} == {"web", "photo", "film"}
    for found in held.values():
        assert {str(item.message).partition(":")[0] for item in found} == {"photo", "film"}
    assert kept_back(site([WEB, handed("photo")]).site, make_plan(site([WEB, handed("photo")]), TODAY)) == {}


# --- in the town


@pytest.fixture(scope="module")
def lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabHere]:
    with town_here(tmp_path_factory.mktemp("handed")) as lab:
        lab.run("router", "open")
        lab.enter_sheets()
        assert lab.run("name", "add", NAME, "--line", "fibre", "--by", "club-names").code == 0
        added = lab.run("service", "add", "regatta", "--host", "hub", "--speaks", "https", "--port", "8443",
                        "--reach", "public", "--name", NAME, "--hands-to", "recorder-page", "--json")  # fmt: skip
        assert added.code == 0, added
        assert lab.run("name", "update", "--json").code == 0
        yield lab


def causes(lab: LabHere, *more: str) -> dict[str, str]:
    ran = lab.run("why", "regatta", "--json", *more)
    return {cause["code"]: cause["certainty"] for cause in valid("why", ran.document)["causes"]}


OUTSIDE = ("--from", "interface:usb0")


def test_each_name_is_proven_and_each_fault_has_its_cause(lab: LabHere) -> None:
    lab.run("lab", "hand-on", NAME, "recorder-page")
    ran = lab.run("check", "regatta", "hub-page", *OUTSIDE, "--json")
    titles = [row["evidence"]["page"]["title"] for row in valid("check", ran.document)["results"]]
    assert (ran.code, titles) == (0, ["Recorder", "Heating and doors"])
    assert causes(lab, *OUTSIDE) == {}

    lab.run("lab", "break", "host-off", "recorder-page")
    assert causes(lab, *OUTSIDE) == {"behind-down": "certain"}
    lab.run("lab", "plug", "away")  # nobody sees the device behind
    assert "behind-unheard" in causes(lab, *OUTSIDE)
    lab.run("lab", "plug", "home")
    lab.run("lab", "mend")

    lab.run("lab", "hand-on", NAME, "slip-page")
    assert causes(lab, *OUTSIDE) == {"handed-to-other": "certain"}
    row = lab.run("check", "regatta", "--from", "here", "--json").document["results"][0]
    assert (row["ok"], row["problems"]) == (False, ["handed-to-other"])

    lab.run("lab", "hand-on", NAME)
    assert causes(lab, *OUTSIDE) == {"name-refused": "certain"}
    lab.run("lab", "hand-on", NAME, "recorder-page")
    assert causes(lab, *OUTSIDE) == {}


def test_a_rule_that_is_missing_is_the_web_servers(lab: LabHere) -> None:
    lab.run("lab", "break", "forward-missing-inner", "hub-page")
    try:
        assert causes(lab, *OUTSIDE) == {"rule-lost": "certain"}
    finally:
        lab.run("lab", "mend")
    refused = lab.run("router", "close", "regatta", "--json")
    assert refused.code == 2
    assert "has no rule of its own" in refused.document["errors"][0]["message"]


def test_what_is_written_and_shown_of_it(lab: LabHere) -> None:
    plan = valid("plan", lab.run("plan", "--json").document)
    assert plan["by_name"] == [{"service": "regatta", "name": NAME, "by": "hub-page", "server": "hub",
                                "hands_to": "recorder-page", "host": "recorder"}]  # fmt: skip
    assert all(rule["service"] != "regatta" for rule in plan["forwards"])
    ran = lab.run("service", "secure", "regatta", "--by", "nginx", "--json")
    secured = valid("service-secure", ran.document)
    assert "listen 8443 ssl;" in secured["config"]
    assert "proxy_pass http://10.44.7.22:8085;" in secured["config"]
    (row,) = secured["services"]
    assert row["url"] == f"https://{NAME}:8443/"
    told = {step["code"]: step["text"] for step in row["steps"]}
    assert "10.44.7.50" in told["trusted-proxy"]
    assert "recorder" in told["base-url"]
    assert f"hands {NAME} on to recorder-page" in lab.run("service", "list").out
    removed = lab.run("service", "remove", "recorder-page", "--json")
    assert "regatta" in removed.document["errors"][0]["message"]


# --- with a real web server behind two kernel NATs


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    needs("nginx")
    with kernel_town(tmp_path_factory.mktemp("handed"), KernelTown, "h") as built:
        yield built


@pytest.mark.real
def test_nginx_hands_two_names_on_behind_two_nats(town: KernelTown, tmp_path: Path) -> None:
    """Its file is written by the plan and tested by nginx; each name is proven from the mobile network; a device that
    stops behind it, and a name that it lacks, are told as what they are.
    """
    home = Home(town, tmp_path)
    names = {"films": "film-box", "heating": "hub"}
    text = SITE.replace('[services.film-page]\nhost = "film-box"\nspeaks = "https"\nreach = "public"\n', "")
    text = text.partition("[services.hub-page]")[0]
    text += '[hosts.web]\naddress = "10.44.7.105"\nready.default_password_changed = true\n'
    text += '[authorities.house]\nkind = "own"\n'
    for name, host in names.items():
        text += (f'[services.{name}-page]\nhost = "{host}"\nspeaks = "http"\nport = 8080\n'
                 f'[names."{name}.home.arpa"]\nline = "fibre"\nupdated_by = "device"\n'
                 f'[services.{name}]\nhost = "web"\nspeaks = "https"\nport = 9443\noutside_port = 9443\n'
                 f'reach = "public"\nname = "{name}.home.arpa"\nhands_to = "{name}-page"\n'
                 f'[certificates.{name}]\nnames = ["{name}.home.arpa"]\nauthority = "house"\n'
                 f'services = ["{name}"]\n')  # fmt: skip
    home.file = town.folder / "handed.toml"
    home.file.write_text(text)
    assert home("authority", "make", "house", site="handed.toml").code == 0
    ordered = home("cert", "order", site="handed.toml")
    assert ordered.code == 0, ordered
    town.serve_page("films-page", "film-box", 8080, "Race films", tls=False)
    town.serve_page("heating-page", "hub", 8080, "Heating", tls=False)
    folder = town.folder / "web"
    folder.mkdir()
    conf = folder / "handed-on.conf"
    whole = folder / "nginx.conf"
    temporary = "".join(f"{kind}_temp_path {folder}/{kind}; " for kind in ("client_body", "proxy", "fastcgi", "uwsgi",
                                                                          "scgi"))  # fmt: skip
    whole.write_text(f"daemon off; user root; error_log {folder}/said; pid {folder}/pid;\nevents {{}}\n"
                     f"http {{ access_log off; {temporary} include {conf}; }}\n")  # fmt: skip
    made = home("service", "secure", "films", "--by", "nginx", "--out", str(conf), site="handed.toml")
    assert made.code == 0, made
    assert {row["service"] for row in made.document["services"]} == {"films", "heating"}
    assert "nginx" in made.document["tested"]
    town.serve("web", "here", 9443, "nginx", "-c", str(whole), "-p", str(folder))
    sheets = hooper("worksheet", "--json", "--site", str(home.file))
    assert sheets.code == 0, sheets
    rules = [rule for sheet in sheets.document["sheets"] for rule in sheet["rules"] if rule["service"] == "films"]
    assert len(rules) == 2, "one rule on each router, of the first by key"
    town.clear()
    town.enter(sheets.document["sheets"])

    def seen() -> dict[str, tuple[bool, list[str], str | None]]:
        ran = hooper("check", "films", "heating", "--from", "interface:usb0", "--public", PUBLIC, "--site",
                     str(home.file), "--state", str(home.state / "state"), "--json", "--deadline", "3",
                     place=town.ns("here"))  # fmt: skip
        return {row["service"]: (row["ok"], row["problems"], (row["evidence"]["page"] or {}).get("title"))
                for row in valid("check", ran.document)["results"]}  # fmt: skip

    assert seen() == {"films": (True, [], "Race films"), "heating": (True, [], "Heating")}
    town.stop("heating-page")
    films, heating = seen()["films"], seen()["heating"]
    assert (films[0], heating[1]) == (True, ["behind-down"])
    town.serve_page("heating-page", "hub", 8080, "Heating", tls=False)
    right = conf.read_text()
    conf.write_text(right.replace("server_name heating.home.arpa;", "server_name elsewhere.home.arpa;"))
    town.serve("web", "here", 9443, "nginx", "-c", str(whole), "-p", str(folder))
    assert seen()["heating"][1] == ["name-refused"]
    conf.write_text(right.replace("proxy_pass http://10.44.7.50:8080;", "proxy_pass http://10.44.7.30:8080;"))
    town.serve("web", "here", 9443, "nginx", "-c", str(whole), "-p", str(folder))
    assert seen()["heating"][1] == ["handed-to-other"]
