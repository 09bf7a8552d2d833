"""Killed at each write of a change to peers: the server's files and the peers' still match, whatever kind it is."""

from __future__ import annotations

import base64
import os
import zipfile
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509

from hooper.certs.inspect import public_text
from hooper.planning.topology import Topology
from hooper.site.load import SiteFile, parse_site
from hooper.tunnels.keys import KeyRing
from hooper.tunnels.making import works_of
from hooper.tunnels.openvpn_authority import TunnelAuthority
from hooper.wire import ovpnfile, wgfile
from hooper.wire.wireguard import public_of
from support.program import hooper

NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
HOST_KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAINDn/yNvmT/5qbsR3q4N6zKkKJTtDIBZVxxsE1K9/TS2"
SITE = """\
version = 1
[lines.fibre]
address = "203.0.113.44"
[gateways.box]
line = "fibre"
lan = "10.44.7.1/24"
[hosts.gate]
address = "10.44.7.60"
[services.gate]
host = "gate"
speaks = "{kind}"
reach = "public"
[services.films]
host = "gate"
speaks = "https"
reach = "tunnel"
"""
SSH = f'[tunnels.oars]\nkind = "ssh"\nservice = "gate"\npublic_key = "{HOST_KEY}"\n'  # `tunnel add` would look at it


class Killed(BaseException):
    """As SIGKILL: nothing that is written to handle errors handles it."""


@pytest.mark.parametrize("kind", ["wireguard", "openvpn", "ssh"])
@pytest.mark.parametrize(
    "words",
    [
        ("peer", "add", "coach", "--into", "lan"),
        ("peer", "hand", "cox-phone", "--out", "{}/handed.{}"),
        ("peer", "renew", "cox-phone"),
        ("peer", "revoke", "cox-phone"),
    ],
    ids=["add", "hand", "renew", "revoke"],
)
def test_killed_at_each_step_both_sides_still_match(
    words: tuple[str, ...], kind: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ending = {"wireguard": "conf", "openvpn": "ovpn", "ssh": "zip"}[kind]
    for step in range(90):
        folder = tmp_path / str(step)
        folder.mkdir()
        site, state = folder / "site.toml", folder / "state"
        site.write_text(SITE.format(kind=kind) + (SSH if kind == "ssh" else ""))
        more = ("--site", str(site), "--state", str(state))
        if kind != "ssh":
            assert hooper("tunnel", "add", "oars", "--kind", kind, "--host", "gate", *more).code == 0
        assert hooper("peer", "add", "cox-phone", "--into", "lan", *more).code == 0
        with monkeypatch.context() as patched:
            died = die_at(patched, step)
            with suppress(Killed):
                hooper(*(word.format(folder, ending) for word in words), *more)
            done = not died()
        both_match(kind, site, state, folder / f"handed.{ending}")
        assert hooper("peer", "list", *more).code in (0, 1)
        both_match(kind, site, state, folder / f"handed.{ending}")
        if done:
            assert step > 2
            return
    raise AssertionError("it never came to its end")


def die_at(patched: pytest.MonkeyPatch, step: int) -> Callable[[], bool]:
    """From the step on every write dies: a file put in its place, one taken away, a row of the state."""
    left = step
    replace, unlink = os.replace, Path.unlink

    def live() -> None:
        nonlocal left
        left -= 1
        if left < 0:
            raise Killed

    def replacing(*given: Any, **more: Any) -> None:
        live()
        replace(*given, **more)
        live()

    def unlinking(self: Path, *given: Any, **more: Any) -> None:
        live()
        unlink(self, *given, **more)
        live()

    patched.setattr(os, "replace", replacing)
    patched.setattr(Path, "unlink", unlinking)
    return lambda: left < 0


def both_match(kind: str, site: Path, state: Path, handed: Path) -> None:
    """The server's files can be made, and whoever has a file with a key that the site knows is let in by it."""
    file, ring = parse_site(site.read_bytes(), str(site)), KeyRing(next(state.glob("*/tunnels")))
    files = works_of(kind).server_files(Topology(file.site), "oars", ring, NOW, "/etc/x").files
    {"wireguard": wireguard_matches, "openvpn": openvpn_matches, "ssh": ssh_matches}[kind](file, ring, files, handed)


def wireguard_matches(file: SiteFile, ring: KeyRing, files: Mapping[str, str], handed: Path) -> None:
    server = wgfile.parse(files["oars.conf"])
    there = {section.get("PublicKey").value: section for section in server.peers}  # type: ignore[union-attr]
    for peer in file.site.peers.values():
        assert peer.public_key is None or peer.public_key in there
        if peer.public_key is not None and (private := ring.private(peer.public_key)) is not None:
            assert base64.b64encode(public_of(base64.b64decode(private.reveal()))).decode() == peer.public_key
    if handed.exists():
        own = wgfile.parse(handed.read_text())
        assert own.interface is not None
        private_text = own.interface.get("PrivateKey").value  # type: ignore[union-attr]
        section = there[base64.b64encode(public_of(base64.b64decode(private_text))).decode()]
        assert section.get("PresharedKey").value == own.peers[0].get("PresharedKey").value  # type: ignore[union-attr]
        assert own.peers[0].get("PublicKey").value == file.site.tunnels["oars"].public_key  # type: ignore[union-attr]


def openvpn_matches(file: SiteFile, ring: KeyRing, files: Mapping[str, str], handed: Path) -> None:
    authority = TunnelAuthority(ring, file.site.tunnels["oars"].public_key or "", "oars")
    text = files["oars.crl"]
    revoked = {entry.serial_number for entry in x509.load_pem_x509_crl(text[text.index("-----") :].encode())}
    current = {peer.public_key for peer in file.site.peers.values() if peer.public_key is not None}
    for key, own in authority.issued():
        assert (own.serial_number in revoked) == (key not in current)
    for public in current:
        assert authority.certificate_of(public) is not None
        private = authority.private_of(public)
        assert private is None or public_text(private.reveal()) == public
    if handed.exists():
        own_file, server = ovpnfile.parse(handed.read_text()), ovpnfile.parse(files["oars.conf"])
        certificate = x509.load_pem_x509_certificate(inline(own_file, "cert").encode())
        certificate.verify_directly_issued_by(x509.load_pem_x509_certificate(inline(server, "ca").encode()))
        assert certificate.serial_number not in revoked
        assert public_text(inline(own_file, "key")) in current
        assert inline(own_file, "tls-crypt").split() == inline(server, "tls-crypt").split()


def inline(file: ovpnfile.OpenVpnFile, name: str) -> str:
    found = file.inline(name)
    assert found is not None
    return found.text


def ssh_matches(file: SiteFile, ring: KeyRing, files: Mapping[str, str], handed: Path) -> None:
    (permits,) = (text for name, text in files.items() if name.endswith(".keys"))
    for peer in file.site.peers.values():
        assert peer.public_key is None or peer.public_key in permits
        if peer.public_key is not None and (private := ring.private(peer.public_key)) is not None:
            assert public_text(private.reveal()) == peer.public_key
    if handed.exists():
        with zipfile.ZipFile(handed) as archive:
            texts = [archive.read(name).decode() for name in archive.namelist()]
        (key,) = (text for text in texts if "PRIVATE KEY" in text)
        assert public_text(key) in permits
