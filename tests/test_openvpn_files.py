"""OpenVPN's and SSH's files of both sides: certificates, addresses, rights, revocation, and what is shown nowhere."""

from __future__ import annotations

import plistlib
import random
import re
import subprocess
import zipfile
from datetime import UTC, date, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from hooper.errors import MachineError
from hooper.planning.access import addresses_at, ends, grants, peer_at
from hooper.planning.local_ports import dynamic_port, forwards_of, local_port
from hooper.planning.topology import Topology
from hooper.site.load import SiteFile, parse_site
from hooper.tunnels.common import KeyMissing
from hooper.tunnels.keys import KeyRing
from hooper.tunnels.making import works_of
from hooper.tunnels.openvpn_authority import TunnelAuthority, make_authority, peer_name, server_name
from hooper.tunnels.ssh_files import key_line
from hooper.wire.ovpnfile import parse
from support.namespaces import needs
from support.program import Ran, hooper

NOW = datetime(2026, 5, 1, 12, tzinfo=UTC)
TODAY = NOW.date()
SITE = """\
version = 1
[site]
title = "Boathouse #1"
[lines.fibre]
address = "203.0.113.44"
[gateways.box]
line = "fibre"
lan = "10.44.7.1/24"
[hosts.gate]
address = "10.44.7.60"
ready.default_password_changed = true
[hosts.film-box]
address = "10.44.7.30"
[hosts.desk]
address = "10.44.7.40"
[services.gate]
host = "gate"
speaks = "{speaks}"
reach = "public"
[services.films]
host = "film-box"
speaks = "https"
port = 8443
reach = "tunnel"
[services.more]
host = "film-box"
speaks = "tcp"
port = 28443
reach = "tunnel"
[services.desk]
host = "desk"
speaks = "rdp"
reach = "tunnel"
"""


def openvpn(ring: KeyRing, peers: dict[str, str], *, second: bool = True, until: date | None = None) -> SiteFile:
    """A site with an OpenVPN tunnel and peers. peers: what each reaches, as written."""
    public = make_authority(ring, "oars", "Boathouse", NOW)
    text = SITE.format(speaks="openvpn")
    if second:
        text += (
            '[services.by-tcp]\nhost = "gate"\nspeaks = "openvpn"\ntransport = "tcp"\nport = 443\nreach = "public"\n'
        )
    text += f'[tunnels.oars]\nkind = "openvpn"\nservice = "gate"\nsubnet = "10.88.44.0/24"\npublic_key = "{public}"\n'
    text += 'subnet6 = "fd44:88:44::/64"\ndns = ["10.44.7.1"]\n' + ('also = "by-tcp"\n' if second else "")
    authority = TunnelAuthority(ring, public, "oars")
    for number, (key, into) in enumerate(peers.items()):
        own = authority.issue(key, until, NOW)
        text += f'[peers.{key}]\ntunnel = "oars"\naddress = "10.88.44.{11 + number}"\ninto = {into}\n'
        text += f'address6 = "fd44:88:44::{11 + number:x}"\npublic_key = "{own}"\n'
        text += f"until = {until}\n" if until is not None else ""
    return parse_site(text.encode(), "site.toml")


def loaded(text: str, what: str) -> x509.Certificate:
    inside = parse(text).inline(what)
    assert inside is not None
    return x509.load_pem_x509_certificate(inside.text.encode())


@pytest.mark.parametrize("seed", range(20))
def test_both_sides_match_and_each_peer_has_its_address_and_its_rights(seed: int, tmp_path: Path) -> None:
    chance = random.Random(seed)
    choices = ['"lan"', '"everything"', '["films"]', '["desk", "films"]', '["film-box"]', '["10.44.7.64/28"]']
    ring = KeyRing(tmp_path)
    file = openvpn(ring, {f"peer-{n}": chance.choice(choices) for n in range(4)}, second=chance.random() < 0.7)
    site, topology = file.site, Topology(file.site)
    made = works_of("openvpn").server_files(topology, "oars", ring, NOW, "/etc/openvpn/server")
    both = ends(site, "oars")
    for end in both:
        conf = made.files[f"{end.name}.conf"]
        server, ca = loaded(conf, "cert"), loaded(conf, "ca")
        server.verify_directly_issued_by(ca)
        assert ExtendedKeyUsageOID.SERVER_AUTH in server.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
        assert parse(conf).get("ccd-exclusive") is not None
        for key, peer in site.peers.items():
            own = made.files[f"{end.name}-peers/{peer_name(key, peer.public_key or '')}"]
            four = addresses_at(end, site.tunnels["oars"], peer)[0]
            assert f"ifconfig-push {four} " in own
            assert peer_at(site, four) == ("oars", key)
            rules = [line for line in made.files[f"{end.name}.nft"].splitlines() if f'comment "{key}"' in line]
            versions = {grant.network.version for grant in grants(site, key)}
            own_ones = [one for one in addresses_at(end, site.tunnels["oars"], peer) if one.version in versions]
            assert all(f"saddr {address} " in "".join(rules) for address in own_ones)
            assert len(rules) >= 1
    for key in site.peers:
        (text,) = (
            works_of("openvpn")
            .peer_files(topology, works_of("openvpn").profile_of(topology, key), ring, TODAY)
            .values()
        )
        read, own_certificate = parse(text), loaded(text, "cert")
        own_certificate.verify_directly_issued_by(loaded(made.files["oars.conf"], "ca"))
        uses = own_certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
        assert list(uses) == [ExtendedKeyUsageOID.CLIENT_AUTH]
        services = [site.services[end.service] for end in both]
        assert [option.words for option in read.every("remote")] == [
            ("203.0.113.44", str(one.used_ports.first), one.used_transport) for one in services
        ]
        name = read.get("verify-x509-name")
        assert name is not None
        assert name.word(0) == server_name("oars", site.tunnels["oars"].public_key or "")
        assert read.inline("tls-crypt").text.split() == parse(made.files["oars.conf"]).inline("tls-crypt").text.split()  # type: ignore[union-attr]
        subject = own_certificate.subject.get_attributes_for_oid(NameOID.COMMON_NAME)[0].value
        assert subject == peer_name(key, site.peers[key].public_key or "")
        assert re.fullmatch(r"[A-Za-z0-9._-]{1,64}", str(subject))  # as the software calls its file


def test_what_the_site_file_does_not_name_is_revoked(tmp_path: Path) -> None:
    ring = KeyRing(tmp_path)
    file = openvpn(ring, {"cox": '"lan"', "coach": '"lan"'})
    authority = TunnelAuthority(ring, file.site.tunnels["oars"].public_key or "", "oars")
    lost = authority.issue("cox", None, NOW)  # of a run that was killed before it wrote the file
    made = works_of("openvpn").server_files(Topology(file.site), "oars", ring, NOW, "/x").files["oars.crl"]
    listed = x509.load_pem_x509_crl(made[made.index("-----") :].encode())
    issued = dict(authority.issued())
    assert {entry.serial_number for entry in listed} == {issued[lost].serial_number}
    assert listed.is_signature_valid(x509.load_pem_x509_certificate(authority.certificate.encode()).public_key())  # type: ignore[arg-type]
    assert (listed.next_update_utc or NOW) - NOW > timedelta(days=3000)  # a list that ends would lock all out
    without = parse_site(file.text.replace(f'public_key = "{file.site.peers["coach"].public_key}"\n', "").encode(), "x")
    made = works_of("openvpn").server_files(Topology(without.site), "oars", ring, NOW, "/x").files["oars.crl"]
    listed = x509.load_pem_x509_crl(made[made.index("-----") :].encode())
    assert len(list(listed)) == 2


def test_certificates_end_with_the_peers_last_day_and_the_servers_is_made_anew_in_time(tmp_path: Path) -> None:
    ring = KeyRing(tmp_path)
    file = openvpn(ring, {"cox": '"lan"'}, until=date(2026, 8, 1))
    authority = TunnelAuthority(ring, file.site.tunnels["oars"].public_key or "", "oars")
    ((_, own),) = authority.issued()
    assert date(2026, 8, 2) <= own.not_valid_after_utc.date() <= date(2026, 8, 3)
    first = authority.server(NOW).certificate
    assert authority.server(NOW + timedelta(days=700)).certificate == first
    later = authority.server(NOW + timedelta(days=900))
    assert later.certificate != first
    assert later.key.reveal() == authority.server(NOW).key.reveal()  # peers need nothing new
    ended = NOW + timedelta(days=200)
    with pytest.raises(KeyMissing, match="has ended"):
        works_of("openvpn").peer_files(
            Topology(file.site), works_of("openvpn").profile_of(Topology(file.site), "cox"), ring, ended.date()
        )
    assert (
        "cox" not in works_of("openvpn").server_files(Topology(file.site), "oars", ring, ended, "/x").files["oars.nft"]
    )


def test_a_damaged_key_is_told_and_a_lost_one_too(tmp_path: Path) -> None:
    ring = KeyRing(tmp_path)
    file = openvpn(ring, {"cox": '"lan"'})
    public = file.site.tunnels["oars"].public_key or ""
    ring.path(public, "key").write_text(ring.path(file.site.peers["cox"].public_key or "", "key").read_text())
    with pytest.raises(MachineError, match="damaged"):
        TunnelAuthority(ring, public, "oars")
    ring.path(public, "key").unlink()
    with pytest.raises(KeyMissing, match="not kept"):
        TunnelAuthority(ring, public, "oars")


def test_local_ports_do_not_collide_and_follow_the_services(tmp_path: Path) -> None:
    text = SITE.format(speaks="ssh") + '[tunnels.quay]\nkind = "ssh"\nservice = "gate"\n'
    text += '[peers.cox]\ntunnel = "quay"\ninto = "lan"\n[peers.all]\ntunnel = "quay"\ninto = "everything"\n'
    site = parse_site(text.encode(), "site.toml").site
    ports = [local_port(site, key) for key in site.services]
    assert len(set(ports)) == len(ports)
    assert (local_port(site, "films"), local_port(site, "more")) == (18443, 18444)
    assert [one.service for one in forwards_of(site, "cox")] == ["films", "more", "desk"]
    assert forwards_of(site, "all") == ()
    assert dynamic_port(site) not in ports
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAINDn/yNvmT/5qbsR3q4N6zKkKJTtDIBZVxxsE1K9/TS2"
    limited = parse_site((text + f'public_key = "{key}"\nuntil = 2027-05-01\n').encode(), "site.toml").site
    line = key_line(limited, "all")
    assert line.startswith(
        'restrict,port-forwarding,command="/bin/false",permitlisten="127.0.0.1:1",expiry-time="20270501'
    )
    assert "permitopen" not in line
    nothing = parse_site(text.replace('into = "lan"', 'into = ["gate"]').encode(), "site.toml").site
    assert "port-forwarding" not in key_line(nothing, "cox")  # it would be a permit for everything


def test_no_secret_is_shown_or_left_where_others_read_it(tmp_path: Path) -> None:
    """All that the program printed, and every file but those that are private, searched for each line of each key."""
    printed: list[Ran] = []

    def run(*words: str) -> Ran:
        state = () if words[0] == "profile" else ("--state", str(tmp_path / "state"))
        ran = hooper(*words, "--site", str(tmp_path / "site.toml"), *state)
        assert ran.code in (0, 1), ran.err
        printed.append(ran)
        return ran

    (tmp_path / "site.toml").write_text(SITE.format(speaks="openvpn"))
    host = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAINDn/yNvmT/5qbsR3q4N6zKkKJTtDIBZVxxsE1K9/TS2"
    run("tunnel", "add", "oars", "--kind", "openvpn", "--service", "gate", "--second-port", "443")
    run("tunnel", "add", "quay", "--kind", "ssh", "--host", "desk", "--public-key", host)
    for tunnel, peer, ending in (("oars", "cox", "ovpn"), ("quay", "coach", "zip")):
        run("peer", "add", peer, "--tunnel", tunnel, "--device", "laptop")
        run("tunnel", "make", tunnel, "--out", str(tmp_path / tunnel))
        kept = [path.read_text() for path in (tmp_path / "state").rglob("*") if path.suffix in (".key", ".tls-crypt")]
        handed = tmp_path / f"{peer}.{ending}"
        run("peer", "hand", peer, "--out", str(handed), "--out", str(tmp_path / f"{peer}.html"), "--json")
        for words in (("tunnel", "list"), ("tunnel", "show", tunnel, "--json"), ("peer", "list", "--json")):
            run(*words)
        if ending == "ovpn":
            run("profile", "check", str(handed), "--json")
            (tmp_path / "bad.ovpn").write_text(handed.read_text().replace("remote 203.0.113.44", "remote 10.44.7.60"))
            (tmp_path / "bad.ovpn").chmod(0o600)
            run("profile", "mend", str(tmp_path / "bad.ovpn"), "--out", str(tmp_path / "mended.ovpn"))
        run("peer", "renew", peer)
        run("peer", "revoke", peer)
        secrets = {line for text in kept for line in text.splitlines() if len(line) > 24 and "-----" not in line}
        assert len(secrets) >= 3
        for ran in printed:
            assert not [line for line in secrets if line in ran.out + ran.err]
        for path in tmp_path.rglob("*"):
            if path.is_file() and path.stat().st_mode & 0o077:
                data = path.read_bytes()
                assert not [line for line in secrets if line.encode() in data], path
    with zipfile.ZipFile(tmp_path / "coach.zip") as archive:
        assert sorted(archive.namelist()) == ["quay.config", "quay.key", "quay.known"]
        assert all(entry.external_attr >> 16 & 0o777 == 0o600 for entry in archive.infolist())


def test_a_handed_archive_is_the_same_each_time(tmp_path: Path) -> None:
    ring = KeyRing(tmp_path)
    own = ring.make_ssh()
    host = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAINDn/yNvmT/5qbsR3q4N6zKkKJTtDIBZVxxsE1K9/TS2"
    text = SITE.format(speaks="ssh") + f'[tunnels.quay]\nkind = "ssh"\nservice = "gate"\npublic_key = "{host}"\n'
    text += f'[peers.cox]\ntunnel = "quay"\ninto = ["films"]\npublic_key = "{own}"\n'
    topology = Topology(parse_site(text.encode(), "site.toml").site)
    works = works_of("ssh")
    profile = works.profile_of(topology, "cox")
    files = works.peer_files(topology, profile, ring, TODAY)
    assert works.as_one(files) == works.as_one(files)
    assert "LocalForward 127.0.0.1:18443 10.44.7.30:8443" in files["quay.config"]
    assert files["quay.known"] == f"quay {host}\n"
    assert ip_address("203.0.113.44").version == 4


@pytest.mark.real
@pytest.mark.parametrize("system", ["windows", "macos"])
def test_files_for_other_systems_are_read_by_openvpn(tmp_path: Path, system: str) -> None:
    """OpenVPN itself reads each file to its end, and finds the peers' folder at the very path that is quoted there."""
    needs("openvpn", "unshare")
    site = tmp_path / "site.toml"
    site.write_text(f'{SITE.format(speaks="openvpn")}[names."boathouse.example"]\nline = "fibre"\n')
    folder = "C:\\Program Files\\OpenVPN\\config-auto" if system == "windows" else str(tmp_path / "at home")
    add = ("tunnel", "add", "oars", "--kind", "openvpn", "--service", "gate", "--runs-on", system, "--way-back", "nat")
    for words in (add, ("peer", "add", "cox", "--tunnel", "oars"),
                  ("tunnel", "make", "oars", "--out", str(tmp_path / "files"), "--server-folder", folder)):  # fmt: skip
        ran = hooper(*words, "--site", str(site), "--state", str(tmp_path / "state"))
        assert ran.code == 0, ran
    steps = re.sub(r"\s+", " ", ran.out)
    assert ("New-NetNat -Name oars" if system == "windows" else "/etc/pf.conf") in steps
    assert "were not tried by us" in steps
    made = tmp_path / "files"
    assert {path.suffix for path in made.iterdir() if path.is_file()} == (
        {".conf", ".crl"} if system == "windows" else {".conf", ".crl", ".plist"}
    )
    if system == "macos":
        assert plistlib.loads((made / "oars.plist").read_bytes())["ProgramArguments"][-1] == f"{folder}/oars.conf"
    for name in ("oars-peers", "oars.crl"):  # on this system one name, backslashes and all
        there = tmp_path / f"{folder}\\{name}" if system == "windows" else Path(folder) / name
        there.parent.mkdir(exist_ok=True)
        (made / name).rename(there)
    said = subprocess.run(
        ["unshare", "--net", "timeout", "3", "openvpn", "--cd", str(tmp_path), "--config", str(made / "oars.conf")],
        capture_output=True, text=True, timeout=30, check=False,
    ).stdout  # fmt: skip
    assert "Initialization Sequence Completed" in said, said
    (tmp_path / "files" / "oars.conf").write_text((made / "oars.conf").read_text().replace("oars-peers", "nobody"))
    broken = subprocess.run(
        ["unshare", "--net", "timeout", "3", "openvpn", "--cd", str(tmp_path), "--config", str(made / "oars.conf")],
        capture_output=True, text=True, timeout=30, check=False,
    ).stdout  # fmt: skip
    assert "Initialization Sequence Completed" not in broken
