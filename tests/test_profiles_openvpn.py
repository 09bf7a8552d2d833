"""Exported OpenVPN profiles: each mistake told, mended where that can be, and nothing else touched."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.tunnels.exported import mended
from hooper.tunnels.openvpn_look import OpenVpnLook
from hooper.tunnels.openvpn_profiles import look_at_openvpn
from hooper.wire.ovpnfile import parse, split
from support.exported_openvpn import (
    COACH_KEY,
    EXPORTED,
    NOW,
    SITE,
    STATIC,
    ExportedOpenVpn,
    key_pem,
    profile,
)
from support.profiles import touched
from support.program import hooper, valid

TOPOLOGY = Topology(parse_site(SITE.encode(), "site.toml").site)


def look_at(text: str, exported: ExportedOpenVpn) -> OpenVpnLook:
    return look_at_openvpn(TOPOLOGY, text, {}, exported.beside, NOW, frozenset(exported.beside))


@pytest.mark.parametrize("exported", EXPORTED, ids=lambda one: one.name)
def test_each_mistake_is_told_and_mended(exported: ExportedOpenVpn) -> None:
    assert {fault.code for fault in look_at(exported.text, exported).faults} == set(exported.codes)
    new, done = mended(lambda text: look_at(text, exported), exported.text)
    assert {fault.code for fault in look_at(new, exported).faults} == set(exported.left)
    assert bool(done) == (new != exported.text)
    told = touched(look_at(exported.text, exported), exported.text) | {fault.line for fault in done}
    kept = [line for number, line in enumerate(exported.text.splitlines(keepends=True), 1) if number not in told]
    there = new.splitlines(keepends=True)
    assert all(line in there for line in kept)
    assert new.count("\r\n") == (new.count("\n") if "\r\n" in exported.text else 0)


def test_the_mended_copy_of_a_phone_holds_all_that_lay_beside_and_shows_no_key(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    exported = next(one for one in EXPORTED if one.name == "files-beside")
    for name, text in exported.beside.items():
        (tmp_path / name).write_text(text or "")
        (tmp_path / name).chmod(0o644)
    (tmp_path / "x.ovpn").write_text(exported.text)
    (tmp_path / "x.ovpn").chmod(0o600)
    site = ("--site", str(tmp_path / "site.toml"))
    looked = hooper("profile", "check", str(tmp_path / "x.ovpn"), *site, "--json")
    (row,) = valid("profile-check", looked.document)["profiles"]
    assert (row["format"], row["tunnel"], row["peer"]) == ("openvpn", "box", "coach")
    assert {one["code"] for one in row["findings"]} == {"file-beside", "profile-readable"}
    taking = [word for name in exported.beside for word in ("--take-in", name)]
    ran = hooper("profile", "mend", str(tmp_path / "x.ovpn"), "--out", str(tmp_path / "new.ovpn"), *site, *taking)
    assert ran.code == 0, ran.err
    new = (tmp_path / "new.ovpn").read_text()
    assert all((text or "").strip() in new for text in exported.beside.values())
    assert (tmp_path / "new.ovpn").stat().st_mode & 0o777 == 0o600
    for secret in (*key_pem(COACH_KEY).splitlines()[1:-1], *STATIC.splitlines()[1:-1]):
        assert secret not in ran.out + ran.err + looked.out


def test_two_devices_with_one_certificate_are_told(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    for name in ("one", "two"):
        (tmp_path / f"{name}.ovpn").write_text(profile())
        (tmp_path / f"{name}.ovpn").chmod(0o600)
    files = [str(tmp_path / f"{name}.ovpn") for name in ("one", "two")]
    ran = hooper("profile", "check", *files, "--site", str(tmp_path / "site.toml"), "--json")
    assert [one["code"] for one in ran.document["profiles"][1]["findings"]] == ["profile-twin"]
    (tmp_path / "site.toml").write_text(SITE.replace('[peers.cox]', '[peers.cox]', 1).replace(
        'dns = ["10.44.7.1"]', 'dns = ["10.44.7.1"]\none_secret = true'))  # fmt: skip
    ran = hooper("profile", "check", *files, "--site", str(tmp_path / "site.toml"), "--json")
    assert not ran.document["profiles"][1]["findings"]


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ('remote "my server" 1194', ["remote", "my server", "1194"]),
        ("ca 'C:\\keys\\ca.crt' # here", ["ca", "C:\\keys\\ca.crt"]),
        ('ca "C:\\\\keys\\\\ca.crt";', ["ca", "C:\\keys\\ca.crt"]),
        ('a "" b', ["a", "", "b"]),
        ('a "b', None),
        ("  # nothing", []),
        ("a b#c ;d", ["a", "b#c"]),
        ('a b"c d"', ["a", 'b"c', 'd"']),
        ("ca C:\\keys", None),
        ("ca my\\ file", ["ca", "my file"]),
    ],
)
def test_a_line_is_read_as_the_software_reads_it(line: str, words: list[str] | None) -> None:
    assert split(line) == words


@given(st.text(alphabet=st.sampled_from("<>/caremot 01.#;\"'\\\r\n\ufeff"), max_size=120))
def test_any_text_is_read_and_its_places_are_right(given_text: str) -> None:
    read = parse(given_text)
    for one in read.options:
        written = given_text[one.start : one.end].strip()
        written = written.removeprefix("\ufeff") if one.start == 0 else written
        assert split(written) in ([one.name, *one.words], [f"--{one.name}", *one.words])
    for inside in read.inlines:
        assert given_text[inside.start : inside.end].strip().endswith(f"</{inside.name}>")


@given(st.sampled_from(EXPORTED), st.data())
def test_damaged_profiles_never_break_the_look(exported: ExportedOpenVpn, data: st.DataObject) -> None:
    at = data.draw(st.integers(0, len(exported.text)))
    cut = data.draw(st.integers(0, 12))
    put = data.draw(st.text(max_size=4))
    damaged = exported.text[:at] + put + exported.text[at + cut :]
    new, _ = mended(lambda text: look_at(text, exported), damaged)
    look_at(new, exported)
