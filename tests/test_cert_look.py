"""What clients say to certificates, whether one was revoked, what files hold: against OpenSSL's, and in the town."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509 import ocsp
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID
from hypothesis import given
from hypothesis import strategies as st

from hooper.certs.bundles import read_bundle
from hooper.certs.client_words import clients_say
from hooper.certs.inspect import load_pem
from hooper.certs.revocation import read_crl, read_ocsp
from hooper.errors import UsageError
from hooper.lab.certificates import TownAuthority
from hooper.lab.revocation_office import answered, listed
from hooper.report.expiry import Ending, draw_expiry
from hooper.secret import Secret
from support.program import town_here, valid

NOW = datetime.now(UTC).replace(microsecond=0)
NAME = "boathouse.heronquay.example"
OFFICE = TownAuthority(NOW)
STRANGER = TownAuthority(NOW)


def leaf(
    *, days: int = 90, start: datetime = NOW - timedelta(days=1), names: Sequence[str] = (NAME,), bits: int = 0,
    server: bool = True, by: TownAuthority = OFFICE, access: bool = True,
) -> list[x509.Certificate]:  # fmt: skip
    """A certificate of the authority with one thing that is odd, and what is above it."""
    key: Any = rsa.generate_private_key(65537, bits) if bits else ec.generate_private_key(ec.SECP256R1())
    builder = x509.CertificateBuilder().subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "x")]))
    builder = builder.issuer_name(by.intermediate.subject).public_key(key.public_key()).serial_number(7)
    builder = builder.not_valid_before(start).not_valid_after(start + timedelta(days=days))
    if names:
        shown = x509.SubjectAlternativeName([x509.DNSName(name) for name in names])
        builder = builder.add_extension(shown, critical=False)
    if server:
        builder = builder.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
    if access:
        place = x509.UniformResourceIdentifier("http://ca.example/between.cer")
        way = x509.AccessDescription(AuthorityInformationAccessOID.CA_ISSUERS, place)
        builder = builder.add_extension(x509.AuthorityInformationAccess([way]), critical=False)
    return [builder.sign(by.signing_key, hashes.SHA256()), by.intermediate]


def said(chain: list[x509.Certificate], *, name: str = NAME, own: Sequence[x509.Certificate] = ()) -> dict[str, Any]:
    """By client: what it has against it, and whether it takes it."""
    words = clients_say(chain, [(name, name)], [OFFICE.root], own, NOW)
    return {word.client: (word.takes, word.problems) for word in words}


def test_what_clients_say() -> None:
    fine, nothing = (True, ()), dict.fromkeys(("browser", "app", "apple"), (True, ()))
    assert said(leaf()) == nothing
    assert said(leaf(), name="10.44.7.50") == dict.fromkeys(nothing, (False, ("certificate-other-name",)))
    short = said(leaf()[:1])  # the one between is missing: browsers fetch it
    assert short["browser"] == (True, ("chain-short",))
    assert short["app"] == short["apple"] == (False, ("chain-short",))
    assert said(leaf(access=False)[:1])["browser"] == (False, ("certificate-untrusted",))
    assert said(leaf(by=STRANGER), own=[STRANGER.root])["told-of-root"] == fine
    assert said(leaf(by=STRANGER), own=[STRANGER.root])["app"] == (False, ("certificate-untrusted",))
    assert said(leaf(bits=1024))["browser"] == (False, ("key-weak",))
    assert said(leaf(names=()))["app"] == (False, ("names-in-subject-alone",))
    no_purpose = said(leaf(server=False))
    assert (no_purpose["browser"], no_purpose["apple"]) == (fine, (False, ("not-for-servers",)))
    assert said([STRANGER.root], name="x")["browser"][1][0] == "certificate-absent"


@pytest.mark.parametrize(
    ("issued", "days", "well"),
    [
        ("2026-03-14", 397, True), ("2026-03-16", 199, True), ("2026-03-16", 260, False),
        ("2027-03-16", 150, False), ("2029-03-16", 47, True), ("2029-03-16", 90, False), ("2020-08-30", 800, True),
    ],
)  # fmt: skip
def test_how_long_a_public_one_may_last(issued: str, days: int, well: bool) -> None:
    """CA/Browser Forum baseline requirements section 6.3.2: by the day on which it was issued."""
    start = datetime.fromisoformat(f"{issued}T12:00:00+00:00")
    words = clients_say(leaf(start=start, days=days), [(NAME, NAME)], [OFFICE.root], [], start + timedelta(days=1))
    in_date = [word for word in words if "certificate-untrusted" not in word.problems]
    assert all(("life-too-long" in word.problems) is not well for word in in_date), words


def test_an_own_authority_may_issue_for_two_years_and_not_for_three() -> None:
    for days, well in ((820, True), (900, False)):
        found = said(leaf(days=days, by=STRANGER), own=[STRANGER.root])
        assert found["told-of-root"] == (True, ())
        assert ("life-too-long" in found["apple"][1]) is not well


# --- revocation


def openssl(folder: Path, *words: str, stdin: str = "") -> str:
    ran = subprocess.run(["openssl", *words], cwd=folder, input=stdin, capture_output=True, text=True, timeout=60,
                         check=False)  # fmt: skip
    assert ran.returncode == 0, ran.stderr
    return ran.stdout


@pytest.fixture(scope="module")
def made(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """OpenSSL's own authority, with a good and a revoked certificate, its list, and its answers to OCSP."""
    at = tmp_path_factory.mktemp("openssl")
    (at / "ca.cnf").write_text(
        "[ca]\ndefault_ca=d\n[d]\ndatabase=index\nnew_certs_dir=.\nserial=serial\ndefault_md=sha256\ndefault_days=30\n"
        "policy=p\ndefault_crl_days=5\ncertificate=ca.pem\nprivate_key=ca.key\n[p]\ncommonName=supplied\n"
    )
    (at / "index").touch()
    (at / "serial").write_text("0A\n")
    kind = ("-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes")
    openssl(at, "req", "-x509", *kind, "-keyout", "ca.key", "-out", "ca.pem", "-subj", "/CN=Quay root", "-days", "99")
    for name in ("good", "gone"):
        openssl(at, "req", *kind, "-keyout", f"{name}.key", "-out", f"{name}.csr", "-subj", f"/CN={name}")
        openssl(at, "ca", "-batch", "-config", "ca.cnf", "-in", f"{name}.csr", "-out", f"{name}.pem", "-notext")
    openssl(at, "ca", "-config", "ca.cnf", "-revoke", "gone.pem", "-crl_reason", "keyCompromise")
    openssl(at, "ca", "-config", "ca.cnf", "-gencrl", "-out", "crl.pem")
    openssl(at, "crl", "-in", "crl.pem", "-outform", "DER", "-out", "crl.der")
    for name in ("good", "gone"):
        openssl(at, "ocsp", "-issuer", "ca.pem", "-cert", f"{name}.pem", "-reqout", f"{name}.ask", "-no_nonce")
        openssl(at, "ocsp", "-index", "index", "-CA", "ca.pem", "-rsigner", "ca.pem", "-rkey", "ca.key",
                "-reqin", f"{name}.ask", "-respout", f"{name}.told", "-ndays", "3")  # fmt: skip
    return at


def one(at: Path, name: str) -> x509.Certificate:
    return load_pem((at / f"{name}.pem").read_bytes())[0]


@pytest.mark.parametrize(("name", "standing"), [("good", "good"), ("gone", "revoked")])
def test_what_openssl_says_of_revocation(made: Path, name: str, standing: str) -> None:
    now, root = datetime.now(UTC), one(made, "ca")
    answer = (made / f"{name}.told").read_bytes()
    assert read_ocsp("u", answer, one(made, name), root, now).standing == standing
    assert read_ocsp("u", answer, one(made, name), root, now + timedelta(days=9)).standing == "unknown"
    other = one(made, "gone" if name == "good" else "good")
    assert read_ocsp("u", answer, other, root, now).standing == "unknown"  # it is of another certificate
    assert read_ocsp("u", answer, one(made, name), OFFICE.root, now).standing == "unknown"
    for form in ("pem", "der"):
        told = (made / f"crl.{form}").read_bytes()
        assert read_crl("u", told, one(made, name), root, now).standing == standing
        assert read_crl("u", told, one(made, name), OFFICE.intermediate, now).standing == "unknown"
    late = read_crl("u", told, one(made, name), root, now + timedelta(days=9)).standing
    assert late == ("unknown" if standing == "good" else "revoked")  # what was revoked stays so


def test_the_towns_office_is_understood_by_openssl(made: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    chain = OFFICE.issue([NAME], key.public_key(), NOW - timedelta(hours=1))
    (made / "town.pem").write_bytes(chain)
    (made / "between.pem").write_bytes(
        b"".join(c.public_bytes(Encoding.PEM) for c in (OFFICE.intermediate, OFFICE.root))
    )
    openssl(made, "ocsp", "-issuer", "between.pem", "-cert", "town.pem", "-reqout", "town.ask", "-no_nonce")
    shown, *_ = load_pem(chain)
    for gone in (False, True):
        if gone:
            OFFICE.revoked[shown.serial_number] = NOW, 1
        (made / "town.told").write_bytes(answered(OFFICE, (made / "town.ask").read_bytes(), datetime.now(UTC)))
        said = openssl(made, "ocsp", "-issuer", "between.pem", "-cert", "town.pem", "-respin", "town.told",
                       "-CAfile", "between.pem", "-no_nonce")  # fmt: skip
        assert ("revoked" in said) is gone
        told = read_crl("u", listed(OFFICE, datetime.now(UTC)), shown, OFFICE.intermediate, datetime.now(UTC))
        assert told.standing == ("revoked" if gone else "good")


@given(st.binary(max_size=400), st.integers(0, 399), st.integers(0, 255))
def test_a_changed_answer_is_never_believed(junk: bytes, at: int, byte: int) -> None:
    """One byte of a good answer changed: it is an error of the library, or no word of good or revoked."""
    shown = leaf()
    OFFICE.issued[7] = shown[0]
    request = ocsp.OCSPRequestBuilder().add_certificate(shown[0], shown[1], hashes.SHA1()).build()
    answer = bytearray(answered(OFFICE, request.public_bytes(Encoding.DER), NOW))
    place = min(at, len(answer) - 1)
    same, answer[place] = answer[place] == byte, byte
    for data in (bytes(answer), junk):
        try:
            standing = read_ocsp("u", data, shown[0], shown[1], NOW).standing
        except Exception:  # what it raises, the asker tells as an answer that cannot be understood
            continue
        assert standing == "unknown" or same or data is junk


# --- files


def test_files_as_openssl_writes_them(made: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    both = (made / "good.key").read_bytes() + (made / "good.pem").read_bytes()
    assert read_bundle(both, "f").key_fits is True
    assert read_bundle((made / "gone.key").read_bytes() + (made / "good.pem").read_bytes(), "f").key_fits is False
    openssl(made, "x509", "-in", "good.pem", "-outform", "DER", "-out", "good.der")
    assert read_bundle((made / "good.der").read_bytes(), "f").form == "DER"
    openssl(made, "pkcs12", "-export", "-in", "good.pem", "-inkey", "good.key", "-certfile", "ca.pem",
            "-out", "good.p12", "-passout", "pass:oars")  # fmt: skip
    found = read_bundle((made / "good.p12").read_bytes(), "f", Secret("oars", "p"))
    assert (found.form, found.key_fits, len(found.chain)) == ("PKCS #12", True, 2)
    with pytest.raises(UsageError, match="another pass phrase"):
        read_bundle((made / "good.p12").read_bytes(), "f")
    openssl(made, "pkcs8", "-topk8", "-in", "good.key", "-out", "closed.key", "-passout", "pass:oars")
    closed = (made / "closed.key").read_bytes() + (made / "good.pem").read_bytes()
    assert (read_bundle(closed, "f").has_key, read_bundle(closed, "f").key_fits) == (True, None)
    assert read_bundle(closed, "f", Secret("oars", "p")).key_fits is True
    for data, words in (
        ((made / "good.key").read_bytes(), "no certificate"),
        (b"", "no certificate"),
        (b"\x30\x03", "no"),
    ):
        with pytest.raises(UsageError, match=words):
            read_bundle(data, "f")


@given(st.binary(max_size=600))
def test_any_file_is_a_bundle_or_a_message(data: bytes) -> None:
    for text in (data, b"-----BEGIN CERTIFICATE-----\n" + data + b"\n-----END CERTIFICATE-----\n"):
        try:
            read_bundle(text, "f")
        except UsageError as exc:
            assert exc.remedy


def test_looking_in_the_town(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as lab:
        lab.run("cert", "order", "--quiet")
        lab.run("lab", "install", "boathouse", "hub-page")
        ran = lab.run("cert", "look", "hub-page", "--json")
        document = valid("cert-look", ran.document)
        assert (ran.code, document["ok"], document["problems"]) == (0, True, [])
        by_name = [word for word in document["clients"] if word["typed"].startswith(NAME)]
        assert all(word["takes"] for word in by_name)
        assert not any(word["takes"] for word in document["clients"] if word not in by_name)
        assert [row["standing"] for row in document["revocation"]] == ["good", "good"]
        lab.run("cert", "revoke", "boathouse")
        document = lab.run("cert", "look", "hub-page", "--json").document
        assert [row["standing"] for row in document["revocation"]] == ["revoked", "revoked"]
        assert (document["ok"], any(word["takes"] for word in document["clients"])) == (False, False)
        assert lab.run("cert", "look", "10.44.7.1:80").code == 4
        assert lab.run("cert", "look", "nobody.heronquay.example").code == 4
        assert lab.run("cert", "look").code == 2


def test_a_time_line_of_all_that_ends(tmp_path: Path) -> None:
    """Drawn twice it is the same; what ended, what a person renews and what lasts beyond the edge is told apart."""
    pytest.importorskip("matplotlib", reason="figures are an extra")
    endings = [
        Ending("certificate a", NOW - timedelta(days=80), NOW - timedelta(days=2), "renewed"),
        Ending("peer b", None, NOW + timedelta(days=30), "by-hand"),
        Ending("authority c", NOW - timedelta(days=9), NOW + timedelta(days=4000), "renewed"),
    ]
    for path in (tmp_path / "a.svg", tmp_path / "b.svg"):
        draw_expiry(endings, NOW, path)
    text = (tmp_path / "a.svg").read_text()
    assert text == (tmp_path / "b.svg").read_text()
    assert all(word in text for word in ("ENDED", "in 30 days", "in 4000 days →", "authority c", "by hand"))
    draw_expiry([], NOW, tmp_path / "none.png")
    with pytest.raises(UsageError, match=r"or \.svg"):
        draw_expiry(endings, NOW, tmp_path / "a.gif")
