"""Facts are values: nobody reads a sentence of ours back, and a place leads where it says."""

from __future__ import annotations

import ast
import json
import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper import errors
from hooper.clock import local, rfc3339
from hooper.evidence.worlds import Footing, rows
from hooper.places import Place, PlaceWrong, parse_place
from hooper.secret import SecretRef
from hooper.site.load import parse_site
from hooper.store.database import MIGRATIONS
from hooper.store.kept import Condition, Stood
from hooper.store.place import state_path
from hooper.store.sitefile import read_site
from hooper.store.state import State
from hooper.usecases.prove.check import CheckRequest, check
from hooper.usecases.run import open_run
from hooper.usecases.watch import condition_kinds
from hooper.words.said import NOTHING, Said, fields, say, templates
from support.program import BOATHOUSE, ROOT, Lab, LabHere, hooper, town_here, valid
from support.source import SOURCE, nodes

EDGE = ("cli", "report")  # where sentences stand
OTHERS = ("cli/prepare/dialogue.py",)  # where `say` is something else
WORDS = {"message", "remedy", "detail", "details", "told", "says", "said", "reason", "evidence", "source", "why"}
READS = {
    "partition", "rpartition", "removeprefix", "removesuffix", "startswith", "endswith", "split", "rsplit", "find",
    "index", "replace", "splitlines", "lower", "title", "capitalize",
}  # fmt: skip


# --- sentences


def _sentence(node: ast.AST) -> bool:
    """Whether this is a text that Hooper made for people: an error's, a row's, or what is said as one."""
    if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "str" and node.args:
        return _sentence(node.args[0]) or (isinstance(node.args[0], ast.Name) and node.args[0].id == "exc")
    if isinstance(node, ast.Call) and getattr(node.func, "id", "") in ("say", "quoted", "together"):
        return True
    return isinstance(node, ast.Attribute) and node.attr in WORDS and ast.unparse(node.value) != "request"


def test_no_text_of_ours_is_read_back() -> None:
    wrong = []
    for name, node in nodes(*EDGE):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
            of = node.func.value
            if node.func.attr in READS and _sentence(of):
                wrong.append((name, ast.unparse(node)))
            if getattr(of, "id", "") == "re" and any(_sentence(one) for one in node.args):
                wrong.append((name, ast.unparse(node)))
        if isinstance(node, ast.Compare):
            for operator, right in zip(node.ops, node.comparators, strict=True):
                text = isinstance(node.left, ast.Constant) and isinstance(node.left.value, str)
                if isinstance(operator, ast.In | ast.NotIn) and text and _sentence(right):
                    wrong.append((name, ast.unparse(node)))
    # what the system's own errors say is no text of ours
    assert [one for one in wrong if one[0] not in ("store/database.py", "lab/router_pages.py")] == []


def test_no_live_exception_is_rewritten() -> None:
    """Who tells of trouble in other words makes another error of it; the one that was raised stays as it was."""
    wrong = []
    for name, node in nodes():
        targets = node.targets if isinstance(node, ast.Assign) else [getattr(node, "target", None)]
        for target in targets if isinstance(node, ast.Assign | ast.AugAssign | ast.AnnAssign) else []:
            if isinstance(target, ast.Attribute) and target.attr in ("message", "remedy", "where", "code", "bare"):
                of = ast.unparse(target.value)
                if of != "self" and (name, of) != ("errors.py", "other"):
                    wrong.append((name, ast.unparse(node)))
    assert wrong == []


class Asked(errors.CounterpartError):
    """An error that asks for more than words."""

    def __init__(self, message: str, wait_s: float) -> None:
        super().__init__(message)
        self.wait_s = wait_s


def test_trouble_told_of_what_it_hit_is_another_one_and_the_same() -> None:
    first = Asked("it asks to wait", 4.0)
    told = first.about("quay", "gate", remedy="Wait.")
    assert (told.message, told.remedy, told.wait_s) == ("quay, gate: it asks to wait", "Wait.", 4.0)
    assert (first.message, first.remedy) == ("it asks to wait", errors.CounterpartError.remedy)
    assert type(told) is Asked
    assert (told.code, told.exit_code) == (first.code, first.exit_code)


def _said() -> Iterator[tuple[str, ast.Call, str]]:
    """Each call of `say` with a code that stands there."""
    for name, node in nodes():
        if name in OTHERS:
            continue
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "say" and node.args:
            codes = [node.args[0]]
            while codes:
                code = codes.pop()
                if isinstance(code, ast.IfExp):
                    codes += [code.body, code.orelse]
                elif isinstance(code, ast.Constant):
                    yield name, node, str(code.value)


def test_what_is_said_has_words_and_all_that_they_name() -> None:
    known = dict(templates())
    for name, call, code in _said():
        assert code in known, f"{name}:{call.lineno}: {code}"
        named = {str(keyword.arg) for keyword in call.keywords}
        assert fields(code) == named, f"{name}:{call.lineno}: {code}: given {sorted(named)}"


def test_what_is_found_has_words_and_all_that_they_name() -> None:
    """As above, of what goes by a code of the catalogue: its parts, with those of the variant."""
    for name, node in nodes():
        called = getattr(node.func, "attr", getattr(node.func, "id", "")) if isinstance(node, ast.Call) else ""
        if isinstance(node, ast.Call) and called in ("finds", "caused") and isinstance(node.args[0], ast.Constant):
            code = str(node.args[0].value)
            given = {str(keyword.arg) for keyword in node.keywords}
            stem, parts = (
                code.partition(".")[0],
                {"says", "do", *(("sure",) if called == "caused" else ())} - (given & {"do", "sure"}),
            )
            words = {p: next((one for one in (f"{code}.{p}", f"{stem}.{p}") if one in templates()), "") for p in parts}
            assert words["says"], f"{name}:{node.lineno}: {code}"
            named = {field for one in words.values() if one for field in fields(one)}
            assert given - {"severity", "do", "sure"} == named, f"{name}:{node.lineno}: {code} names {sorted(named)}"


def test_each_next_step_has_words_and_all_that_they_name() -> None:
    """`session.next("CODE", ...)`: what is next is a code too, and its words stand in said.json as next.CODE."""
    asked: set[str] = set()
    for name, node in nodes():
        if isinstance(node, ast.Call) and ast.unparse(node.func) in ("session.next", "session.then") and node.args:
            codes = [node.args[0]]
            if isinstance(codes[0], ast.IfExp):
                codes = [codes[0].body, codes[0].orelse]
            for one in codes:
                if isinstance(one, ast.Constant):
                    code = f"next.{one.value!s}"
                    assert fields(code) == {str(keyword.arg) for keyword in node.keywords}, f"{name}: {code}"
                    asked.add(code)
                else:  # chosen just before
                    assert ast.unparse(one) == "code", f"{name}:{node.lineno}"
    chosen = {"next.decide-then-look", "next.do-then-look"}
    assert asked | chosen == {code for code in templates() if code.startswith("next.")}


def test_all_words_are_said_somewhere() -> None:
    used, begun = set[str](), set[str]()
    for _, node in nodes():
        if isinstance(node, ast.Constant) and isinstance(node.value, str):
            used.add(node.value)
        if isinstance(node, ast.JoinedStr) and isinstance(node.values[0], ast.Constant):
            begun.add(str(node.values[0].value))
    data = (SOURCE / "words" / "catalogue.json").read_text(encoding="utf-8")
    begun = {one for one in begun if len(one) > 2}
    parts = re.compile(r"\.(says|do|sure)$")  # of a code of the catalogue, or of a variant of one
    weighed = {row.code for row in rows(Footing(("outer", "inner")))}  # which are told by code and variant
    left = {
        code
        for code in templates()
        if parts.sub("", code) not in used
        and code not in used
        and not code.startswith(tuple(begun))
        and not (code.split(".")[0] in weighed and {*code.split(".")[1:-1]} <= used)
    }
    built = (SOURCE / "store" / "migrations.sql").read_text(encoding="utf-8")
    assert {code for code in left if f'"{code}"' not in data and f"'{code}'" not in built} == set()


def test_findings_and_causes_are_told_in_codes() -> None:
    """No sentence is given to what makes a finding, a cause or a step."""
    wrong = []
    for name, node in nodes(*EDGE, "lab"):
        called = getattr(node.func, "attr", getattr(node.func, "id", "")) if isinstance(node, ast.Call) else ""
        if isinstance(node, ast.Call) and called in ("finding", "cause", "step"):
            texts = [one for one in (*node.args[1:], *(key.value for key in node.keywords)) if _written(one)]
            wrong += [(name, ast.unparse(one)) for one in texts]
    assert wrong == []


def _written(node: ast.AST) -> bool:
    """Whether it is a sentence as it stands: words with a space between them."""
    if isinstance(node, ast.Constant):
        return isinstance(node.value, str) and " " in node.value
    return isinstance(node, ast.JoinedStr) and any(_written(one) for one in node.values)


VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**40), 2**40) | st.text(max_size=12)
    | st.datetimes(timezones=st.just(UTC)) | st.sampled_from([NOTHING, say("once")]),
    lambda inner: st.lists(inner, max_size=3).map(tuple),
    max_leaves=6,
)  # fmt: skip


@given(st.sampled_from(sorted(templates())), st.data())
def test_what_was_told_is_read_as_it_was(code: str, data: Any) -> None:
    told = say(code, **{name: data.draw(VALUES) for name in sorted(fields(code))})
    again = Said.read(json.loads(json.dumps(told.written())))
    assert again == told
    both = told + say("once")
    assert Said.read(json.loads(json.dumps(both.written()))) == both


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8) | st.sampled_from(["once", "kept-before", "words"]),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=3),
    max_leaves=8,
)


@given(JSON)
def test_what_nobody_told_is_refused_or_shown(kept: Any) -> None:
    """A state or a visit's result that somebody wrote is read as something that can be shown, or not at all."""
    try:
        told = Said.read(kept)
    except ValueError:
        return
    assert isinstance(str(told), str)


@pytest.mark.parametrize(
    ("zone", "shown"), [("UTC", "2026-06-30 21:30 UTC"), ("Pacific/Auckland", "2026-07-01 09:30 NZST")]
)
def test_what_is_kept_is_utc_and_what_is_shown_is_local(zone: str, shown: str, monkeypatch: pytest.MonkeyPatch) -> None:
    at = datetime(2026, 6, 30, 21, 30, tzinfo=UTC)
    monkeypatch.setenv("TZ", zone)
    time.tzset()
    try:
        told = say("the-provider-asked-to", moment=at)
        assert shown.rpartition(" ")[0] in str(told)
        assert "2026-06-30T21:30:00" in json.dumps(told.written())
        assert local(rfc3339(at)) == shown
    finally:
        monkeypatch.undo()
        time.tzset()


# --- places

NAMES = st.text(st.characters(codec="ascii", categories=["L", "N"]), min_size=1, max_size=20) | st.sampled_from(
    ["the café", "usb0.4", "wlan 0", "a:b", "interface", "2001:db8::7", "x.y.z"]
)
PLACES = st.one_of(
    st.just(Place("here")),
    st.builds(Place, st.just("interface"), NAMES | st.just("")),
    st.builds(Place, st.just("hotspot"), NAMES | st.just("")),
    st.builds(Place, st.sampled_from(["arrival", "visit", "told", "witness", "elsewhere"]), NAMES),
    st.builds(
        Place, st.just("proxy"), st.sampled_from(["198.51.100.7", "2001:db8::7", "far.heronquay.example"]),
        st.integers(1, 65535), st.none() | st.sampled_from(["cox", "crew"]),
        st.none() | st.just(SecretRef("env", "FAR")),
    ),
)  # fmt: skip


@given(PLACES)
def test_a_place_is_read_as_it_was_written(place: Place) -> None:
    assert Place.read(str(place)) == place


@given(PLACES)
def test_what_leads_to_a_place_is_an_option_or_words(place: Place) -> None:
    """Each `--from` that is printed is understood, and means that place; where there is none, words say how."""
    option = place.option
    if option is None:
        assert str(place.way_back).endswith(".")
        assert "--from" not in str(place.way_back)
        return
    assert not place.way_back
    assert parse_place(option) == place


@given(st.text(max_size=30))
def test_what_is_no_place_is_refused_in_words(text: str) -> None:
    try:
        place = parse_place(text)
    except PlaceWrong as exc:
        assert exc.remedy
        return
    assert parse_place(str(place)) == place


def test_each_place_that_is_printed_leads_somewhere(town: LabHere) -> None:
    """All that is proposed after looking from everywhere is typed, and looks from there."""
    town.as_built()
    assert town.run("check", "--from", "interface:usb0").code in (0, 1)
    town.run("check")
    town.ask("break", fault="host-off", of="film-box")
    town.run("check", "film-page", "--from", "interface:usb0")
    printed = "".join(
        part
        for words in (("status",), ("status", "--verbose"), ("why", "film-page"), ("history",), ("audit",), ("check",))
        for ran in (town.run(*words),)
        for part in (ran.out, ran.err)
    )
    town.ask("mend")
    options = set(re.findall(r'--from (?:"([^"]+)"|([\w:.]+))', printed))
    places = {one or other for one, other in options}
    assert places
    for place in places:
        ran = town.run("check", "film-page", "--from", place)
        assert ran.code in (0, 1), (place, ran.err)


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[LabHere]:
    with town_here(tmp_path_factory.mktemp("facts")) as lab:
        yield lab


# --- what is kept

GONE = {  # what a person takes away so that the condition's subject is no more: the table, the key, and another pair
    "service": (("services", "film-page"), "here"),
    "name": (("names", "boathouse.heronquay.example"), "A"),
    "certificate": (("certificates", "boathouse"), ""),
    "rule": (("services", "film-page"), "club-router"),
    "router": (("gateways", "club-router"), ""),
    "address": (("lines", "fibre"), ""),
    "line": (("lines", "fibre"), ""),
    "clock": (("hosts", "film-box"), ""),
    "tunnel": (("tunnels", "oars"), ""),
    "peer": (("peers", "cox-phone"), ""),
    "authority": (("authorities", "town-ca"), ""),
    "witness": (("witnesses", "rented"), ""),
    "meeting": (("meetings", "oars"), "way"),
    "risk": (("services", "services.slip-film"), "port-wide-open"),
}


@pytest.mark.parametrize("kind", sorted(condition_kinds.KINDS))
def test_what_has_gone_from_the_site_file_goes_from_the_status(kind: Any) -> None:
    """Each kind of condition is dropped with its subject, whichever command took that out."""
    site = parse_site(BOATHOUSE.encode(), "site.toml").site
    if kind == "keeper":  # it is about no part of the site
        assert [*condition_kinds.standing(site, [_stood(kind, "keeper", "")])]
        return
    (_, subject), aspect = GONE[kind]
    gone = subject.removeprefix("services.")
    missing = f"{gone}-gone" if kind != "risk" else f"services.{gone}-gone"
    assert [*condition_kinds.standing(site, [_stood(kind, missing, aspect)])] == []
    if kind not in ("tunnel", "peer", "risk", "witness", "meeting"):  # which the boathouse has not as it is built
        assert [*condition_kinds.standing(site, [_stood(kind, subject, aspect)])]


def _stood(kind: Any, subject: str, aspect: str) -> Stood:
    now = datetime(2026, 11, 30, 9, 0, tzinfo=UTC)
    return Stood(Condition(kind, subject, aspect, "broken", "wrong", NOTHING), now, now)


def test_a_removed_host_takes_its_clock_along(tmp_path: Path) -> None:
    lab: Lab
    with town_here(tmp_path) as lab:
        file = read_site(tmp_path / "site.toml")
        assert "slip-cam" in file.site.hosts
        lab.run("keep", "--once")
        for key in [key for key, one in file.site.services.items() if one.host == "slip-cam"]:
            assert lab.run("service", "remove", key).code == 0
        assert lab.run("host", "remove", "slip-cam").code == 0
        rows = lab.run("status", "--json").document["rows"]
        assert [row for row in rows if "slip" in row["subject"]] == []


WAS = "SELECT (SELECT count(*) FROM results) + (SELECT count(*) FROM inside)", "SELECT count(*) FROM rules"
IS = "SELECT count(*) FROM observations WHERE subject GLOB 'services.*'", "SELECT count(*) FROM rules"


@pytest.mark.parametrize("version", [3, 9])  # of the state, as two earlier heads have left it
def test_a_state_of_an_earlier_hooper_is_read_as_values(version: int, tmp_path: Path) -> None:
    """What was kept as a sentence stays as its words; what was kept as a name is a place; nothing is lost."""
    site = tmp_path / "site.toml"
    site.write_text(BOATHOUSE, encoding="utf-8")
    path = state_path(tmp_path, read_site(site))
    with closing(sqlite3.connect(path)) as db:
        db.executescript((ROOT / "tests" / "data" / f"state-{version}.sql").read_text(encoding="utf-8"))
        assert db.execute("PRAGMA user_version").fetchone() == (version,)
        had = [db.execute(question).fetchone() for question in WAS]
        sentences = {row[0] for row in db.execute("SELECT detail FROM states")} if version > 3 else set()
    with State(path) as state:
        stood = state.history.conditions()
        events = state.history.events()
        days = state.history.days(datetime(2026, 1, 1, tzinfo=UTC))
    assert {str(one.condition.detail) for one in stood} == sentences
    for one in stood:
        assert one.condition.detail.code in ("", "kept-before")
        assert " " not in one.condition.state, one
        if one.condition.kind == "service":
            assert Place.read(one.condition.aspect).kind in ("here", "interface")
    assert len(stood) == (30 if version > 3 else 0)
    assert bool(events) == bool(days) == (version > 3)
    assert {Place.read(day.place) for day in days} <= {Place("here"), Place("interface", "usb0")}
    with closing(sqlite3.connect(path)) as db:
        assert db.execute("PRAGMA user_version").fetchone() == (len(MIGRATIONS),)
        assert [db.execute(question).fetchone() for question in IS] == had
    for words in (("status", "--json"), ("history", "--json")):
        ran = hooper(*words, "--site", str(site), "--state", str(tmp_path))
        assert ran.code in (0, 1), ran.out
        valid(words[0], ran.document)
        assert "errors" not in ran.document


@pytest.mark.parametrize("place", ["::", "nowhere:x", "", "proxy:198.51.100.7", "socks5://", 7, None, b"\xff"])
def test_a_place_that_is_none_is_set_aside(place: Any, tmp_path: Path) -> None:
    """Somebody else has written into the state: the rest of it is used."""
    path = tmp_path / "state.sqlite3"
    State(path).close()
    with closing(sqlite3.connect(path)) as db:
        day = "INSERT INTO days VALUES ('film-page', ?, '2026-11-30', 2, 1, 80.0, 1)"
        event = (
            "INSERT INTO events (at, kind, subject, aspect, before, after, level, detail, cause, seconds)"
            """ VALUES ('2026-11-30T09:00:00Z', 'service', 'film-page', ?, '', 'broken', 'wrong', '["", {}]', '', 1)"""
        )
        for question in (day, event):
            for good_or_bad in ("interface:usb0", place):
                with suppress(sqlite3.IntegrityError):  # NULL is not taken in the first place
                    db.execute(question, (good_or_bad,))
        db.commit()
    with State(path) as state:
        assert [one.place for one in state.history.days(datetime(2026, 1, 1, tzinfo=UTC))] == ["interface:usb0"]
        assert [one.aspect for one in state.history.events()] == ["interface:usb0"]


# --- runs


@dataclass(frozen=True)
class Told:
    known: frozenset[str]
    results: set[str]


def test_two_runs_of_two_sites_know_nothing_of_each_other(town: LabHere, tmp_path: Path) -> None:
    """Both at once in one process: neither has the other's secrets, leave to read shared files, or results."""
    import anyio

    sites = {}
    for name, service in (("quay", "film-page"), ("weir", "hub-page")):
        folder = tmp_path / name
        (folder / "secrets").mkdir(parents=True)
        (folder / "secrets" / "club-names").write_text(f"the-token-of-{name}\n")
        (folder / "secrets" / "club-names").chmod(0o600)
        (folder / "site.toml").write_text(BOATHOUSE, encoding="utf-8")
        sites[name] = folder / "site.toml", service
    ready = {name: anyio.Event() for name in sites}
    told: dict[str, Told] = {}

    async def one(name: str) -> None:
        path, service = sites[name]
        file = read_site(path)
        async with open_run(file, path, lambda text: None, state=path.parent / "state") as run:
            token = file.site.updaters["club-names"].token
            assert token is not None
            token.read(run.base)
            run.secrets.shared_files = name == "quay"
            ready[name].set()
            for other in ready.values():
                await other.wait()
            _, trouble = await check(run, CheckRequest((service,), Place("here")))
            assert not trouble
            (path.parent / "secrets" / "shared").write_text("seen by all")
            (path.parent / "secrets" / "shared").chmod(0o644)
            if name == "quay":
                SecretRef("file", "secrets/shared").read(run.base)
            else:
                with pytest.raises(errors.MachineError, match="can be read by others"):
                    SecretRef("file", "secrets/shared").read(run.base)
            kept = run.kept.history.conditions()
            services = {one.condition.subject for one in kept if one.condition.kind == "service"}
            told[name] = Told(frozenset(run.secrets.known), services)

    async def both() -> None:
        async with anyio.create_task_group() as tasks:
            for name in sites:
                tasks.start_soon(one, name)

    town.within(both)
    for name, (_, service) in sites.items():
        assert f"the-token-of-{name}" in told[name].known
        assert not [form for form in told[name].known for other in sites if other != name and f"-of-{other}" in form]
        assert told[name].results == {service}
