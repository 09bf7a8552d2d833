"""Publishing beside what BIND shows: forms and commands, spacing, refresh, back-off, address echoes, IPv6, notices."""

from __future__ import annotations

import http.server
import json
import os
import stat
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from ipaddress import IPv6Address, IPv6Interface
from pathlib import Path
from typing import Any

import anyio
import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from hypothesis import given
from hypothesis import strategies as st

from hooper.certs.acme import renewal_name
from hooper.errors import HooperError
from hooper.line.echo import read_answer
from hooper.line.public6 import joined, steady
from hooper.line.sources import Given, candidates, choose
from hooper.names.handing import run_command
from hooper.names.update import Names
from hooper.net.surroundings import parse_passing
from hooper.net.types import Interface
from hooper.sourced import Sourced
from hooper.store.state import State
from hooper.words.said import quoted
from support.mortal import town
from support.program import hooper, town_here, valid
from support.sites import ONE_BOX, site
from support.virtual import run_virtually

NAME = "boathouse.heronquay.example"


# --- an address echo


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("203.0.113.44\n", "203.0.113.44"), ('{"ip":"203.0.113.44"}', "203.0.113.44"), ("v 1.2.3, no address", None),
        ("<b>203.0.113.44</b> 198.51.100.1", "203.0.113.44"), ("999.1.1.1", None), ("", None), ("1.2.3.4.5", None),
        ("2001:db8::1", None),
    ],
)  # fmt: skip
def test_the_address_in_an_answer(text: str, expected: str | None) -> None:
    found = read_answer(text, None)
    assert (str(found) if found else None) == expected


@given(st.text(max_size=300))
def test_no_answer_breaks_the_reading(text: str) -> None:
    found = read_answer(text, None)
    assert found is None or str(found) in text


ECHO = 'stun = ["192.0.2.10:3478"]\necho = ["http://echo.heronquay.example/"]\n'


def test_sources_in_the_order_of_the_site_file() -> None:
    """What is told by nobody else is taken as it is; where two differ, both are told of."""
    text = ONE_BOX.replace("[lines.", '[measure]\necho = ["http://e.example/"]\n[lines.', 1)
    line = next(iter(site(text).site.lines))
    stun, echo = (
        Sourced(read_answer("198.51.100.4", None), quoted("STUN")),
        Sourced(read_answer("198.51.100.5", None), quoted("echo")),
    )

    def chosen(order: str | None) -> tuple[str, int]:
        written = text if order is None else text.replace(f"[lines.{line}]", f"[lines.{line}]\nsources = {order}")
        found = candidates(site(written).site, line, Given(), None, router=None, stun=stun, echo=echo)
        public = choose(line, found)
        return str(public.address.value), len(public.differs)

    assert chosen(None) == ("198.51.100.4", 1)
    assert chosen('["echo", "stun"]') == ("198.51.100.5", 1)
    private = Sourced(read_answer("100.64.1.1", None), quoted("echo"))
    found = candidates(site(text).site, line, Given(), None, router=None, stun=None, echo=private)
    assert found.echo is None
    assert "100.64.1.1" in str(choose(line, found).address.source)
    assert "RFC 6598" in str(choose(line, found).address.source)


# --- IPv6


def test_the_steady_address_of_an_interface() -> None:
    passing = parse_passing(
        [
            "20010db8004400070000000000000105 02 40 00 80     lan0",
            "20010db80044000771a2b3c4d5e6f708 02 40 00 01     lan0",
            "20010db8004400079999000000000001 02 40 00 20     lan0",
            "damaged",
        ]
    )
    assert {str(one) for one in passing["lan0"]} == {"2001:db8:44:7:71a2:b3c4:d5e6:f708", "2001:db8:44:7:9999::1"}
    own = [
        IPv6Interface(f"{text}/64")
        for text in ("fe80::1", "fd00::5", "2001:db8:44:7:71a2:b3c4:d5e6:f708", "2001:db8:44:7::105")
    ]
    found = steady(Interface("lan0", tuple(own), passing=passing["lan0"]))
    assert str(found) == "2001:db8:44:7::105/64"
    made = IPv6Interface("2001:db8:44:7:0:5eff:fe44:105/64")
    assert steady(Interface("lan0", (*own, made), passing=passing["lan0"])) == made
    assert steady(Interface("lan0", tuple(own[:2]))) is None


@given(st.integers(0, 2**128 - 1), st.integers(0, 2**128 - 1), st.integers(0, 128))
def test_prefix_and_own_part(prefix: int, own: int, length: int) -> None:
    both = int(joined(IPv6Address(prefix), IPv6Address(own), length))
    assert both >> (128 - length) == prefix >> (128 - length)
    assert both & ((1 << (128 - length)) - 1) == own & ((1 << (128 - length)) - 1)


# --- the renewal of certificates (RFC 9773)


def test_the_name_of_a_certificate_is_the_example_of_the_standard() -> None:
    """RFC 9773 section 4.1 and appendix A: key identifier 69:88:5B:...:D4, serial number 00:87:65:43:21."""
    key = ec.generate_private_key(ec.SECP256R1())
    identifier = bytes.fromhex("69885B6B87464041E1B37B847BA0AE2CDE01C8D4")
    now = datetime(2026, 5, 1, tzinfo=UTC)
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "x")])
    certificate = (
        x509.CertificateBuilder(name, name, key.public_key(), 0x87654321, now, now + timedelta(days=1))
        .add_extension(x509.AuthorityKeyIdentifier(identifier, None, None), critical=False)
        .sign(key, hashes.SHA256())
    )
    assert renewal_name(certificate) == "aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE"


def test_an_authority_may_ask_for_a_renewal(tmp_path: Path) -> None:
    with town_here(tmp_path / "lab") as lab:
        more = ("--state", str(tmp_path / "state"), "--json")

        def order() -> str:
            (row,) = valid("cert", hooper("cert", "order", *more, env=lab.env).document)["certificates"]
            return str(row["state"])

        assert [order(), order()] == ["ordered", "current"]
        lab.board.town.acme.renew_now = True
        assert order() == "ordered"
        lab.board.town.acme.renew_now = False
        assert order() == "current"
        assert lab.board.town.acme.issued == 2
        assert len(lab.board.town.acme.replaced) == 1


# --- the patience with a provider


def updating(tmp_path: Path, more: str, days: list[tuple[float, Any]]) -> list[tuple[str, bool]]:
    """What is done with the name at each of these moments (hours from the begin), after each deed on the town."""
    seen: list[tuple[str, bool]] = []

    async def main() -> None:
        async with town(tmp_path) as (board, door, _):
            (tmp_path / "secrets" / "club-names").chmod(0o600)
            path = tmp_path / "site.toml"
            path.write_text(path.read_text().replace('kind = "http"', f'kind = "http"\n{more}', 1))
            from hooper.store.sitefile import read_site

            file, at = read_site(path), 0.0
            with State(tmp_path / "state.sqlite3") as state:
                for hours, deed in days:
                    await anyio.sleep((hours - at) * 3600)
                    at = hours
                    deed(board)
                    names = Names(door, file.site, tmp_path, Given(), 2, 2, state.updates, patient=True)
                    (row,) = await names.update(await names.look([NAME]), again=False)
                    seen.append((row.action, row.ok))

    run_virtually(main)
    return seen


def stale(board: Any) -> None:
    board.town.zone.set(NAME, "A", ["203.0.113.9"])


def nothing(board: Any) -> None:
    del board


def broken(board: Any) -> None:
    stale(board)
    board.town.nodes["name-provider"].tcp.pop(443, None)


def test_spacing_refresh_and_back_off(tmp_path: Path) -> None:
    assert updating(tmp_path / "a", 'spacing = "6h"', [(0, stale), (1, stale), (7, nothing), (8, nothing)]) == [
        ("updated", True), ("waiting", False), ("updated", True), ("current", True)
    ]  # fmt: skip
    looks: list[tuple[float, Any]] = [(0, nothing), (24, nothing), (24 * 19, nothing), (24 * 21, nothing)]
    assert updating(tmp_path / "b", 'refresh = "20d"', looks) == [
        ("updated", True), ("current", True), ("current", True), ("updated", True)
    ]  # fmt: skip
    tries = updating(tmp_path / "c", "", [(hours / 60, broken) for hours in (0, 0.1, 1, 1.2, 3, 3.5, 6, 60, 61)])
    assert [action for action, _ in tries] == [
        "failed", "waiting", "failed", "waiting", "failed", "waiting", "failed", "failed", "waiting"
    ]  # fmt: skip


# --- a command of the user's


def test_a_command_gets_the_values_in_its_environment(tmp_path: Path) -> None:
    script = tmp_path / "set-name"
    script.write_text(
        '#!/bin/sh\necho "$HOOPER_DO $HOOPER_NAME $HOOPER_TYPE $HOOPER_VALUE $HOOPER_TOKEN $1" > said\necho kept\n'
    )
    script.chmod(script.stat().st_mode | stat.S_IXUSR)
    more = {"HOOPER_DO": "set", "HOOPER_NAME": "a.example", "HOOPER_TYPE": "A", "HOOPER_VALUE": "203.0.113.4"}

    async def run(words: list[str], limit: float = 10) -> str:
        return await run_command(words, tmp_path, more, limit)

    assert anyio.run(run, [str(script), "$(touch bad); one argument"]) == "kept"
    assert (tmp_path / "said").read_text() == "set a.example A 203.0.113.4  $(touch bad); one argument\n"
    assert not (tmp_path / "bad").exists(), "no shell reads it"
    for words, limit, code in (
        (["/bin/sh", "-c", "echo no; exit 3"], 10.0, "command-failed"),
        (["/bin/sleep", "30"], 0.2, "command-failed"),
        ([str(tmp_path / "nobody")], 10.0, "command-not-started"),
    ):
        with pytest.raises(HooperError) as caught:
            anyio.run(run, words, limit)
        assert caught.value.code == code


# --- the commands


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    with town_here(tmp_path / "lab") as lab:
        return lab.folder


def test_an_updater_is_added_with_its_secret(folder: Path) -> None:
    here = ("--site", str(folder / "site.toml"))
    words = ("updater", "add", "mine", "--form", "words", "--url", "https://names.example/nic", "--user", "me")
    ran = hooper(*words, *here, stdin="hunter2\n")
    assert ran.code == 0, ran
    assert "hunter2" not in ran.out + ran.err + (folder / "site.toml").read_text()
    secret = folder / "secrets" / "mine"
    assert secret.read_text() == "hunter2\n"
    assert stat.S_IMODE(secret.stat().st_mode) == 0o600
    assert hooper(*words, *here, stdin="again\n").code == 2
    assert hooper("name", "add", "Film.heronquay.example.", "--by", "mine", *here).code == 0
    ran = hooper(
        "name", "try", "film.heronquay.example", "--address", "203.0.113.4", "--response", "badauth", "--json", *here
    )
    document = valid("name-try", ran.document)
    assert document["sent"] == [
        "GET https://names.example/nic?hostname=film.heronquay.example&myip=203.0.113.4",
        "Authorization: Basic [secret]",
    ]  # fmt: skip
    assert document["judged"]["means"] == "never"
    for answer, means in (("good 203.0.113.4", "done"), ("nochg", "unchanged"), ("911", "wait"), ("<html>", "unclear")):
        ran = hooper("name", "try", "film.heronquay.example", "--response", answer, "--json", *here)
        assert ran.document["judged"]["means"] == means
    listed = valid("updater-list", hooper("updater", "list", "--json", *here).document)["updaters"]
    assert {row["updater"]: row["names"] for row in listed}["mine"] == ["film.heronquay.example"]


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("--form", "token", "--url", "https://a.example/"), "does not hold the {token}"),
        (("--form", "words", "--url", "http://a.example/", "--user", "me"), "clear text"),
        (("--server", "here", "--key", "k"), "--server"),
        ((), "--form is missing"),
        (("--form", "nonsense"), "nonsense"),
    ],
)
def test_a_wrong_updater_is_not_added(folder: Path, words: tuple[str, ...], told: str) -> None:
    before = (folder / "site.toml").read_bytes()
    ran = hooper("updater", "add", "mine", *words, "--site", str(folder / "site.toml"), stdin="secret\n")
    assert (ran.code, told in ran.err) == (2, True), ran
    assert (folder / "site.toml").read_bytes() == before
    assert not (folder / "secrets" / "mine").exists()


def test_aaaa_of_a_host(tmp_path: Path) -> None:
    """The prefix that this computer has now, and the host's own part; the provider of the town takes none."""
    with town_here(tmp_path / "lab") as lab:
        path = lab.folder / "site.toml"
        text = path.read_text().replace(
            'updated_by = "club-names"', 'updated_by = "own-zone"\ntypes = ["A", "AAAA"]\nhost = "hub"', 1
        )
        text = text.replace('address = "10.44.7.50"', 'address = "10.44.7.50"\naddress6 = "2001:db8:44:9::50"', 1)
        path.write_text(text)
        more = ("--state", str(tmp_path / "state"), "--json")
        ran = hooper("name", "update", *more, env=lab.env)
        rows = {row["type"]: row for row in valid("name", ran.document)["names"]}
        assert rows["AAAA"]["wanted"] == ["2001:db8:44:7::50"]
        assert (rows["A"]["action"], rows["AAAA"]["action"], rows["AAAA"]["ok"]) == ("current", "updated", True)
        assert lab.board.town.zone.get(NAME, "AAAA") == ["2001:db8:44:7::50"]


def test_another_hand_that_is_faster_is_not_overwritten(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between the look and the update: the server holds the prerequisites against what is there by then."""
    from hooper.names.dynamic import DnsPublisher

    with town_here(tmp_path / "lab") as lab:
        path = lab.folder / "site.toml"
        path.write_text(path.read_text().replace('updated_by = "club-names"', 'updated_by = "own-zone"', 1))
        zone, send = lab.board.town.zone, DnsPublisher._send
        zone.set(NAME, "A", ["203.0.113.9"])

        async def faster(self: DnsPublisher, *arguments: Any) -> None:
            zone.set(NAME, "A", ["203.0.113.10"])
            await send(self, *arguments)

        monkeypatch.setattr(DnsPublisher, "_send", faster)
        ran = hooper("name", "update", "--state", str(tmp_path / "state"), "--json", env=lab.env)
        (row,) = valid("name", ran.document)["names"]
        assert (row["action"], ran.code) == ("failed", 4)
        assert [error["code"] for error in ran.document["errors"]] == ["update-overtaken"]
        assert zone.get(NAME, "A") == ["203.0.113.10"]
        monkeypatch.undo()
        ran = hooper("name", "update", "--state", str(tmp_path / "state"), "--json", env=lab.env)
        assert (ran.document["names"][0]["action"], zone.get(NAME, "A")) == ("updated", ["203.0.113.44"])


# --- notices


@pytest.fixture
def receiver() -> Iterator[tuple[str, list[dict[str, Any]]]]:
    """Something on the loopback that takes notices as JSON."""
    came: list[dict[str, Any]] = []

    class Taker(http.server.BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            came.append(json.loads(self.rfile.read(int(self.headers["Content-Length"]))))
            self.send_response(200)
            self.send_header("Content-Length", "0")
            self.end_headers()

        def log_message(self, format: str, *args: Any) -> None:
            del format, args

    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Taker)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    yield f"json://127.0.0.1:{server.server_port}/x", came
    server.shutdown()
    server.server_close()
    thread.join(5)


@pytest.mark.filterwarnings("ignore")
def test_a_notice_for_a_test(tmp_path: Path, receiver: tuple[str, list[dict[str, Any]]]) -> None:
    address, came = receiver
    (tmp_path / "to").write_text(address)
    os.chmod(tmp_path / "to", 0o600)
    (tmp_path / "site.toml").write_text(
        'version = 1\n[notices.me]\nto = "file:to"\n[notices.other]\nto = "file:gone"\n'
    )
    ran = hooper("keep", "notice", "--test", "--state", str(tmp_path / "s"), "--json", cwd=tmp_path)
    rows = {row["notice"]: row["test"] for row in valid("keep-notice", ran.document)["notices"]}
    assert rows == {"me": "the test was sent", "other": "the test was not sent"}
    assert ran.code == 6
    assert [one["title"] for one in came] == ["site: a test"]
    assert address not in ran.out + ran.err
