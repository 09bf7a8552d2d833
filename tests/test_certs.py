"""Judging certificates, keeping them, and the client of ACME against an authority that misbehaves."""

from __future__ import annotations

import base64
import json
import ssl
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from hypothesis import given
from hypothesis import strategies as st
from joserfc import jws
from joserfc.jwk import ECKey

from hooper.certs.acme import AcmeClient, Order, encoded, request_for
from hooper.certs.acme_refusals import AcmeBusy, AcmeFailed, AcmeRefused, refusal
from hooper.certs.acmeform import AcmeProblem, Challenge, OrderBody
from hooper.certs.challenges import NoProof, Prover, proving_context
from hooper.certs.inspect import is_for, judge, load_chain, load_pem, reaches_root, unfit, well_known_roots
from hooper.certs.order import WORDS, Ordering
from hooper.certs.store import CertificateStore, key_type, new_key
from hooper.clock import SystemClock
from hooper.errors import CounterpartError, MachineError
from hooper.lab.certificates import TownAuthority
from hooper.lab.things import Rule
from hooper.net.http import HttpAnswer
from hooper.store.sitefile import read_site
from hooper.store.state import State
from support.mortal import town
from support.program import town_here, valid
from support.virtual import run_virtually

NOW = datetime.now(UTC)
NAME = "boathouse.heronquay.example"


@pytest.mark.parametrize(
    ("names", "wanted", "fits"),
    [
        (["a.example"], "a.example", True),
        (["A.Example."], "a.example", True),
        (["*.a.example"], "b.a.example", True),
        (["*.a.example"], "a.example", False),
        (["*.a.example"], "c.b.a.example", False),
        (["*.example"], "a.example", False),  # RFC 9525 section 6.3: not for a whole suffix
        (["b*.a.example"], "bb.a.example", False),
        (["*.0.113.44"], "203.0.113.44", False),
        (["203.0.113.44"], "203.0.113.44", True),
        ([], "a.example", False),
    ],
)
def test_names_by_the_rules(names: list[str], wanted: str, fits: bool) -> None:
    assert is_for(names, wanted) is fits


@given(st.lists(st.text(max_size=20), max_size=4), st.text(max_size=20))
def test_any_names_give_an_answer(names: list[str], wanted: str) -> None:
    assert is_for([*names, wanted], wanted)
    assert isinstance(is_for(names, wanted), bool)


def chain_for(
    authority: TownAuthority, names: Sequence[str], start: datetime, days: int = 90
) -> list[x509.Certificate]:
    key = ec.generate_private_key(ec.SECP256R1())
    return load_pem(authority.issue(names, key.public_key(), start, days))


def test_what_is_wrong_with_a_certificate() -> None:
    authority, stranger = TownAuthority(NOW), TownAuthority(NOW)
    roots, start = [authority.root], NOW - timedelta(days=1)
    good = chain_for(authority, [NAME], start)

    def problems(chain: list[x509.Certificate], *, planned: bool = True, now: datetime = NOW) -> list[str]:
        return list(judge(chain, NAME, roots, now, planned=planned).problems)

    assert problems(good) == []
    assert problems(good, now=NOW + timedelta(days=90)) == ["certificate-expired"]
    assert problems(good, now=NOW - timedelta(days=2)) == ["certificate-not-yet-valid"]
    assert problems(good[:1]) == ["certificate-untrusted"]  # the intermediate is missing
    assert problems(chain_for(stranger, [NAME], start)) == ["certificate-untrusted"]
    assert problems(chain_for(authority, ["other.example"], start)) == ["certificate-other-name"]
    assert problems(chain_for(authority, ["other.example"], start), planned=False) == ["certificate-other-name"]
    assert problems([stranger.root]) == ["certificate-absent"]
    assert problems([stranger.root], planned=False) == []
    assert reaches_root(good, roots, NOW)
    forged = [good[0], chain_for(stranger, ["x.example"], start)[1]]
    assert not reaches_root(forged, roots, NOW)
    leaf_as_authority = [good[0], *chain_for(authority, ["y.example"], start)]
    assert reaches_root(leaf_as_authority, roots, NOW)
    assert len(well_known_roots()) > 50


def test_what_cannot_be_read_is_left_out() -> None:
    good = chain_for(TownAuthority(NOW), [NAME], NOW)[0].public_bytes(serialization.Encoding.DER)
    assert len(load_chain([b"", b"\x30\x00", good, good[:-9], b"\xff" * 40])) == 1


def test_a_chain_for_another_key_is_not_kept(tmp_path: Path) -> None:
    store, authority = CertificateStore(tmp_path), TownAuthority(NOW)
    key = store.pending_key("a", fresh=True)
    assert store.pending_key("a", fresh=False) == key
    other = ec.generate_private_key(ec.SECP256R1()).public_key()
    with pytest.raises(CounterpartError, match="not for the key"):
        store.keep("a", key, load_pem(authority.issue([NAME], other, NOW)))
    assert store.kept("a") is None
    assert store.account_key("https://a/") == store.account_key("https://a/") != store.account_key("https://b/")


def test_the_request_is_for_all_names() -> None:
    request = x509.load_der_x509_csr(request_for(new_key(), [NAME, f"*.{NAME}"]))
    shown = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert shown.get_values_for_type(x509.DNSName) == [NAME, f"*.{NAME}"]
    assert request.is_signature_valid


# --- ACME

ERROR = "urn:ietf:params:acme:error:"
DIRECTORY = {what: f"https://ca.example/{what}" for what in ("newNonce", "newAccount", "newOrder", "keyChange")}
Reply = tuple[int, dict[str, str], Any]


class Scripted:
    """An authority that says what a test wants. asked: the decoded requests."""

    def __init__(self, replies: dict[str, list[Reply]]) -> None:
        self.replies, self.asked = replies, list[tuple[str, Any]]()
        self.nonces = 0

    async def request(
        self, method: str, url: str, *, headers: Mapping[str, str] | None = None, content: bytes | None = None
    ) -> HttpAnswer:
        del method, headers
        path = urlsplit(url).path
        self.nonces += 1
        nonce = {"replay-nonce": f"nonce-{self.nonces}"}
        if path == "/directory":
            return HttpAnswer(200, content=json.dumps(DIRECTORY).encode())
        if path == "/newNonce":
            return HttpAnswer(200, nonce)
        message = json.loads(content or b"")
        self.asked.append((path, message))
        status, more, body = self.replies[path].pop(0)
        shown = body if isinstance(body, bytes) else json.dumps(body).encode()
        return HttpAnswer(status, {**nonce, **{name.lower(): value for name, value in more.items()}}, shown)


def with_client(script: Scripted, work: Callable[[AcmeClient], Any], patience: float = 2.0) -> Any:
    async def main() -> Any:
        acme = AcmeClient(script, "https://ca.example/directory", new_key(), SystemClock(), patience)
        return await work(acme)

    return run_virtually(main)


def problem(kind: str, status: int = 400, **more: Any) -> Reply:
    return status, {}, {"type": f"{ERROR}{kind}", "detail": f"it is {kind}", **more}


ACCOUNT: Reply = (201, {"Location": "https://ca.example/account/1"}, {"status": "valid"})


def _public_of(message: Any) -> ECKey:
    protected = message["protected"]
    header = json.loads(base64.urlsafe_b64decode(protected + "=" * (-len(protected) % 4)))
    return ECKey.import_key(header["jwk"])


def test_requests_are_signed_as_the_standard_wants() -> None:
    """RFC 8555 section 6.2: a flattened JWS whose header has alg, nonce, url, and jwk or kid, nothing else."""
    script = Scripted({"/newAccount": [ACCOUNT], "/order/1": [(200, {}, {"status": "pending"})]})
    key = new_key()

    async def main() -> None:
        acme = AcmeClient(script, "https://ca.example/directory", key, SystemClock(), 1)
        await acme.register(["mailto:net@heronquay.example"], None)
        await acme.order("https://ca.example/order/1")

    run_virtually(main)
    public = ECKey.import_key(ECKey.import_key(key).as_dict(private=False))
    registry = jws.JWSRegistry(algorithms=["ES256"], strict_check_header=False)
    first, second = (message for _, message in script.asked)
    for message, url, by in ((first, "newAccount", "jwk"), (second, "order/1", "kid")):
        assert set(message) == {"protected", "payload", "signature"}
        signed = jws.deserialize_json(message, public, registry=registry)
        header = signed.headers()
        assert set(header) == {"alg", "nonce", "url", by}
        assert (header["alg"], header["url"]) == ("ES256", f"https://ca.example/{url}")
    assert set(jws.deserialize_json(first, public, registry=registry).headers()["jwk"]) == {"kty", "crv", "x", "y"}
    assert second["payload"] == ""  # a POST-as-GET
    account = json.loads(jws.deserialize_json(first, public, registry=registry).payload)
    assert account == {"termsOfServiceAgreed": True, "contact": ["mailto:net@heronquay.example"]}


def test_an_account_is_bound_to_a_customers() -> None:
    """RFC 8555 section 7.3.4: the account's public key, signed by HMAC with the key that the authority gave out."""
    from joserfc.jwk import OctKey

    script = Scripted({"/newAccount": [ACCOUNT]})
    secret = bytes(range(32))
    with_client(script, lambda acme: acme.register([], None, ("customer-7", secret)))
    ((_, message),) = script.asked
    lenient = jws.JWSRegistry(algorithms=["ES256"], strict_check_header=False)
    payload = json.loads(jws.deserialize_json(message, _public_of(message), registry=lenient).payload)
    registry = jws.JWSRegistry(algorithms=["HS256"], strict_check_header=False)
    bound = jws.deserialize_json(payload["externalAccountBinding"], OctKey.import_key(secret), registry=registry)
    header = {"alg": "HS256", "kid": "customer-7", "url": "https://ca.example/newAccount"}
    assert bound.headers() == header
    assert json.loads(bound.payload) == _public_of(message).as_dict(private=False)


def test_the_thumbprint_of_the_standard() -> None:
    """RFC 7638's way on an EC key: the members in their order, SHA-256, base64url; RFC 8555 sections 8.1 and 8.4."""
    import hashlib

    async def noted(acme: AcmeClient) -> tuple[str, str, dict[str, Any]]:
        return acme.key_authorization("tok"), acme.text_of("tok"), acme._key.as_dict(private=False)

    answer, text, jwk = with_client(Scripted({}), noted)
    canonical = '{{"crv":"{crv}","kty":"{kty}","x":"{x}","y":"{y}"}}'.format(**jwk)
    thumbprint = encoded(hashlib.sha256(canonical.encode()).digest())
    assert answer == f"tok.{thumbprint}"
    assert text == encoded(hashlib.sha256(answer.encode()).digest())


def test_refused_nonces_are_replaced() -> None:
    script = Scripted({"/newAccount": [problem("badNonce"), problem("badNonce"), ACCOUNT]})
    assert with_client(script, lambda acme: acme.register([], None)) == "https://ca.example/account/1"
    script = Scripted({"/newAccount": [problem("badNonce")] * 20})
    with pytest.raises(AcmeFailed, match="nonces"):
        with_client(script, lambda acme: acme.register([], None))


@pytest.mark.parametrize(
    ("reply", "kind", "words"),
    [
        (problem("rejectedIdentifier", 403), AcmeRefused, "it is rejectedIdentifier"),
        (problem("rateLimited", 429), AcmeBusy, "asks to wait"),
        ((429, {"Retry-After": "77"}, {}), AcmeBusy, r"wait until 20\d\d-\d\d-\d\d \d\d:\d\d UTC"),
        (problem("serverInternal", 500), AcmeFailed, "fails"),
        ((502, {}, b"<html>Bad gateway"), AcmeFailed, "502"),
        ((400, {}, b"[" * 99), AcmeRefused, "400"),
        (problem("compound", subproblems=[{"detail": "the inner one"}]), AcmeRefused, "the inner one"),
        ((201, {}, {}), AcmeFailed, "no address"),
    ],
)
def test_refusals_are_told_in_the_authoritys_words(reply: Reply, kind: type[Exception], words: str) -> None:
    with pytest.raises(kind, match=words):
        with_client(Scripted({"/newAccount": [reply]}), lambda acme: acme.register([], None))


@pytest.mark.parametrize(
    "wrong",
    [
        b"", b"null", b"[]", b"3", b"{}", b'{"status": 3}', b'{"status": ["pending"]}', b'{"status": null}',
        b'{"status": "pending", "authorizations": 3}', b'{"status": "pending", "authorizations": [1, {}]}',
        b'{"status": "pending", "authorizations": {"a": 1}}', b'{"status": "valid", "certificate": {}}',
        b'{"status": "ready", "finalize": []}', b'{"status": "invalid", "error": "no"}', b"[" * 100_000,
        b'{"status": "' + b"x" * 3000 + b'"}', b'{"status": "pending", "authorizations": [' + b'"y",' * 200 + b'"z"]}',
        b"\xff\xfe", b'{"status": 1e999}',
    ],
)  # fmt: skip
def test_objects_of_wrong_shape_are_refused_in_words(wrong: bytes) -> None:
    script = Scripted({"/newAccount": [ACCOUNT], "/order/1": [(200, {}, wrong)]})

    async def look(acme: AcmeClient) -> None:
        await acme.register([], None)
        await acme.order("https://ca.example/order/1")

    with pytest.raises(AcmeFailed, match="is no order"):
        with_client(script, look)


@pytest.mark.parametrize(
    ("urls", "identifier", "words"),
    [
        (100, NAME, "100 proofs of 1 names"),
        (1, "other.example", "which was not ordered"),
    ],
)
def test_no_more_is_proven_than_was_ordered(urls: int, identifier: str, words: str) -> None:
    proof = {"status": "pending", "identifier": {"type": "dns", "value": identifier}, "challenges": []}
    order = {"status": "pending", "authorizations": [f"https://ca.example/proof/{n}" for n in range(urls)]}
    script = Scripted({"/newAccount": [ACCOUNT], "/order/1": [(200, {}, order)], "/proof/0": [(200, {}, proof)]})

    async def look(acme: AcmeClient) -> None:
        await acme.register([], None)
        await acme.authorizations(await acme.order("https://ca.example/order/1"), [NAME])

    with pytest.raises(AcmeFailed, match=words):
        with_client(script, look)


def test_generations_are_kept_and_brought_back(tmp_path: Path) -> None:
    store, authority = CertificateStore(tmp_path), TownAuthority(NOW)
    leaves = []
    for day in range(3):
        key = store.pending_key("a", fresh=True)
        public = serialization.load_pem_private_key(key, None).public_key()
        assert isinstance(public, ec.EllipticCurvePublicKey)
        chain = load_pem(authority.issue([NAME], public, NOW + timedelta(days=day)))
        leaves.append(store.keep("a", key, chain).leaf)
    earlier = store.earlier("a")
    assert [kept.leaf for kept in earlier.values()] == [leaves[1], leaves[0]]
    oldest = list(earlier)[1]
    assert store.restore("a", oldest).leaf == leaves[0]
    assert {kept.leaf for kept in store.earlier("a").values()} == {leaves[1], leaves[2]}
    assert b"BEGIN PRIVATE KEY" in store.key_path("a").read_bytes()
    (path,) = [one for one in (tmp_path / "a" / "earlier").iterdir() if one.stem == next(iter(store.earlier("a")))]
    assert path.stat().st_mode & 0o077 == 0
    with pytest.raises(MachineError):
        store.restore("a", "nix")


@pytest.mark.parametrize(
    ("names", "age", "words"),
    [
        ([NAME], timedelta(days=400), "ended already"),
        (["other.example"], timedelta(0), "not for all names"),
        ([NAME], timedelta(days=-30), "begins later"),
    ],
)
def test_what_is_worse_never_replaces_what_is_kept(names: list[str], age: timedelta, words: str) -> None:
    authority = TownAuthority(NOW - timedelta(days=900))
    key = ec.generate_private_key(ec.SECP256R1()).public_key()
    issued = load_pem(authority.issue(names, key, NOW - age))
    found = unfit(issued, [NAME], [authority.root], NOW)
    assert words in "; ".join(WORDS[code] for code in found)
    fine = load_pem(authority.issue([NAME], key, NOW + timedelta(minutes=10)))
    assert unfit(fine, [NAME], [authority.root], NOW) == [], "an authority's clock may be ahead"
    assert unfit(fine, [NAME], [TownAuthority(NOW).root], NOW) == ["certificate-untrusted"]


def test_a_proof_that_fails_says_why() -> None:
    failed = {
        "status": "invalid",
        "identifier": {"type": "dns", "value": NAME},
        "challenges": [{"type": "http-01", "error": {"type": f"{ERROR}connection", "detail": "silent"}}],
    }
    pending = {**failed, "status": "pending"}
    script = Scripted(
        {
            "/newAccount": [ACCOUNT],
            "/challenge/1": [(200, {}, {"status": "processing"})],
            "/proof/1": [(200, {}, pending), (200, {"Retry-After": "1"}, pending), (200, {}, failed)],
        }
    )

    async def prove(acme: AcmeClient) -> None:
        await acme.register([], None)
        challenge = Challenge(type="http-01", url="https://ca.example/challenge/1")
        await acme.prove(challenge, "https://ca.example/proof/1")

    with pytest.raises(AcmeRefused, match=r"by http-01 and says about boathouse.heronquay.example: silent"):
        with_client(script, prove, patience=5)


def test_waiting_has_an_end_and_only_https_is_followed() -> None:
    endless = Scripted({"/newAccount": [ACCOUNT], "/order/1": [(200, {}, {"status": "processing"})] * 50})

    async def settle(acme: AcmeClient) -> None:
        await acme.register([], None)
        await acme.settled(await acme.order("https://ca.example/order/1"), ("processing",))

    with pytest.raises(AcmeBusy, match="still processing"):
        with_client(endless, settle, patience=0.5)
    plain = Scripted({"/newAccount": [(201, {"Location": "http://ca.example/account/1"}, {})]})

    async def follow(acme: AcmeClient) -> None:
        await acme.order(await acme.register([], None))

    with pytest.raises(AcmeFailed, match="not https"):
        with_client(plain, follow)


def test_a_page_at_port_80_proves_a_name(tmp_path: Path) -> None:
    """The authority comes in through both boxes to this computer, which answers only while it is asked."""

    async def main() -> str:
        async with town(tmp_path) as (board, door, _):
            path = tmp_path / "site.toml"
            text = path.read_text().replace('blocked = ["tcp 25", "tcp 80"]', 'blocked = ["tcp 25"]')
            text = text.replace('services = ["hub-page"]', 'services = ["hub-page"]\nchallenge = "http-01"\n')
            path.write_text(
                text + '\n[hosts.laptop]\naddress = "10.44.7.105"\n[services.proof]\nhost = "laptop"\nspeaks = "http"\n'
                'port = 8080\noutside_port = 80\nreach = "public"\n'
            )
            site = read_site(path).site
            outer, inner = board.town.boxes["fibre-box"], board.town.boxes["club-router"]
            outer.blocked.clear()
            outer.rules = [Rule("a", "tcp", (80, 80), inner.wan, (80, 80))]
            inner.rules = [Rule("a", "tcp", (80, 80), IPv4Address("10.44.7.105"), (8080, 8080))]
            with State(tmp_path / "state.sqlite3") as state:
                ordering = Ordering(door, site, tmp_path, CertificateStore(tmp_path / "kept"), state.orders, 5, 20)
                row = await ordering.order("boathouse", anew=False)
            assert not board.town.listeners
            return row.state

    assert run_virtually(main) == "ordered"


def test_a_web_server_of_this_machine_shows_the_page(tmp_path: Path) -> None:
    """With `page_folder` the proof is a file while it is asked for; a plan that blocks port 80 still says no."""

    async def main() -> None:
        async with town(tmp_path) as (_, door, _file):
            path = tmp_path / "site.toml"
            more = 'services = ["hub-page"]\nchallenge = "http-01"\npage_folder = "pages"\n'
            blocked = path.read_text().replace('services = ["hub-page"]', more)
            for text, works in ((blocked, False), (blocked.replace(', "tcp 80"]', "]"), True)):
                path.write_text(text)
                site = read_site(path).site
                with State(tmp_path / "state.sqlite3") as state:
                    prover = Prover(door, site, site.certificates["boathouse"], tmp_path, 2, 2, state.orders)
                    if not works:
                        with pytest.raises(NoProof, match="blocks port 80"):
                            await prover.choose(NAME, {"http-01"})
                        continue
                    way = await prover.choose(NAME, {"http-01"})
                    assert (way.kind, way.how) == ("http-01", "folder")
                    page = tmp_path / "pages" / ".well-known" / "acme-challenge" / "tok"
                    async with prover.shown(way, NAME, "tok", "tok.print", "text"):
                        assert page.read_text() == "tok.print"
                    assert not page.exists()

    run_virtually(main)


@pytest.mark.parametrize(("kind", "words"), [("authority", "an authority's own"), ("long", "more than 8")])
def test_what_no_server_should_show_is_not_taken(kind: str, words: str) -> None:
    authority, key = TownAuthority(NOW), ec.generate_private_key(ec.SECP256R1())
    chain = load_pem(authority.issue([NAME], key.public_key(), NOW))
    if kind == "long":
        chain = [*chain, *chain[1:] * 1400]
    else:
        vouching = x509.BasicConstraints(ca=True, path_length=None)
        built = x509.CertificateBuilder().subject_name(chain[0].subject).issuer_name(authority.intermediate.subject)
        built = built.public_key(key.public_key()).serial_number(7).not_valid_before(NOW)
        built = built.not_valid_after(NOW + timedelta(days=90)).add_extension(vouching, critical=True)
        built = built.add_extension(x509.SubjectAlternativeName([x509.DNSName(NAME)]), critical=False)
        chain = [built.sign(authority._key, hashes.SHA256()), chain[1]]
    found = unfit(chain, [NAME], [authority.root], NOW)
    assert words in "; ".join(WORDS[code] for code in found)


def test_a_certificate_of_a_version_that_there_is_not_is_none() -> None:
    der = bytearray(chain_for(TownAuthority(NOW), [NAME], NOW)[0].public_bytes(serialization.Encoding.DER))
    der[der.index(b"\xa0\x03\x02\x01\x02") + 4] = 18
    text = ssl.DER_cert_to_PEM_cert(bytes(der)).encode()
    with pytest.raises(ValueError, match="no certificate"):
        load_pem(text)
    assert load_chain([bytes(der)]) == []


# --- chains, profiles, keys, waiting


def test_another_chain_is_found_by_its_link() -> None:
    links = (
        '<https://ca.example/directory>;rel="index", </c/2>; rel="alternate", <https://ca.example/c/3>;rel=alternate'
    )
    script = Scripted(
        {
            "/newAccount": [ACCOUNT],
            "/c/1": [(200, {"Link": links}, b"first")],
            "/c/2": [(200, {}, b"second")],
            "/c/3": [(200, {}, b"third")],
        }
    )

    async def all_of_them(acme: AcmeClient) -> list[bytes]:
        await acme.register([], None)
        order = Order("https://ca.example/o", OrderBody(status="valid", certificate="https://ca.example/c/1"))
        return [chain async for chain in acme.chains(order)]

    assert with_client(script, all_of_them) == [b"first", b"second", b"third"]


def test_an_accounts_key_is_replaced_as_the_standard_wants() -> None:
    """RFC 8555 section 7.3.5: the inner request is signed by the fresh key, has no nonce, and names the old key."""
    script = Scripted(
        {"/newAccount": [ACCOUNT], "/keyChange": [(200, {}, {})], "/order/1": [(200, {}, {"status": "x"})]}
    )
    old, fresh = new_key(), new_key()

    async def main() -> None:
        acme = AcmeClient(script, "https://ca.example/directory", old, SystemClock(), 1)
        await acme.register([], None)
        await acme.change_key(fresh)
        await acme.order("https://ca.example/order/1")

    run_virtually(main)
    registry = jws.JWSRegistry(algorithms=["ES256"], strict_check_header=False)
    public = {name: ECKey.import_key(ECKey.import_key(key).as_dict(private=False)) for name, key in
              (("old", old), ("fresh", fresh))}  # fmt: skip
    outer, after = script.asked[1][1], script.asked[2][1]
    inner = json.loads(jws.deserialize_json(outer, public["old"], registry=registry).payload)
    signed = jws.deserialize_json(inner, public["fresh"], registry=registry)
    assert set(signed.headers()) == {"alg", "jwk", "url"}
    said = json.loads(signed.payload)
    assert said["account"] == "https://ca.example/account/1"
    assert ECKey.import_key(said["oldKey"]).thumbprint() == public["old"].thumbprint()
    jws.deserialize_json(after, public["fresh"], registry=registry)


def test_a_killed_change_of_an_accounts_key_is_ended_by_who_the_authority_knows(tmp_path: Path) -> None:
    store, at = CertificateStore(tmp_path), "https://ca.example/directory"
    old, fresh = store.account_key(at), store.next_account_key(at, make=True)
    assert store.next_account_key(at, make=False) == fresh != old
    store.end_change(at, taken=False)
    assert (store.account_key(at), store.next_account_key(at, make=False)) == (old, None)
    fresh = store.next_account_key(at, make=True)
    store.end_change(at, taken=True)
    assert (store.account_key(at), store.next_account_key(at, make=False)) == (fresh, None)


@pytest.mark.parametrize(
    ("fields", "detail", "until"),
    [
        ({"Retry-After": "777600"}, "too many", NOW + timedelta(days=9)),
        ({}, "too many certificates, retry after 2026-07-01 12:30:00 UTC: see the page", "2026-07-01T12:30"),
        ({}, "too many, retry after 2026-07-01T12:30:00Z", "2026-07-01T12:30"),
        ({}, "too many, since 1999-01-01 00:00:00", None),
        ({}, "too many", None),
    ],
)
def test_until_when_to_wait(fields: dict[str, str], detail: str, until: Any) -> None:
    answer = HttpAnswer(429, {name.lower(): value for name, value in fields.items()})
    at = datetime(2026, 6, 30, tzinfo=UTC) if isinstance(until, str) else NOW
    told = refusal(answer, AcmeProblem(type=f"{ERROR}rateLimited", detail=detail), at)
    assert isinstance(told, AcmeBusy)
    wanted = datetime.fromisoformat(f"{until}+00:00") if isinstance(until, str) else until
    assert told.until == wanted
    if wanted is not None:
        assert f"until {wanted:%Y-%m-%d %H:%M} UTC" in told.message


@pytest.mark.parametrize("kind", ["p-256", "p-384", "rsa-2048"])
def test_keys_of_each_kind(kind: str, tmp_path: Path) -> None:
    store = CertificateStore(tmp_path)
    pem = store.pending_key("a", fresh=True, kind=kind)
    request = x509.load_der_x509_csr(request_for(pem, [NAME]))
    assert request.is_signature_valid
    assert key_type(request.public_key()) == kind
    authority = TownAuthority(NOW)
    chain = load_pem(authority.issue([NAME], request.public_key(), NOW))  # type: ignore[arg-type]
    assert [one.subject for one in store.keep("a", pem, chain).chain] == [one.subject for one in chain]


def test_the_certificate_of_a_proof_is_that_of_the_standard() -> None:
    """RFC 8737 section 3: for the name alone, and the digest in a critical extension that is an OCTET STRING."""
    digest = bytes(range(32))
    context = proving_context(NAME, digest, NOW)
    client = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    client.check_hostname, client.verify_mode = False, ssl.CERT_NONE
    client.set_alpn_protocols(["acme-tls/1"])
    bios = [ssl.MemoryBIO() for _ in range(4)]
    server = context.wrap_bio(bios[0], bios[1], server_side=True)
    browser = client.wrap_bio(bios[2], bios[3], server_hostname=NAME)
    for _ in range(6):
        for side in (browser, server):
            with suppress(ssl.SSLWantReadError):
                side.do_handshake()
            bios[0].write(bios[3].read())
            bios[2].write(bios[1].read())
    assert browser.selected_alpn_protocol() == "acme-tls/1"
    shown = x509.load_der_x509_certificate(browser.getpeercert(binary_form=True) or b"")
    names = shown.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert list(names) == [x509.DNSName(NAME)]
    proof = shown.extensions.get_extension_for_oid(x509.ObjectIdentifier("1.3.6.1.5.5.7.1.31"))
    assert (proof.critical, proof.value.value) == (True, b"\x04\x20" + digest)  # type: ignore[attr-defined]


def test_the_town_takes_another_challenge_and_a_wait_is_kept_to(tmp_path: Path) -> None:
    """Over the town's two routers: port 443 is lent for the proof; then the authority asks to wait, and is let be."""
    with town_here(tmp_path / "lab") as lab:
        assert lab.run("router", "open", "--quiet").code in (0, 1)
        lab.enter_sheets()
        assert lab.run("certificate", "change", "boathouse", "--challenge", "tls-alpn-01").code == 0
        before = lab.run("router", "list", "--json").document["gateways"]
        (row,) = lab.run("cert", "order", "--staging-first", "--json").document.get("certificates", [{}])
        assert "staging" in lab.run("cert", "order", "--staging-first").err
        ran = lab.run("cert", "order", "--json")
        (row,) = valid("cert", ran.document)["certificates"]
        assert (row["state"], row["proofs"][0]["challenge"]) == ("ordered", "tls-alpn-01"), ran
        after = lab.run("router", "list", "--json").document["gateways"]
        assert [
            [(one["outside_ports"], one["target_address"]) for one in gateway["rules"] or []] for gateway in before
        ] == [[(one["outside_ports"], one["target_address"]) for one in gateway["rules"] or []] for gateway in after]
        assert lab.run("certificate", "change", "boathouse", "--profile", "shortlived").code == 0
        acme = lab.board.town.acme
        acme.limited_until = lab.town_time() + timedelta(days=3)
        said = [lab.run("cert", "order", *words).err for words in (("--again",), ("--again",), ())]
        assert all("asks to wait until" in text for text in said[:2])
        assert lab.run("cert", "revoke", "boathouse", "--json").document["certificates"][0]["state"] == "revoked"
        asked = acme.issued
        ran = lab.run("cert", "order")
        assert (ran.code, "asked to wait until" in ran.err) == (4, True)
        acme.limited_until = None
        assert lab.run("cert", "new-key", "town-ca").code == 0
        (row,) = lab.run("cert", "order", "--again", "--json").document["certificates"]
        assert (row["state"], row["days_left"], acme.issued) == ("ordered", 5, asked + 1)
