"""Exported profiles: each mistake told, mended where that can be, and nothing else touched."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.tunnels.exported import look_at, mended
from hooper.tunnels.look import BaseLook
from hooper.wire.wgfile import parse
from hooper.wire.wireguard import public_of
from hooper.words.catalogue import codes, meaning
from support import exported_openvpn, profiles
from support.profiles import EXPORTED, SITE, Exported, phone, text, touched
from support.program import hooper, valid

SITE_READ = parse_site(SITE.encode(), "site.toml")
TOPOLOGY = Topology(SITE_READ.site)


def look_again(given: str) -> BaseLook:
    return look_at(TOPOLOGY, given, {})


@pytest.mark.parametrize("exported", EXPORTED, ids=lambda one: one.name)
def test_each_mistake_is_told_and_mended(exported: Exported) -> None:
    look = look_at(TOPOLOGY, exported.text, {})
    assert {fault.code for fault in look.faults} == set(exported.codes)
    new, done = mended(look_again, exported.text)
    left = {fault.code for fault in look_at(TOPOLOGY, new, {}).faults}
    assert left == set(exported.left)
    assert bool(done) == (new != exported.text)


def lines(given: str) -> list[str]:
    return given.splitlines(keepends=True)


@pytest.mark.parametrize("exported", EXPORTED, ids=lambda one: one.name)
def test_only_the_wrong_lines_change(exported: Exported) -> None:
    """Each line of the file that was not complained about stands in the new one as it was."""
    new, done = mended(look_again, exported.text)
    told = touched(look_at(TOPOLOGY, exported.text, {}), exported.text) | {fault.line for fault in done}
    kept = [line for number, line in enumerate(lines(exported.text.lstrip("\ufeff")), 1) if number not in told]
    there = lines(new)
    assert all(line in there for line in kept if not line.startswith("["))
    assert ("\r\n" in new) == ("\r\n" in exported.text)
    if "\r\n" in new:
        assert new.count("\r\n") == new.count("\n")


def test_two_files_with_one_key_are_told(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    for name in ("one", "two"):
        (tmp_path / f"{name}.conf").write_text(phone())
        (tmp_path / f"{name}.conf").chmod(0o600)
    files = [str(tmp_path / f"{name}.conf") for name in ("one", "two")]
    ran = hooper("profile", "check", *files, "--site", str(tmp_path / "site.toml"), "--json")
    document = valid("profile-check", ran.document)
    assert ran.code == 1
    assert [row["peer"] for row in document["profiles"]] == ["cox-phone", "cox-phone"]
    assert [one["code"] for one in document["profiles"][1]["findings"]] == ["profile-twin", "profile-twin"]


def test_mending_is_a_private_copy_and_shows_no_key(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    exported = tmp_path / "exported.conf"
    exported.write_text(phone(endpoint="10.44.7.60:51820"))
    exported.chmod(0o644)
    before = exported.read_bytes()
    site = ("--site", str(tmp_path / "site.toml"))
    ran = hooper("profile", "mend", str(exported), "--out", str(tmp_path / "new.conf"), *site)
    assert ran.code == 0
    assert exported.read_bytes() == before
    assert (tmp_path / "new.conf").stat().st_mode & 0o777 == 0o600
    assert f"Endpoint = {profiles.ENDPOINT}" in (tmp_path / "new.conf").read_text()
    assert "+ Endpoint" in ran.out.replace("+Endpoint", "+ Endpoint")
    for secret in (text(profiles.COX), profiles.COX.hex()):
        assert secret not in ran.out + ran.err
    again = hooper("profile", "mend", str(exported), "--out", str(exported), *site)
    assert again.code == 5
    assert exported.read_bytes() == before
    shared = hooper("profile", "check", str(exported), *site)
    assert "profile-readable" in shared.out


def test_a_file_in_utf_16_is_told_and_rewritten(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    (tmp_path / "x.conf").write_text(phone(), encoding="utf-16")
    (tmp_path / "x.conf").chmod(0o600)
    site = ("--site", str(tmp_path / "site.toml"))
    assert "UTF-16" in hooper("profile", "check", str(tmp_path / "x.conf"), *site).out
    assert hooper("profile", "mend", str(tmp_path / "x.conf"), "--out", str(tmp_path / "y.conf"), *site).code == 0
    assert (tmp_path / "y.conf").read_bytes() == phone().encode()


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b'{"client": 1}', "JSON"),
        (b"\x89PNG\r\n\x1a\n\xff", "no text"),
        (b"", "neither"),
        (b"[Interface]\n" + b"#" * 300_000, "larger"),
    ],
)
def test_what_is_no_profile_is_told_so(tmp_path: Path, data: bytes, said: str) -> None:
    (tmp_path / "site.toml").write_text(SITE)
    (tmp_path / "x.conf").write_bytes(data)
    ran = hooper("profile", "check", str(tmp_path / "x.conf"), "--site", str(tmp_path / "site.toml"))
    assert ran.code == (6 if said == "larger" else 2)
    assert said in ran.err


def test_a_servers_file_is_read_as_one() -> None:
    server = (
        f"[Interface]\nPrivateKey = {text(profiles.SERVER)}\nListenPort = 51820\nAddress = 10.88.44.1/24\n"
        f"[Peer]\nPublicKey = {profiles.COX_PUBLIC}\nAllowedIPs = 0.0.0.0/0\n"
        f"[Peer]\nPublicKey = {text(public_of(profiles.STRANGER))}\nAllowedIPs = 10.88.44.77/32\n"
        f"[Peer]\nPublicKey = {text(public_of(profiles.PROBE))}\nAllowedIPs = 10.88.44.77/32\n"
    )
    look = look_at(TOPOLOGY, server, {})
    assert look.is_server
    assert [fault.code for fault in look.faults] == ["key-unknown", "allowed-takes-others", "profile-twin"]
    new, _ = mended(look_again, server)
    assert "AllowedIPs = 10.88.44.11/32\n" in new


@given(st.text(alphabet=st.sampled_from("[]Interface Per=#\r\n\ufeffAddsKy10./,:é"), max_size=120))
def test_any_text_is_read_and_its_places_are_right(given_text: str) -> None:
    read = parse(given_text)
    for section in read.sections:
        for entry in section.entries:
            assert given_text[entry.start : entry.end] == entry.value
            assert entry.line_start <= entry.start <= entry.end <= entry.line_end


@given(st.sampled_from(EXPORTED), st.data())
def test_damaged_profiles_never_break_the_look(exported: Exported, data: st.DataObject) -> None:
    at = data.draw(st.integers(0, len(exported.text)))
    cut = data.draw(st.integers(0, 12))
    put = data.draw(st.text(max_size=4))
    damaged = exported.text[:at] + put + exported.text[at + cut :]
    new, _ = mended(look_again, damaged)
    look_at(TOPOLOGY, new, {})


def test_every_mistake_of_the_catalogue_is_tried() -> None:
    tried = {code for exported in EXPORTED for code in exported.codes}
    tried |= {code for exported in exported_openvpn.EXPORTED for code in exported.codes}
    tried |= {"profile-twin", "profile-readable", "allowed-takes-others"}  # told below and above
    assert tried == {code for code in codes("finding") if meaning("finding", code).group == "profile"}


def test_the_site_of_these_tests_is_one() -> None:
    assert tomllib.loads(SITE)["version"] == 1
