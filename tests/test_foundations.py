"""Layers, errors, secrets, masking, state, schemas, start-up."""

from __future__ import annotations

import json
import os
import pickle
import signal
import sqlite3
import stat
import subprocess
import sys
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import anyio
import pytest
from scripts.schemas import SHIPPED, all_schemas

from hooper import errors
from hooper.check.results import Evidence, Result
from hooper.clock import SystemClock, rfc3339
from hooper.evidence.observations import REACH, Observation, inside_aspect
from hooper.files import read_text, write_atomically
from hooper.jsonform import dump, each_text, error_objects, head, plain
from hooper.masking import Mask
from hooper.net.running import interruptible
from hooper.secret import Secret, SecretRef, redact
from hooper.store.database import MIGRATIONS
from hooper.store.kept import StoredInside
from hooper.store.place import store_name
from hooper.store.state import State
from hooper.words.said import quoted
from support.program import BOATHOUSE, ROOT, valid
from support.sites import site


def _loaded(code: str) -> set[str]:
    done = subprocess.run(
        [sys.executable, "-c", f"{code}\nimport sys; print('\\n'.join(sys.modules), file=sys.stderr)"],
        capture_output=True,
        text=True,
        check=False,
    )
    return {name.split(".")[0] for name in done.stderr.split()}


def test_the_start_is_light(tmp_path: Path) -> None:
    heavy = {"anyio", "httpcore", "dns", "cryptography", "psutil", "sqlite3", "asyncio", "ssl"}
    (tmp_path / "site.toml").write_text(BOATHOUSE)
    run = "from hooper.cli.main import run\ntry: run({})\nexcept SystemExit: pass"
    overview = _loaded(run.format(["--help"]))
    assert "typer" in overview
    assert not overview & (heavy | {"pydantic", "rich"})
    plan = _loaded(run.format(["plan", "--site", str(tmp_path / "site.toml")]))
    assert {"pydantic", "rich"} <= plan
    assert not plan & heavy


def test_the_worst_exit_code_wins() -> None:
    assert errors.worst([]) == 0
    assert errors.worst([1, 4]) == 4
    assert errors.worst([4, 5, 3, 2, 6]) == 6
    assert errors.worst([70, 6]) == 70
    assert errors.SeveralErrors([errors.NoAnswer("a"), errors.SiteFileError("b")]).exit_code == 3


def test_every_error_says_what_to_do() -> None:
    stack: list[type[errors.HooperError]] = [errors.HooperError]
    while stack:
        kind = stack.pop()
        stack += kind.__subclasses__()
        assert kind.remedy.endswith((".", "`."))
        assert kind.exit_code in (1, 2, 3, 4, 5, 6, 70)


def test_errors_as_json() -> None:
    where = errors.Where("site.toml", 3, 9, "hosts.a")
    error = errors.SeveralErrors([errors.SiteFileError("bad", where=where), errors.NoAnswer("late")])
    document = {**head("plan", datetime(2026, 5, 1, tzinfo=UTC), "real"), "errors": error_objects([error])}
    valid("errors", document)
    assert [one["code"] for one in document["errors"]] == ["site-file", "no-answer"]
    assert document["at"] == "2026-05-01T00:00:00Z"


def test_the_shipped_schemas_are_current() -> None:
    shipped = {
        path.name: path.read_text(encoding="utf-8") for path in (*(ROOT / "docs" / "schemas").iterdir(), SHIPPED)
    }
    assert shipped == all_schemas(), "run: python -m scripts.schemas docs/schemas"


def test_every_field_of_every_schema_is_described() -> None:
    def bare(schema: object, path: str) -> list[str]:
        if isinstance(schema, list):
            return [name for item in schema for name in bare(item, path)]
        if not isinstance(schema, dict):
            return []
        fields = schema.get("properties", {})
        here = [f"{path}.{name}" for name, field in fields.items() if not field.get("description")]
        return here + [name for key, value in schema.items() for name in bare(value, f"{path}.{key}")]

    assert not [name for file, text in all_schemas().items() for name in bare(json.loads(text), file)]


def test_schemas_of_documents_are_closed() -> None:
    def closed(schema: object) -> None:
        if isinstance(schema, dict):
            if schema.get("type") == "object" and "properties" in schema:
                assert schema["additionalProperties"] is False
                of_deeds = schema.get("title") == "hooper lab"  # each of which says its own
                optional = set(schema["properties"]) if of_deeds else {"errors"}
                assert set(schema["properties"]) - set(schema["required"]) <= optional
            for value in schema.values():
                closed(value)
        elif isinstance(schema, list):
            for value in schema:
                closed(value)

    for name, text in all_schemas().items():
        if name != "site.schema.json":
            closed(json.loads(text))


def test_the_boathouse_matches_the_schema_of_the_site_file() -> None:
    import tomllib

    document = json.loads(json.dumps(tomllib.loads(BOATHOUSE), default=str))
    valid("site", document)


def test_secrets_by_reference(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("CLUB_TOKEN", "plum-garden-42")
    (tmp_path / "t").write_bytes(b"\xef\xbb\xbfwillow-55\r\n")
    assert SecretRef.parse("env:CLUB_TOKEN").read(tmp_path).reveal() == "plum-garden-42"
    secret = SecretRef.parse("file:t").read(tmp_path)
    assert secret.reveal() == "willow-55"
    assert "willow" not in f"{secret!r}{secret}"
    assert redact("a willow-55 b plum-garden-42") == "a [secret] b [secret]"
    assert plain({"x": ["willow-55"]}) == {"x": ["[secret]"]}
    with pytest.raises(TypeError):
        pickle.dumps(secret)
    for wrong in ("hunter22", "env:", "env:a b", "file:", ""):
        with pytest.raises(ValueError, match="env:NAME") as caught:
            SecretRef.parse(wrong)
        assert "hunter22" not in str(caught.value)
    for missing in ("env:NOT_SET_ANYWHERE", "file:nowhere"):
        with pytest.raises(errors.MachineError):
            SecretRef.parse(missing).read(tmp_path)
    (tmp_path / "empty").write_text("\n")
    with pytest.raises(errors.MachineError, match="empty"):
        SecretRef.parse("file:empty").read(tmp_path)
    assert Secret("abc", "x").reveal() == "abc"


@dataclass(frozen=True)
class _Masked:
    text: str
    rows: tuple[str, ...]


def test_masking_is_consistent_and_leaves_private_addresses() -> None:
    mask = Mask({"boathouse.heronquay.example", "heronquay.example"})
    shown = each_text(
        _Masked(
            "203.0.113.44 and 10.44.7.1, 02:00:5E:44:07:41, sha256:" + "ab" * 32,
            ("https://Boathouse.heronquay.example:8443/", "203.0.113.44/24 2001:db8::5 10.1.2.3 v1.2.3.4.5"),
        ),
        mask.text,
    )
    assert shown.text == "address-1 and 10.44.7.1, mac-1, key-1"
    assert shown.rows == ("https://name-1:8443/", "address-1/24 address-2 10.1.2.3 v1.2.3.4.5")


def _result(service: str) -> Result:
    return Result(
        service, "reachable", True, "answered", (), "ipv4", "203.0.113.44", "tcp", 443, 5, None, Evidence(), quoted("x")
    )


def test_state_is_kept_private_and_found_again(tmp_path: Path) -> None:
    now = datetime(2026, 5, 1, 12, tzinfo=UTC)
    path = tmp_path / "new" / store_name(site(BOATHOUSE))
    inside = StoredInside("answered", "sha256:" + "0" * 64, None, rfc3339(now))
    with State(path) as state:
        seen = [
            Observation(f"services.{key}", REACH, plain(_result(key)), now, "measured", "interface:usb0")
            for key in "ab"
        ]
        shown = ["answered", inside.fingerprint, None]
        state.ledger.write(
            (*seen, Observation("services.a", inside_aspect("tcp", 443), shown, now, "measured", "here"))
        )
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    assert stat.S_IMODE(path.parent.stat().st_mode) == 0o700
    with State(path) as state:
        assert state.ledger.inside("a", "tcp", 443) == inside
        assert state.ledger.inside("a", "udp", 443) is None
        rows = state.ledger.newest("services.*", REACH, now, now)
        assert [(row.value["service"], row.subject) for row in rows] == [("b", "services.b"), ("a", "services.a")]
        assert len({row.run for row in rows}) == 1
        assert state.ledger.newest("services.a", REACH, now, now + timedelta(seconds=1)) == []
        state.ledger.tell(now, {"gateways.box/wan": "1.2.3.4"})
        state.ledger.tell(now, {"gateways.box/wan": "1.2.3.5", "hosts.hub/at": "10.0.0.9"})
        assert {key: told.value for key, told in state.ledger.told(now).items()} == {
            "gateways.box/wan": "1.2.3.5",
            "hosts.hub/at": "10.0.0.9",
        }
        assert (state.ledger.showing(str(inside.fingerprint)), state.ledger.showing("sha256:0")) == (("a",), ())


def test_state_that_cannot_be_used(tmp_path: Path) -> None:
    path = tmp_path / "s.sqlite3"
    State(path).close()
    with sqlite3.connect(path) as db:
        db.execute(f"PRAGMA user_version = {len(MIGRATIONS) + 1}")
    db.close()
    with pytest.raises(errors.StateError, match="newer Hooper"):
        State(path)
    path.write_bytes(b"this is no database, but long enough to look like a file" * 20)
    with pytest.raises(errors.StateError, match="not a database"):
        State(path)
    (tmp_path / "file").write_text("")
    with pytest.raises(errors.StateError):
        State(tmp_path / "file" / "s.sqlite3")


def test_two_sites_never_share_a_store(tmp_path: Path) -> None:
    from hooper.store.sitefile import read_site

    names = set()
    for folder in ("a", "b"):
        (tmp_path / folder).mkdir()
        (tmp_path / folder / "site.toml").write_text("version = 1\n")
        names.add(store_name(read_site(tmp_path / folder / "site.toml")))
    assert len(names) == 2


@pytest.mark.parametrize(
    ("name", "helps"),
    [("missing", "mistyped"), (".", "It is a folder"), ("site.toml/x", "a file and no folder"), ("n" * 300, "shorter")],
)
def test_trouble_with_a_file_says_what_helps(name: str, helps: str, tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text("")
    with pytest.raises(errors.MachineError) as raised:
        read_text(tmp_path / name)
    assert helps in raised.value.remedy


def test_a_file_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    target = tmp_path / "x"
    write_atomically(target, b"one", private=True)
    assert stat.S_IMODE(target.stat().st_mode) == 0o600
    with pytest.raises(errors.MachineError):
        write_atomically(tmp_path / "missing" / "x", b"two")
    assert os.listdir(tmp_path) == ["x"]
    assert dump({"a": "ü"}).endswith("\n")


def test_sleeping_until_a_moment_that_has_passed_takes_no_time() -> None:
    clock = SystemClock()
    anyio.run(clock.sleep_until, clock.now() - timedelta(seconds=5))


# what is found wherever one starts


def test_each_job_can_be_the_first_that_is_imported() -> None:
    """Of the use cases; commands are first wherever one runs, and what lies below is acyclic by `test_structure`."""
    modules = sorted(
        ".".join(path.relative_to(ROOT / "src").with_suffix("").parts)
        for path in (ROOT / "src" / "hooper" / "usecases").rglob("*.py")
        if path.name != "__init__.py"
    )
    code = f"""
import importlib, os, sys
import typer, rich.console, pydantic.main, anyio, sqlite3, cryptography.x509, dns.resolver
import hooper.site.model, hooper.planning.plan, hooper.net.http, hooper.net.dns, hooper.net.system, hooper.net.lab_door
import hooper.check.checking, hooper.gateways.find, hooper.line.measure, hooper.names.update, hooper.certs.inspect
for name in {modules!r}:
    child = os.fork()
    if child == 0:
        try:
            importlib.import_module(name)
        except BaseException as exc:
            print(name, type(exc).__name__, exc, flush=True)
        os._exit(0)
    os.waitpid(child, 0)
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False, timeout=300)
    assert (done.returncode, done.stdout) == (0, ""), done.stdout + done.stderr


# interrupts


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_is_not_lost_in_a_task_group_that_fails(number: int) -> None:
    tidied = []

    async def work() -> None:
        try:
            async with anyio.create_task_group() as group:

                async def failing() -> None:
                    os.kill(os.getpid(), number)
                    raise ValueError

                group.start_soon(failing)
                await anyio.sleep_forever()
        except* ValueError:
            pass
        try:
            with anyio.fail_after(20):
                await anyio.sleep_forever()
        finally:
            tidied.append(True)

    before = {number: signal.getsignal(number) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        with pytest.raises(KeyboardInterrupt):
            anyio.run(interruptible, work, ())
    finally:
        for each, handler in before.items():
            signal.signal(each, handler)
    assert tidied
