"""Recognisable secrets are planted everywhere, everything is run and broken, and every byte written is searched."""

from __future__ import annotations

import base64
import json
import os
import subprocess
import sys
import urllib.parse
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper import secret
from hooper.errors import MachineError
from hooper.files import make_folder
from support.program import hooper, town_here

PLANTED = 'planted/secret+of "the" heron=quay'  # letters that are written otherwise in URLs, JSON and base64
PROXY_WORD, NAMES_WORD = "planted-word-of-the-proxy", "planted-word-of-the-names"


def forms(word: str) -> set[bytes]:
    """The secret in all the ways that it could have been written."""
    raw = word.encode()
    texts = {word, urllib.parse.quote(word, safe=""), urllib.parse.quote_plus(word), word.replace('"', '\\"')}
    found = {text.encode() for text in texts} | {raw.hex().encode()}
    for shift in range(3):  # in the middle of something longer
        found.add(base64.b64encode(b"x" * shift + raw)[4:-4])
    return found


def everything_written(folder: Path, apart: set[str]) -> bytes:
    return b"".join(path.read_bytes() for path in folder.rglob("*") if path.is_file() and path.name not in apart)


def test_no_secret_is_written_anywhere(tmp_path: Path) -> None:
    state, said = tmp_path / "state", b""
    with town_here(tmp_path / "lab") as lab:
        token = lab.private()["token"]
        club = (lab.folder / "secrets" / "club-names").read_text().strip()
        zone = (lab.folder / "secrets" / "own-zone").read_text().strip()
        (lab.folder / "secrets" / "planted").write_text(PLANTED + "\n")
        (lab.folder / "secrets" / "not-base64").write_text(NAMES_WORD)
        text = Path(lab.env["HOOPER_SITE"]).read_text()
        basic = text.replace('"Bearer {token}"', '"Basic {basic}"').replace(
            'token = "file:secrets/club-names"', 'token = "file:secrets/planted"\nuser = "club"'
        )
        in_url = text.replace("file:secrets/club-names", "file:secrets/planted").replace(
            "/records/{name}/{type}", "/records/{name}/{type}?key={token}"
        )
        in_body = text.replace("file:secrets/club-names", "file:secrets/planted").replace(
            'body = "{value}"', 'body = \'{"key": "{token}", "value": "{value}"}\''
        )
        bad_key = text.replace('updated_by = "club-names"', 'updated_by = "own-zone"').replace(
            "file:secrets/own-zone", "file:secrets/not-base64"
        )
        unreachable = in_url.replace("https://names.heronquay.example", "https://nobody.heronquay.example")
        by_zone = text.replace('updated_by = "club-names"', 'updated_by = "own-zone"')
        sites = {"plain": text, "basic": basic, "url": in_url, "body": in_body, "bad": bad_key, "gone": unreachable,
                 "zone": by_zone}  # fmt: skip
        env = {"PROXY_WORD": PROXY_WORD}
        commands = [
            ("name", "update", "--again"),
            ("name", "list"),
            ("cert", "order", "--again", "--for", "2"),
            ("cert", "list"),
            ("router", "open"),
            ("router", "list"),
            ("router", "close"),
            ("card", "hub-page"),
        ]
        for key, site in sites.items():
            path = lab.folder / f"{key}.toml"
            path.write_text(site)
            lab.run("lab", "mend")
            lab.run("lab", "break", "name-stale")
            for command in commands if key in ("plain", "url") else commands[:3]:
                for form in ((), ("--json",)) if key in ("plain", "url") else ((),):
                    ran = lab.run(*command, "--site", str(path), "--state", str(state), "--verbose", *form)
                    said += (ran.out + ran.err).encode()
        proxy = ("--from", "socks5://club@198.51.100.7:1080", "--proxy-password", "env:PROXY_WORD")
        ran = lab.run("check", "film-page", *proxy, "--verbose", "--state", str(state), **env)
        said += (ran.out + ran.err).encode()
        for fault in ("provider-refuses", "provider-busy", "ca-refuses"):
            lab.run("lab", "break", fault)
            for command in (("name", "update", "--again"), ("cert", "order", "--again")):
                ran = lab.run(*command, "--state", str(state), "--verbose")
                said += (ran.out + ran.err).encode()
        keys = [path.read_bytes() for path in state.rglob("*.pem") if b"PRIVATE" in path.read_bytes()]
    kept = everything_written(
        state, {"key.pem", "pair.pem", "ordered-key.pem", "certificate-with-chain.pem"} | _accounts(state)
    )
    assert len(said) > 10_000
    assert len(kept) > 10_000
    for word in (token, club, zone, PLANTED, PROXY_WORD, NAMES_WORD):
        for written in forms(word):
            assert written not in said, (word, written)
            assert written not in kept, (word, written)
    assert keys
    for private in keys:
        body = private.split(b"\n")[1]
        assert body not in said
        assert body not in kept


def _accounts(state: Path) -> set[str]:
    return {path.name for pattern in ("account-*.pem", "earlier/*.pem") for path in state.rglob(pattern)}


def test_a_fault_of_ours_does_not_tell_a_secret(tmp_path: Path) -> None:
    """A traceback is never printed, and what the exception says is cleaned."""
    code = (
        "import hooper.names.publish as p\n"
        "def broken(updater, token, *a): raise RuntimeError('boom ' + token.reveal())\n"
        "p._words = broken\n"
        "from hooper.cli.main import run\n"
        "import sys; run(sys.argv[1:])"
    )
    with town_here(tmp_path / "lab") as lab:
        lab.run("lab", "break", "name-stale")
        (lab.folder / "secrets" / "club-names").write_text(PLANTED)
        for form in ((), ("--json",)):
            done = subprocess.run(
                [sys.executable, "-c", code, "name", "update", *form],
                capture_output=True, text=True, check=False, timeout=60, env={**os.environ, **lab.env},
            )  # fmt: skip
            assert done.returncode == 70, done.stderr
            assert "boom [secret]" in done.stdout + done.stderr
            assert PLANTED not in done.stdout + done.stderr


def test_a_secret_in_the_site_file_itself_is_never_repeated(tmp_path: Path) -> None:
    site = tmp_path / "site.toml"
    site.write_text(f'version = 1\n[updaters.u]\nkind = "dns-update"\nkey = "k"\ntoken = "{NAMES_WORD}"\n')
    for form in ((), ("--json",)):
        ran = hooper("plan", "--site", str(site), *form)
        assert ran.code == 3
        assert NAMES_WORD not in ran.out + ran.err


@given(st.text(min_size=12, max_size=40), st.integers(0, 30), st.sampled_from(["", "user:", "x", "ab"]))
def test_no_form_of_a_secret_passes(value: str, cut: int, before: str) -> None:
    """As it is, quoted, in a URL, in JSON, in Base64 behind something; and cut off by whoever showed it."""
    secret.keep_out_of_output(value)
    try:
        raw = value.encode("utf-8", "replace")
        shown = (value, repr(value), json.dumps(value), urllib.parse.quote(value), f"https://x/?k={value}&y=1")
        for text in shown:
            assert value not in secret.redact(text)
        coded = base64.b64encode(before.encode() + raw).decode()
        if len(coded) > 12:
            assert coded[6:-4] not in secret.redact(f"Basic {coded}")
        left = secret.redact(f"it said {value[: len(value) - cut]}")
        assert value[: max(9, len(value) // 2 + 1)] not in left
    finally:
        secret.secrets_in_use().known.clear()


@pytest.mark.parametrize("mode", [0o644, 0o640, 0o604])
def test_a_secret_file_that_others_can_read_is_refused(tmp_path: Path, mode: int) -> None:
    with town_here(tmp_path / "lab") as lab:
        path = lab.folder / "secrets" / "club-names"
        path.chmod(mode)
        assert lab.run("lab", "break", "name-stale").code == 0
        ran = lab.run("name", "update", "--again", "--state", str(tmp_path / "state"))
        assert (ran.code, "chmod 600" in ran.err) == (6, True)
        allowed = lab.run("name", "update", "--again", "--state", str(tmp_path / "state"), "--insecure-files")
        assert allowed.code != 6
        secret.secrets_in_use().shared_files = False
        path.chmod(0o600)
        assert lab.run("name", "update", "--again", "--state", str(tmp_path / "state")).code != 6


@pytest.mark.parametrize(
    ("data", "helps"),
    [(None, "Create the file"), (b"", "Write the secret"), (b"\n", "Write the secret"),
     (b"\xff\xfe", "Write the secret"), (b"x" * (1 << 20), "Write the secret"), ("folder", "ordinary file")],
)  # fmt: skip
def test_a_secret_file_that_holds_none_says_what_helps(tmp_path: Path, data: bytes | str | None, helps: str) -> None:
    path = tmp_path / "key"
    if data == "folder":
        path.mkdir(mode=0o700)
    elif isinstance(data, bytes):
        path.write_bytes(data)
    with pytest.raises(MachineError) as raised:
        secret.SecretRef.parse("file:key").read(tmp_path)
    assert (raised.value.code, helps in raised.value.remedy) == ("secret-missing", True), raised.value.remedy


def test_folders_are_private_whatever_the_umask(tmp_path: Path) -> None:
    before = os.umask(0)
    try:
        make_folder(tmp_path / "a" / "b" / "c", private=True)
    finally:
        os.umask(before)
    assert {(tmp_path / part).stat().st_mode & 0o777 for part in ("a", "a/b", "a/b/c")} == {0o700}
