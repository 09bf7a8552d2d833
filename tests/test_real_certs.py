"""Certificates from a real ACME authority behind nothing, to a site behind two kernel NATs whose routers speak IGD."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from support.namespaces import PUBLIC, RENTED, SITE, KernelTown, kernel_town, needs, sh
from support.program import hooper, valid
from test_real_automatic import SECRET, Here

pytestmark = pytest.mark.real
ZONE = "heronquay.example"
NAMES = f"""\
[measure]
resolvers = ["{RENTED}"]
[names."boathouse.{ZONE}"]
line = "fibre"
updated_by = "own-zone"
[names."films.{ZONE}"]
line = "fibre"
[updaters.own-zone]
kind = "dns-update"
key = "boathouse-key"
token = "file:zone-key"
[authorities.town]
directory = "https://{RENTED}:14000/dir"
agreed = true
trust = "file:roots.pem"
"""


class Pebble:
    """The authority, at the rented machine."""

    def __init__(self, town: KernelTown) -> None:
        needs("pebble")
        self.town, self.folder = town, town.folder / "pebble"
        self.folder.mkdir(exist_ok=True)
        kind = ("-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "30")
        sh("openssl", "req", "-x509", *kind, "-subj", "/CN=town", "-addext", f"subjectAltName=IP:{RENTED}",
           "-keyout", str(self.folder / "key.pem"), "-out", str(self.folder / "own.pem"))  # fmt: skip
        config = {
            "listenAddress": "0.0.0.0:14000", "managementListenAddress": "0.0.0.0:15000", "ocspResponderURL": "",
            "certificate": str(self.folder / "own.pem"), "privateKey": str(self.folder / "key.pem"),
            "httpPort": 80, "tlsPort": 443, "externalAccountBindingRequired": False,
        }  # fmt: skip
        (self.folder / "config.json").write_text(json.dumps({"pebble": config}))

    def start(self) -> None:
        """With other roots than before, and nothing that it knew."""
        settings = ("PEBBLE_VA_NOSLEEP=1", "PEBBLE_ALTERNATE_ROOTS=1", "PEBBLE_WFE_NONCEREJECT=30")
        config = ("-config", str(self.folder / "config.json"), "-dnsserver", f"{RENTED}:53", "-strict")
        self.town.serve("pebble", "rented", 14000, "env", *settings, "pebble", *config)
        own = (self.folder / "own.pem").read_text()
        (self.town.folder / "roots.pem").write_text(own + self.root(0) + self.root(1))

    def ask(self, path: str) -> str:
        """Its page for tests."""
        return self.town.run("rented", "curl", "-sk", f"https://{RENTED}:15000/{path}")

    def root(self, number: int) -> str:
        return self.ask(f"roots/{number}")


def part(pem: str, *words: str) -> str:
    return subprocess.run(
        ["openssl", "x509", "-noout", *words], input=pem, capture_output=True, text=True, check=True, timeout=30
    ).stdout


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Iterator[KernelTown]:
    with kernel_town(tmp_path_factory.mktemp("certs"), KernelTown, "c") as town:
        (town.folder / "zone-key").write_text(SECRET + "\n")
        town.serve_router("club-router", secure=False, more=f"ext_ip={PUBLIC}")
        town.serve_router("fibre-box", secure=True)
        town.serve_names("rented", SECRET)
        zone = town.folder / "names" / "zone.db"
        town.stop("names")
        kept = zone.read_text().replace("203.0.113.40", PUBLIC)
        zone.write_text(f"{kept}films IN A {PUBLIC}\n_acme-challenge.films IN CNAME films.proofs\n")
        town.serve("names", "rented", 53, "named", "-f", "-c", str(town.folder / "names" / "named.conf"))
        town._wait_for_zone("rented")
        yield town


@pytest.fixture
def pebble(built: KernelTown) -> Pebble:
    found = Pebble(built)
    found.start()
    return found


class AtHome(Here):
    """Its commands, at a site whose certificate says these lines."""

    def site(self, *lines: str, name: str = "boathouse", more: str = "") -> None:
        text = SITE.replace('control = "hand"', 'control = "igd"').replace('"dynamic"', f'"{PUBLIC}"')
        certificate = f'[certificates.club]\nnames = ["{name}.{ZONE}"]\nauthority = "town"\nservices = ["hub-page"]\n'
        (self.town.folder / "certs.toml").write_text("\n".join((text, NAMES, certificate, *lines, more, "")))

    def run(self, *words: str) -> tuple[int, dict[str, Any], dict[str, Any]]:
        ran = self("cert", *words, site="certs.toml")
        document = valid("cert", ran.document)
        return ran.code, next(iter(document["certificates"]), {}), document

    def lent(self) -> list[Any]:
        """What stands in both routers' tables by now."""
        ran = hooper("router", "list", "--json", "--site", str(self.town.folder / "certs.toml"), "--state",
                     str(self.state / "state"), place=self.town.ns("here"))  # fmt: skip
        return [rule for gateway in ran.document["gateways"] for rule in gateway["rules"]]


@pytest.fixture
def home(built: KernelTown, pebble: Pebble, tmp_path: Path) -> AtHome:
    return AtHome(built, tmp_path)


@pytest.mark.parametrize(
    ("challenge", "key_type", "how"),
    [
        ("dns-01", "p-384", "own-zone sets the TXT record"),
        ("http-01", "rsa-2048", "let port 80 in"),
        ("tls-alpn-01", "p-256", "let port 443 in"),
    ],
)
def test_every_challenge_through_two_routers(
    home: AtHome, pebble: Pebble, challenge: str, key_type: str, how: str
) -> None:
    """A port is entered at both routers for the proof alone, and nothing of it is left."""
    home.site(f'challenge = "{challenge}"', f'key_type = "{key_type}"')
    code, row, document = home.run("order")
    assert code == 0, document
    assert (row["state"], row["proofs"][0]["challenge"]) == ("ordered", challenge)
    assert how in row["proofs"][0]["why"]
    assert home.lent() == []
    shown = Path(row["chain"]).read_text()
    (pebble.folder / "root.pem").write_text(pebble.root(0))
    (pebble.folder / "between.pem").write_text(shown[shown.index("-----END") :].partition("\n")[2])
    (pebble.folder / "leaf.pem").write_text(shown)
    at = pebble.folder
    sh("openssl", "verify", "-CAfile", f"{at}/root.pem", "-untrusted", f"{at}/between.pem", f"{at}/leaf.pem")
    assert {"p-384": "secp384r1", "rsa-2048": "2048 bit", "p-256": "prime256v1"}[key_type] in part(shown, "-text")
    assert Path(row["key"]).stat().st_mode & 0o077 == 0
    assert home.run("order")[1]["state"] == "current"


def test_a_rule_that_stands_at_the_port_is_put_back(home: AtHome) -> None:
    home.site('challenge = "tls-alpn-01"')
    assert home("router", "open", "film-page", site="certs.toml").code == 0
    before = sorted((rule["outside_ports"], rule["target_address"]) for rule in home.lent())
    assert ([443, 443], "10.44.7.30") in [(list(ports), target) for ports, target in before]
    code, row, document = home.run("order")
    assert (code, row["state"]) == (0, "ordered"), document
    assert sorted((rule["outside_ports"], rule["target_address"]) for rule in home.lent()) == before
    assert home("router", "close", site="certs.toml").code == 0


def test_a_record_that_another_zone_has(home: AtHome) -> None:
    """The name's own updater is nobody; its record is an alias into a part of the zone that an updater may change."""
    home.site('text_by = "own-zone"', name="films")
    code, row, document = home.run("order")
    assert (code, row["state"], row["proofs"][0]["challenge"]) == (0, "ordered", "dns-01"), document


def test_a_chain_to_the_other_root(home: AtHome, pebble: Pebble) -> None:
    other = part(pebble.root(1), "-subject", "-nameopt", "multiline").partition("commonName")[2].split("=")[1].strip()
    home.site(f'chain_to = "{other}"')
    code, row, _ = home.run("order")
    assert code == 0
    last = Path(row["chain"]).read_text().rpartition("-----BEGIN")[2]
    assert other in part("-----BEGIN" + last, "-issuer")
    home.site('chain_to = "Nobody of that name"')
    code, row, _ = home.run("order", "--again")
    assert (code, "no chain to Nobody of that name" in row["detail"]) == (0, True)


def test_another_account_key_and_a_revocation(home: AtHome, pebble: Pebble) -> None:
    home.site()
    code, row, _ = home.run("order")
    assert code == 0
    assert hooper("cert", "new-key", "town", "--site", str(home.town.folder / "certs.toml"), "--state",
                  str(home.state / "state"), place=home.town.ns("here")).code == 0  # fmt: skip
    serial = part(Path(row["chain"]).read_text(), "-serial").strip().partition("=")[2].lower()
    code, row, document = home.run("revoke", "club", "--because", "key-leaked")
    assert row["state"] == "revoked", document
    assert json.loads(pebble.ask(f"cert-status-by-serial/{serial}"))["Status"] == "Revoked"
    code, row, _ = home.run("order")
    assert (code, row["state"]) == (0, "ordered")
    ran = home("cert", "revoke", "club", "--generation", "000000000000", site="certs.toml")
    assert (ran.code, "nothing kept" in ran.document["errors"][0]["message"]) == (2, True)


def test_what_it_refuses_says_what_helps(home: AtHome) -> None:
    """Nothing comes in at port 80: the outer line drops it. And a profile that it has not."""
    home.site('challenge = "http-01"')
    home.town.block(80)
    code, _, document = home.run("order")
    home.town.unblock()
    assert (code, document["errors"][0]["code"]) == (4, "ca-refused")
    assert "did not come in from outside" in document["errors"][0]["remedy"]
    assert home.lent() == []
    home.site('profile = "shortlived"')
    code, _, document = home.run("order")
    assert "has no profile 'shortlived'" in document["errors"][0]["message"]
