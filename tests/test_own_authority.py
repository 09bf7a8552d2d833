"""An authority of one's own: bound to its names, taken by OpenSSL and a browser for these and refused for others."""

from __future__ import annotations

import plistlib
import ssl
import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given
from hypothesis import strategies as st

from hooper.certs.client_words import clients_say
from hooper.certs.inspect import allowed_by, judge, load_pem
from hooper.certs.issuing import certify, constraints, key_text, new_ec_key, pem_text
from hooper.certs.own_authority import OwnAuthority, make_root
from hooper.dnsnames import may_sign
from support.namespaces import needs
from support.program import hooper, town_here, valid

NOW = datetime.now(UTC).replace(microsecond=0)
SIGNS = ("home.arpa", "10.44.7.0/24")


def openssl(folder: Path, *words: str) -> tuple[bool, str]:
    ran = subprocess.run(["openssl", *words], cwd=folder, capture_output=True, text=True, timeout=60, check=False)
    return ran.returncode == 0, ran.stdout + ran.stderr


@pytest.fixture(scope="module")
def house(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, OwnAuthority]:
    at = tmp_path_factory.mktemp("house")
    root = make_root(at, "house", SIGNS, NOW)
    (at / "root.pem").write_text(root)
    return at, OwnAuthority(at, "house", root)


NAMES: list[tuple[str, bool]] = [
    ("films.home.arpa", True), ("home.arpa", True), ("a.b.home.arpa", True), ("nothome.arpa", False),
    ("home.arpa.example", False), ("boathouse.heronquay.example", False), ("10.44.7.30", True), ("10.44.8.1", False),
    ("fd00::1", False), ("*.home.arpa", True),
]  # fmt: skip


@pytest.mark.parametrize(("name", "fits"), NAMES)
def test_what_it_may_sign_is_judged_as_openssl_does(house: tuple[Path, OwnAuthority], name: str, fits: bool) -> None:
    """Vectors of RFC 5280 section 4.2.1.10: a leaf that its key has signed all the same, held against the root."""
    at, own = house
    try:
        one: Any = ip_address(name)
    except ValueError:
        one = name
    leaf = own.issue([one], new_ec_key().public_key(), NOW)
    (at / "leaf.pem").write_text(pem_text(leaf))
    said = openssl(at, "verify", "-CAfile", "root.pem", "leaf.pem")
    assert said[0] is fits, said
    assert may_sign(SIGNS, one) is fits
    assert allowed_by(own.root, leaf) is fits
    wanted = "x.home.arpa" if name.startswith("*") else name
    problems = judge([leaf], wanted, [own.root], NOW, planned=True).problems
    assert (problems == ()) is fits
    words = clients_say([leaf], [(wanted, wanted)], [], [own.root], NOW)
    told = next(word for word in words if word.client == "told-of-root")
    assert told.takes is fits
    assert fits or told.problems == ("beyond-its-authority",)


@pytest.mark.parametrize("days", [-1, 0, 30, 89, 91, 3600, 3640, 3649, 3651, 4000])
def test_no_leaf_outlasts_its_root_as_openssl_has_it(house: tuple[Path, OwnAuthority], days: int) -> None:
    """One leaf of the first day and one of the root's last months, each at days before, within and after both."""
    at, own = house
    now = NOW + timedelta(days=days, minutes=5)
    for issued in (NOW, NOW + timedelta(days=3580)):
        leaf = own.issue(["films.home.arpa"], new_ec_key().public_key(), issued)
        (at / "leaf.pem").write_text(pem_text(leaf))
        said = openssl(at, "verify", "-attime", str(int(now.timestamp())), "-CAfile", "root.pem", "leaf.pem")
        judged = judge([leaf], "films.home.arpa", [own.root], now, planned=True)
        assert (not judged.problems) == said[0], (issued, judged, said)


@given(
    st.lists(st.sampled_from(["home.arpa", "lan", "a.example", "10.0.0.0/8", "10.44.7.0/24", "fd44::/16"]), max_size=4),
    st.sampled_from(
        ["home.arpa", "x.lan", "b.a.example", "a.example.org", "10.1.2.3", "10.44.7.9", "fd44::1", "fe80::1"]
    ),
)
def test_what_the_root_says_is_what_the_site_file_says(signs: list[str], name: str) -> None:
    """However it is bound, the constraint in the root and the rule of the site file agree on every name."""
    key = new_ec_key()
    root = certify("r", key.public_key(), None, key, NOW, timedelta(days=1), "authority", signs=signs)
    one: Any = ip_address(name) if name[0] in "1f" else name
    leaf = certify("l", key.public_key(), root, key, NOW, timedelta(days=1), "server", names=[one])
    assert allowed_by(root, leaf) is may_sign(signs, one)


def test_the_constraints_leave_no_kind_of_address_open() -> None:
    only_names = constraints(["home.arpa"])
    assert list(only_names.permitted_subtrees or ()) == [x509.DNSName("home.arpa")]
    nets = [one.value for one in only_names.excluded_subtrees or ()]
    assert nets == [ip_network("0.0.0.0/0"), ip_network("::/0")]
    only_networks = constraints(["10.44.7.0/24"])
    assert [one.value for one in only_networks.excluded_subtrees or ()] == ["", ip_network("::/0")]


def test_its_list_names_what_was_revoked(house: tuple[Path, OwnAuthority]) -> None:
    at, own = house
    good, gone = (own.issue(["films.home.arpa"], new_ec_key().public_key(), NOW) for _ in range(2))
    own.revoke(gone, NOW)
    path = own.list_path(NOW)
    for leaf, well in ((good, True), (gone, False)):
        (at / "leaf.pem").write_text(pem_text(leaf))
        said = openssl(at, "verify", "-crl_check", "-CAfile", "root.pem", "-CRLfile", str(path), "leaf.pem")
        assert said[0] is well, said
    assert "revoked" in said[1]
    assert (at / path.parent / "key.pem").stat().st_mode & 0o077 == 0


@contextmanager
def shown(folder: Path, leaf: x509.Certificate, key: Any) -> Iterator[int]:
    """A page on loopback that shows this certificate; its port."""
    (folder / "shown.pem").write_text(pem_text(leaf) + key_text(key))

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.end_headers()
            self.wfile.write(b"<title>Race films</title>the films")

        def log_message(self, *_: object) -> None: ...

    server = HTTPServer(("127.0.0.1", 0), Page)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(folder / "shown.pem")
    server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


@pytest.mark.real
def test_a_browser_takes_it_for_its_names_alone(tmp_path: Path) -> None:
    """A headless browser that was given the root, as `cert trust` says: its list of its own, by certutil."""
    needs("chromium", "certutil")
    root = make_root(tmp_path, "house", SIGNS, NOW)
    (tmp_path / "root.pem").write_text(root)
    own, home = OwnAuthority(tmp_path, "house", root), tmp_path / "home"
    store = home / ".pki" / "nssdb"
    store.mkdir(parents=True)
    for words in (("-N", "--empty-password"), ("-A", "-t", "C,,", "-n", "house", "-i", str(tmp_path / "root.pem"))):
        subprocess.run(["certutil", "-d", f"sql:{store}", *words], check=True, timeout=30)
    loaded = {}
    for name in ("films.home.arpa", "boathouse.heronquay.example"):
        key = new_ec_key()
        with shown(tmp_path, own.issue([name], key.public_key(), NOW), key) as port:
            ran = subprocess.run(
                ["chromium", "--headless", "--no-sandbox", "--disable-gpu", f"--user-data-dir={tmp_path / name}",
                 f"--host-resolver-rules=MAP {name} 127.0.0.1", "--dump-dom", f"https://{name}:{port}/"],
                capture_output=True, text=True, timeout=60, check=False,
                env={"HOME": str(home), "PATH": "/usr/bin:/bin"},
            )  # fmt: skip
        loaded[name] = "the films" in ran.stdout
    assert loaded == {"films.home.arpa": True, "boathouse.heronquay.example": False}


def test_from_making_it_to_taking_it_back(tmp_path: Path) -> None:
    """In the town: made, written down, issued, shown by a device and judged well; then revoked, and issued anew."""
    with town_here(tmp_path / "lab") as lab:
        assert lab.run("authority", "make", "house", "--dry-run").code == 0
        assert not (tmp_path / "lab" / "house-root.pem").exists()
        made = valid("authority-make", lab.run("authority", "make", "house", "--json").document)
        assert made["signs"] == ["home.arpa", "192.168.90.0/24", "10.44.7.0/24"]
        assert lab.run("authority", "make", "house").code == 5
        assert lab.run("authority", "make", "town-ca").code == 2
        wrong = lab.run("authority", "make", "other", "--signs", "not a name!")
        assert (wrong.code, "--signs: 'not a name!' is not a DNS name" in wrong.err) == (2, True), wrong
        assert lab.run("authority", "make", "bad name!").code == 2
        assert lab.run("cert", "new-key", "house").code == 2
        beyond = lab.run("certificate", "add", "far", "--names", "far.example", "--authority", "house")
        assert (beyond.code, "may not sign for far.example" in beyond.err) == (2, True)
        assert lab.run("service", "add", "hub-lan", "--host", "hub", "--speaks", "https", "--port", "8443", "--reach",
                       "lan").code == 0  # fmt: skip
        add = (
            "certificate",
            "add",
            "hub-lan",
            "--names",
            "hub.home.arpa",
            "--authority",
            "house",
            "--services",
            "hub-lan",
        )
        assert lab.run(*add).code == 0
        (row,) = valid("cert", lab.run("cert", "order", "hub-lan", "--json").document)["certificates"]
        assert (row["state"], row["days_left"]) == ("ordered", 89)
        shown_one = load_pem(Path(row["chain"]).read_bytes())[0]
        san = shown_one.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        assert [str(one.value) for one in san] == ["hub.home.arpa", "10.44.7.50"]
        assert lab.run("lab", "install", "hub-lan", "hub-page").code == 0
        result = lab.run("check", "hub-lan", "--json").document["results"][0]
        assert (result["ok"], result["problems"]) == (True, []), result
        trust = valid("cert-trust", lab.run("cert", "trust", "--json").document)
        assert trust["fingerprint"] == made["fingerprint"]
        assert lab.run("cert", "trust", "--out", str(tmp_path / "roots")).code == 0
        profile = plistlib.loads((tmp_path / "roots" / "house-root.mobileconfig").read_bytes())
        root = load_pem((tmp_path / "roots" / "house-root.pem").read_bytes())[0]
        assert profile["PayloadContent"][0]["PayloadContent"] == root.public_bytes(Encoding.DER)
        assert str(tmp_path) not in (tmp_path / "roots" / "index.html").read_text()
        assert lab.run("cert", "revoke", "hub-lan", "--json").document["certificates"][0]["state"] == "revoked"
        (row,) = lab.run("cert", "order", "hub-lan", "--json").document["certificates"]
        assert row["state"] == "ordered"


def test_a_key_that_is_kept_elsewhere_is_said(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text('version = 1\n[authorities.house]\nkind = "own"\n')
    more = ("--site", str(tmp_path / "site.toml"), "--state", str(tmp_path / "state"))
    assert hooper("authority", "make", "house", "--signs", "home.arpa", *more).code == 0
    with (tmp_path / "site.toml").open("a") as file:
        file.write('[certificates.a]\nnames = ["a.home.arpa"]\nauthority = "house"\n')
    ran = hooper("cert", "order", "--site", str(tmp_path / "site.toml"), "--state", str(tmp_path / "other"))
    assert (ran.code, "is not kept here" in ran.err) == (2, True)
    assert hooper("cert", "order", *more).code == 0
