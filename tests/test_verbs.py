"""The same verbs for each table of the site file, and names that are followed wherever they stand."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from hooper.cli.parts.entity import ALL
from hooper.cli.parts.tables import rows_of
from hooper.planning.edits import rename
from hooper.site.load import parse_site
from hooper.site.mistakes import singular
from hooper.site.model import Form, Site
from hooper.site.pointers import pointing
from hooper.site.positions import comments
from hooper.words.data import data
from support.program import BOATHOUSE, LabHere, Ran, hooper, town_here, valid
from test_edit import MANY_WAYS

TABLES = ("lines", "gateways", "hosts", "services", "names", "updaters", "certificates", "authorities", "tunnels",
          "peers", "notices")  # fmt: skip
MORE = """
[notices.cox]      # the first
to = "file:secrets/cox"
[tunnels.oars] # with a comment
service = "gate"
subnet = "10.88.44.0/24"
into = [ "film-page", # the films
  "hub" ]
[peers.cox-phone]
tunnel = "oars"
address = "10.88.44.11"
into = ["film-page"]
"""
ADDED = {
    "lines": ("--address", "dynamic", "--mtu", "1492"),
    "gateways": ("--behind", "club-router", "--wan", "10.44.7.2", "--lan", "10.5.0.1/24", "--form-sources", "yes"),
    "hosts": ("--address", "10.44.7.99"),
    "services": ("--host", "hub", "--port", "8099"),
    "names": ("--line", "fibre"),
    "updaters": ("--kind", "command", "--command", "/usr/bin/tell", "--no-token"),
    "certificates": ("--names", "boathouse.heronquay.example"),
    "authorities": ("--directory", "https://ca.heronquay.example/directory", "--agreed", "yes"),
    "notices": ("--to", "file:secrets/new", "--about", "broken", "--about", "mended", "--masked", "yes"),
    "tunnels": ("--kind", "wireguard", "--service", "gate"),
    "peers": ("--tunnel", "oars",),
}  # fmt: skip
CHANGED = {
    "lines": ("--mtu", "1460"), "gateways": ("--form-rules", "20"), "hosts": ("--mac", "02:00:00:00:00:09"),
    "services": ("--port", "8098"), "names": ("--by", "own-zone"),
    "updaters": ("--spacing", "5m"), "certificates": ("--challenge", "dns-01"),
    "authorities": ("--contact", "mailto:cox@heronquay.example"), "notices": ("--quiet-hours", "22:00-07:00"),
    "tunnels": ("--way-back", "nat"), "peers": ("--person", "cox"),
}  # fmt: skip


def new_name(table: str) -> str:
    return "quay.heronquay.example" if table == "names" else "renamed"


def written(folder: Path) -> Path:
    site = folder / "site.toml"
    site.write_text(BOATHOUSE + MORE)
    return site


def run(site: Path, *words: str) -> Ran:
    return hooper(*words, "--site", str(site))


def documents(ran: Ran, name: str) -> Any:
    assert ran.code == 0, ran
    return valid(name, ran.document)


def test_each_table_has_all_verbs() -> None:
    known = data("examples")
    missing = {f"{singular(table)} {verb}" for table in TABLES for verb in ALL} - {*known}
    assert not missing


@pytest.mark.parametrize("table", TABLES)
def test_an_entry_goes_through_all_verbs_and_the_file_is_as_before(tmp_path: Path, table: str) -> None:
    site, group, entry = written(tmp_path), singular(table), new_name(table)
    before = site.read_bytes()
    assert entry not in hooper(group, "list", "--site", str(site), "--json").out
    added = documents(run(site, group, "add", entry, *ADDED[table], "--json"), "edit")
    assert added["subject"] == f"{table}.{entry}"
    made = site.read_bytes()
    changed = documents(run(site, group, "change", entry, *CHANGED[table], "--json"), "edit")
    assert len(changed["changes"]) == 1
    run(site, "undo")
    assert site.read_bytes() == made
    if table != "tunnels":  # which shows more
        (shown,) = documents(run(site, group, "show", entry, "--json"), "entries")["entries"]
        assert (shown["name"], shown["named_by"]) == (entry, [])
        assert shown["keys"]
    assert run(site, group, "remove", entry).code == 0
    assert tomllib.loads(site.read_text()) == tomllib.loads(before.decode())
    while run(site, "undo").code == 0:
        pass
    assert site.read_bytes() == before


@pytest.mark.parametrize("table", TABLES)
def test_a_name_is_followed_and_back_again_byte_for_byte(tmp_path: Path, table: str) -> None:
    site, group = written(tmp_path), singular(table)
    before = site.read_bytes()
    for old in tomllib.loads(before.decode())[table]:
        renamed = documents(run(site, group, "rename", old, new_name(table), "--json"), "edit")
        assert bool(renamed["follows"]) == (table in ("names", "tunnels"))
        assert len(renamed["changes"]) == 1 + users(before.decode(), table, old).total()
        text = site.read_text()
        assert users(text, table, new_name(table)) == users(before.decode(), table, old)
        assert not users(text, table, old) or old in parse_site(text.encode(), "").site.services
        assert run(site, group, "rename", new_name(table), old).code == 0
        assert site.read_bytes() == before


def users(text: str, table: str, name: str) -> Counter[tuple[str, str]]:
    """The keys that name one, by table; a device that a service has the name of is named by its address alone."""
    found = pointing(parse_site(text.encode(), "").site)
    return Counter(
        (one.pointer.table, one.pointer.key) for one in found if table in one.pointer.into and one.value == name
    )


def test_a_name_is_followed_in_every_way_of_writing_it() -> None:
    for text in (MANY_WAYS, MANY_WAYS.replace("\n", "\r\n")):
        file = parse_site(text.encode(), "site.toml")
        for table in ("lines", "gateways", "hosts", "services"):
            for old in getattr(file.site, table):
                there = rename(file, table, old, "new").text
                again = parse_site(there.encode(), "site.toml")
                assert Counter(comments(there)) == Counter(comments(text))
                back = parse_site(rename(again, table, "new", old).text.encode(), "site.toml")
                assert back.site == file.site


def test_a_dns_name_is_found_however_it_is_spelled(tmp_path: Path) -> None:
    site = written(tmp_path)
    name = "boathouse.heronquay.example"
    site.write_text(site.read_text().replace(f'[names."{name}"]', f'[names."{name.title()}."]\nhost = "hub"'))
    before = site.read_bytes()
    assert run(site, "host", "rename", "hub", "heating").code == 0
    assert tomllib.loads(site.read_text())["names"][f"{name.title()}."]["host"] == "heating"
    assert run(site, "name", "add", name.upper(), "--by", "own-zone").code == 0
    assert run(site, "name", "rename", name, "Quay.heronquay.example").code == 0
    assert run(site, "name", "rename", "quay.heronquay.example", "QUAY.heronquay.example").code == 2
    found = tomllib.loads(site.read_text())
    assert [*found["names"]] == ["quay.heronquay.example"]
    assert found["certificates"]["boathouse"]["names"] == ["quay.heronquay.example"]
    assert run(site, "name", "show", "quay.heronquay.example").code == 0
    for _ in range(3):
        assert run(site, "undo").code == 0
    assert site.read_bytes() == before


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("host rename film-box hub", "there is a host 'hub' already"),
        ("host rename nobody x", "there is no host 'nobody'"),
        ("host rename film-box no.dots", "'no.dots' cannot be a name"),
        ("line remove fibre", "fibre is used by gateways.fibre-box"),
        ("authority remove town-ca", "town-ca is used by certificates."),
        ("gateway change club-router", "nothing to change was given"),
        ("gateway change club-router --form-sources maybe", "--form-sources 'maybe' is neither yes nor no"),
        ("line change fibre --mtu much", "--mtu: "),
        ("gateway add shed --behind club-router", "lan"),
        ("authority show twon-ca", "there is no authority 'twon-ca'"),
    ],
)
def test_what_cannot_be_is_said_and_nothing_is_written(tmp_path: Path, words: str, said: str) -> None:
    site = written(tmp_path)
    before = site.read_bytes()
    ran = run(site, *words.split())
    assert (ran.code, site.read_bytes()) == (2, before), ran
    assert said in ran.err


def test_a_table_without_entries_is_changed_and_back_again(tmp_path: Path) -> None:
    site = written(tmp_path)
    before = site.read_bytes()
    (shown,) = documents(run(site, "measure", "show", "--json"), "entries")["entries"]
    assert {row["key"] for row in shown["keys"]} == {"stun", "resolvers"}
    stun = ("--stun", "192.0.2.77:3478", "--stun", "192.0.2.78:3478")
    changed = documents(run(site, "measure", "change", *stun, "--unset", "resolvers", "--json"), "edit")
    assert (changed["subject"], [one["key"] for one in changed["changes"]]) == ("measure", ["stun", "resolvers"])
    assert tomllib.loads(site.read_text())["measure"] == {"stun": ["192.0.2.77:3478", "192.0.2.78:3478"]}
    assert run(site, "measure", "change", "--unset", "echo").code == 2
    assert run(site, "undo").code == 0
    assert site.read_bytes() == before
    site.write_text("version = 1\n")
    assert run(site, "measure", "change", *stun).code == 0
    assert run(site, "measure", "show").out.startswith("measure\n   stun = ")


def test_what_a_page_can_do_is_asked(tmp_path: Path) -> None:
    site = written(tmp_path)
    before = site.read_bytes()
    assert set(data("form")) <= set(Form.model_fields)
    for answers, code, said in (
        (
            "?\nno\n\n\nperhaps\nY\n\n\n\n\n\n\n0\n30\n",
            0,
            ("Most pages have two fields", "'perhaps': yes or no", "'0': a number"),
        ),
        ("\n" * 11, 0, ("Nothing is different",)),
        ("no\n", 2, ("nothing was written",)),
    ):
        ran = hooper("gateway", "form", "fibre-box", "--site", str(site), stdin=answers)
        assert (ran.code, [one for one in said if one not in ran.err]) == (code, []), ran.err
    form = parse_site(site.read_bytes(), "").site.gateways["fibre-box"].form
    assert (form.translate, form.sources, form.rules) == (False, True, 30)
    run(site, "undo")
    assert site.read_bytes() == before


@pytest.mark.parametrize("before", ["", "one", "several", "in brackets"])
def test_a_risk_is_taken_and_given_up(tmp_path: Path, before: str) -> None:
    """Whatever stands there already, and however it is written."""
    site = written(tmp_path)
    one = 'finding = "login-without-factor", reason = "soon", until = 2027-01-01'
    table = "\n[services.desk.accepted]\n" + one.replace(", ", "\n") + "\n"
    if before in ("one", "several"):
        site.write_text(site.read_text() + (table.replace("[services.desk.accepted]", "[[services.desk.accepted]]")
                                            if before == "several" else table))  # fmt: skip
    elif before:
        site.write_text(
            site.read_text().replace("[services.desk]\n", f"[services.desk]\naccepted = [{{ {one} }}] # why\n")
        )
    text = site.read_bytes()
    taken = ["login-without-factor"] if before else []
    assert [row["finding"] for row in listed(site)] == taken
    ran = run(site, "risk", "add", "desk", "desktop-open", "--reason", "until the tunnel", "--until", "2099-01-01")
    assert ran.code == 0, ran
    assert [row["finding"] for row in listed(site)] == [*taken, "desktop-open"]
    assert run(site, "risk", "remove", "desk", "desktop-open").code == 0
    assert [row["finding"] for row in listed(site)] == taken
    for _ in range(2):
        assert run(site, "undo").code == 0
    assert site.read_bytes() == text
    for finding in taken:
        assert run(site, "risk", "remove", "desk", finding).code == 0
        assert run(site, "risk", "remove", "desk", finding).code == 2
    assert listed(site) == []
    assert run(site, "risk", "add", "desk", "desktop-open", "--reason", " ").code == 2
    assert run(site, "risk", "add", "desk", "desktop-open", "--reason", "x", "--until", "2020-01-01").code == 2
    assert run(site, "risk", "add", "desk", "port-clash", "--reason", "x").code == 2


def listed(site: Path) -> Any:
    found = documents(run(site, "risk", "list", "--json"), "risk-list")["risks"]
    return [row for row in found if row["service"] == "desk"]


def test_each_key_of_a_table_has_an_option() -> None:
    """But for what other packages read, and for what has commands of its own."""
    for table, of in Site.model_fields.items():
        if table in TABLES:
            entry = of.annotation.__args__[1]  # type: ignore[union-attr]
            tops = {key.split(".")[0] for key in rows_of(table)}
            left = {"options", "ready", "accepted", "set", "set_text", "clear_text", "answers"}
            assert {*entry.model_fields} - left <= tops | {"form"}, table


# --- what is kept follows


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Any:
    with town_here(tmp_path_factory.mktemp("lab")) as lab:
        yield lab


def test_what_is_kept_of_an_entry_follows_its_name_and_comes_back(town: LabHere) -> None:
    lab = town
    lab.enter_sheets()
    for words in ("survey", "router open", "check --from interface:usb0", "name update", "cert order",
                  "tunnel add oars --kind wireguard --service gate", "peer add cox-phone --tunnel oars"):  # fmt: skip
        lab.run(*words.split())
    names = {"services": ("film-page", "films"), "gateways": ("club-router", "inmost"), "lines": ("fibre", "glass"),
             "certificates": ("boathouse", "quay"), "peers": ("cox-phone", "tablet"), "tunnels": ("oars", "sculls"),
             "hosts": ("film-box", "filmstore"), "updaters": ("club-names", "teller")}  # fmt: skip

    def stands() -> dict[str, str]:
        asked = ("status", "router list", "cert list", "history")
        return {word: lab.run(*word.split(), "--json").out for word in asked}

    def outside(service: str) -> Any:
        steps = lab.run("why", service, "--json").document["steps"]
        return next(step["state"] for step in steps if step["step"] == "outside")

    assert outside("film-page") == "ok"
    before = stands()
    for table, (old, new) in names.items():
        ran = lab.run(singular(table), "rename", old, new)
        assert (ran.code, "error" in ran.err) == (0, False), ran
    after = stands()
    assert "outdated" not in after["status"]
    for word, text in after.items():
        for old, new in names.values():
            text = re.sub(rf"(?<![\w-]){new}(?![\w-])", old, text)
        assert Counter(lines_of(text)) == Counter(lines_of(before[word])), word
    for _ in names:
        assert lab.run("undo").code == 0
    for word, text in stands().items():
        assert Counter(lines_of(text)) == Counter(lines_of(before[word])), word
    lab.run("service", "rename", "film-page", "films")
    assert outside("films") == "ok", "by the look before, under the other name"


DRY = (
    "plan --pin", "worksheet --ticked", "tunnel make oars --out files", "peer hand cox-phone --out cox.conf",
    "move --out moved --passphrase env:PHRASE", "move --anew", "name update", "cert order", "router open",
    "host change hub --address 10.44.7.51", "host know hub",
)  # fmt: skip


@pytest.mark.parametrize("words", DRY)
def test_a_dry_run_writes_nothing(town: LabHere, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: str) -> None:
    """No byte of a file and no row of the state, but what was looked at; what it would do it can still do."""
    monkeypatch.chdir(tmp_path)
    if "oars" not in town.run("tunnel", "list").out:
        town.run("tunnel", "add", "oars", "--kind", "wireguard", "--service", "gate")
        town.run("peer", "add", "cox-phone", "--tunnel", "oars", "--into", "film-page")
    before, listed = files_of(town.folder), town.run("peer", "list").out
    ran = town.run(*words.split(), "--dry-run", PHRASE="four oars and a cox")
    assert ran.code in (0, 1, 5), ran.err
    assert (files_of(town.folder), town.run("peer", "list").out) == (before, listed)
    assert files_of(tmp_path) == {}
    assert "Next:" not in ran.err or words in ("plan --pin", "router open", "name update", "cert order"), ran.err


def test_a_device_that_was_only_looked_at_is_not_known(tmp_path: Path) -> None:
    with town_here(tmp_path) as lab:

        def before() -> set[Any]:
            return {one["before"] for one in lab.run("host", "know", "hub", "--json").document["signs"]}

        assert lab.run("host", "know", "hub", "--dry-run").code == 0
        assert before() == {None}
        assert None not in before()


def files_of(folder: Path) -> dict[str, bytes]:
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and ".sqlite3" not in path.name and path.parent.name != "locks"
    }


def lines_of(text: str) -> list[str]:
    """Without what tells when it was looked, and without sentences, in which a name may be followed by a mark."""
    left_out = (" ago", '"seconds"', '"detail"', '"message"', '": "20')  # the last: moments
    return [line for line in text.splitlines() if not any(word in line for word in left_out)]
