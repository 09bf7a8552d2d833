"""What is kept over time: conditions and what changed, outages, status, notices, metrics, units. The core by itself."""

from __future__ import annotations

import plistlib
import shutil
import socket
import subprocess
import time as clock
import tomllib
from datetime import UTC, datetime, time, timedelta
from ipaddress import ip_address
from pathlib import Path
from types import SimpleNamespace
from typing import Any
from xml.etree import ElementTree

import anyio
import anyio.to_thread
import pytest
from hypothesis import given
from hypothesis import strategies as st

from hooper.errors import UsageError
from hooper.keep.metrics import MetricsPage, exposition, parse_outlet
from hooper.keep.notices import tell_all, worded, worth_telling
from hooper.keep.sending import NoticeNotSent, is_quiet
from hooper.masking import Mask
from hooper.net.types import Endpoint
from hooper.report.figures import Drawn, Strip, draw_all, figures, rendered
from hooper.report.units import SYSTEMS, UnitAsked, unit
from hooper.store.kept import Condition, Happening, Turn
from hooper.store.sitefile import read_site
from hooper.store.state import State
from hooper.usecases.run import Run
from hooper.usecases.watch.history import outages
from hooper.words.said import NOTHING, quoted
from support.program import BOATHOUSE
from support.sites import site

NOW = datetime(2026, 5, 1, 12, 0, tzinfo=UTC)
PLACE = "interface:usb0"
NOTICES = ("broken", "mended", "address", "ends-soon")


def condition(state: str, level: Any = "well", **more: Any) -> Condition:
    return Condition(
        more.pop("kind", "service"), more.pop("subject", "film-page"), "interface:usb0", state, level, **more
    )


@pytest.fixture
def state(tmp_path: Path) -> Any:
    with State(tmp_path / "s.sqlite3") as opened:
        yield opened


def test_only_what_changes_becomes_an_event(state: State) -> None:
    history = state.history
    (first,) = history.note(NOW, [condition("answers")])
    assert (first.before, first.after) == (None, "answers")
    assert history.note(NOW + timedelta(hours=1), [condition("answers", detail=quoted("other words"))]) == []
    (stood,) = history.conditions()
    assert (stood.since, stood.at) == (NOW, NOW + timedelta(hours=1))
    (second,) = history.note(NOW + timedelta(hours=2), [condition("broken", "wrong", cause="service-stopped")])
    assert (second.before, second.after, second.cause) == ("answers", "broken", "service-stopped")
    assert history.note(NOW + timedelta(hours=3), [condition("broken", "wrong")]) == []
    assert history.conditions()[0].condition.cause == "service-stopped", "what was found out stays known"
    assert history.note(NOW + timedelta(hours=4), [condition("unproven", "unknown", steady=True)]) == []
    assert history.conditions()[0].condition.state == "broken", "what tells nothing changes nothing"
    lost, back = history.note(NOW, [condition("missing", "wrong", kind="rule"), condition("entered", kind="rule")])
    assert ((lost.before, lost.after), (back.before, back.after)) == ((None, "missing"), ("missing", "entered"))


def test_things_that_are_no_more_are_forgotten(state: State) -> None:
    state.history.note(NOW, [condition("answers", subject="a"), condition("answers", subject="b")])
    state.history.forget([("service", "b", "interface:usb0")])
    assert [one.condition.subject for one in state.history.conditions()] == ["a"]


def happening(number: int, hours: float, after: str, level: Any, **more: Any) -> Happening:
    row: dict[str, Any] = {"kind": "service", "subject": "film-page", "aspect": PLACE, "before": None} | more
    row = {"detail": NOTHING, "cause": None, "seconds": None} | row
    return Happening(number, NOW + timedelta(hours=hours), after=after, level=level, **row)


def test_outages_are_from_wrong_to_well() -> None:
    events = [
        happening(1, 0, "answers", "well"),
        happening(2, 1, "broken", "wrong", cause="rule-missing-outer"),
        happening(3, 1.5, "mismatched", "wrong"),
        happening(4, 3, "answers", "well"),
        happening(5, 4, "203.0.113.5", "fact", kind="address", subject="fibre"),
        happening(6, 5, "broken", "wrong"),
    ]
    first, second = outages(events, NOW + timedelta(hours=6))
    assert (first.begin, first.end, first.seconds, first.cause) == (
        "2026-05-01T13:00:00Z", "2026-05-01T15:00:00Z", 7200, "rule-missing-outer"
    )  # fmt: skip
    assert (second.end, second.seconds) == (None, 3600)


@given(st.lists(st.tuples(st.sampled_from(["well", "wrong", "unknown", "fact"]), st.integers(1, 500)), max_size=30))
def test_outages_never_overlap_and_never_outlast_what_is_known(rows: list[tuple[Any, int]]) -> None:
    hours, events = 0.0, []
    for number, (level, step) in enumerate(rows):
        hours += step
        events.append(happening(number, hours, f"{level}-{number}", level))
    found = list(outages(events, NOW + timedelta(hours=hours)))
    assert sum(one.seconds for one in found) <= hours * 3600
    assert [one.begin for one in found] == sorted(one.begin for one in found)
    assert all(one.end is not None for one in found[:-1])


# --- notices


def test_what_is_worth_telling() -> None:
    def told(*events: Happening, about: tuple[str, ...] = NOTICES) -> list[tuple[str, str]]:
        return [(one.subject, one.after) for one in worth_telling(events, about)]

    broken = happening(1, 0, "broken", "wrong", before="answers")
    mended = happening(2, 1, "answers", "well", before="broken")
    assert told(broken) == [("film-page", "broken")]
    assert told(broken, mended) == [], "what is as it was before is not told"
    assert told(mended) == [("film-page", "answers")]
    assert told(happening(1, 0, "answers", "well")) == [], "nothing was wrong before"
    assert told(happening(1, 0, "broken", "wrong")) == [("film-page", "broken")]
    assert told(broken, about=("address",)) == []
    moved = happening(3, 2, "203.0.113.9", "fact", kind="address", subject="fibre", before="203.0.113.8")
    assert told(moved) == [("fibre", "203.0.113.9")]
    assert told(happening(3, 2, "203.0.113.9", "fact", kind="address", subject="fibre")) == []
    soon = happening(4, 2, "ends-soon", "wrong", kind="certificate", subject="boathouse", before="good")
    assert told(soon, about=("ends-soon",)) == [("boathouse", "ends-soon")]


def test_what_a_notice_says() -> None:
    events = [
        happening(1, 0, "broken", "wrong", cause="service-stopped", detail=quoted("silent\x1b[31m")),
        happening(2, 0, "203.0.113.9", "fact", kind="address", subject="fibre", before="203.0.113.8"),
    ]
    notice = worded(events, "Boathouse", None)
    assert notice.title == "Boathouse: 1 out of order"
    assert "film-page (usb0): broken [service-stopped]" in notice.body
    assert "\x1b" not in notice.body
    assert "203.0.113.9, before 203.0.113.8" in notice.body
    masked = worded(events, "Boathouse", Mask({"Boathouse"}))
    assert "203.0.113" not in masked.body
    assert masked.title.startswith("name-1")
    many = worded([happening(n, 0, "broken", "wrong", subject=f"s{n}") for n in range(60)], "x", None)
    assert many.body.endswith("and 20 more")


@pytest.mark.parametrize(
    ("quiet", "at", "expected"),
    [
        (("22:00", "07:00"), "23:10", True), (("22:00", "07:00"), "06:59", True), (("22:00", "07:00"), "07:00", False),
        (("09:00", "17:00"), "12:00", True), (("09:00", "17:00"), "08:59", False), (None, "12:00", False),
    ],
)  # fmt: skip
def test_quiet_times(quiet: tuple[str, str] | None, at: str, expected: bool) -> None:
    times = (time.fromisoformat(quiet[0]), time.fromisoformat(quiet[1])) if quiet else None
    assert is_quiet(times, datetime.combine(NOW.date(), time.fromisoformat(at))) is expected


def test_whom_a_keeper_tells_when(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing of before, nothing twice, nothing while it is quiet, a digest at once; what was not taken comes again."""
    sent: list[tuple[str, str]] = []
    lost: list[str] = []
    kept: list[State] = []

    async def send(door: Any, notice: Any, address: str) -> None:
        if address in lost:
            raise NoticeNotSent("not taken")
        sent.append((address, notice.title))

    monkeypatch.setattr("hooper.keep.notices.send", send)
    quiet = (NOW + timedelta(hours=8)).astimezone()
    until = (NOW + timedelta(hours=10)).astimezone()
    rows = {"now": "", "quiet": f'quiet = "{quiet:%H:%M}-{until:%H:%M}"', "digest": 'digest = "1d"'}
    text = "version = 1\n" + "".join(f'[notices.{k}]\nto = "file:{k}"\n{more}\n' for k, more in rows.items())
    for key in rows:
        (tmp_path / key).write_text(key)
        (tmp_path / key).chmod(0o600)
    (tmp_path / "site.toml").write_text(text)
    file = read_site(tmp_path / "site.toml")

    class At:
        clock: Any
        world = "real"

    def tell(hours: float) -> list[str]:
        door: Any = At()
        door.clock = SimpleNamespace(now=lambda: NOW + timedelta(hours=hours))
        run = Run(file, NOW + timedelta(hours=hours), tmp_path / "site.toml", door, kept[0])
        return anyio.run(tell_all, run)[0]

    with State(tmp_path / "s.sqlite3") as state:
        kept.append(state)
        state.history.note(NOW, [condition("broken", "wrong", subject="before")])
        assert tell(0) == [], "what was before it was asked for is not told"
        state.history.note(NOW, [condition("answers")])
        assert tell(1) == [], "what is well for the first time is nothing to tell"
        state.history.note(NOW, [condition("broken", "wrong")])
        assert tell(9) == ["now"], "one is quiet, one collects"
        assert tell(9.1) == []
        assert tell(11) == ["quiet"]
        state.history.note(NOW, [condition("answers")])
        lost.append("now")
        assert tell(12) == ["quiet"]
        lost.clear()
        assert tell(13) == ["now"]
        state.history.note(NOW, [condition("mismatched", "wrong")])
        assert sorted(tell(26)) == ["digest", "now", "quiet"]
        assert tell(27) == []


# --- metrics


def test_metrics_are_openmetrics(state: State) -> None:
    from prometheus_client.openmetrics.parser import text_string_to_metric_families

    odd = 'a "quoted"\\ name\nwith a line'
    state.history.note(NOW, [condition("answers"), condition("broken", "wrong", subject=odd)._replace(kind="keeper")])
    turns = {"names": Turn(NOW + timedelta(seconds=30), NOW, failures=2)}
    text = exposition(
        site(BOATHOUSE).site, "boathouse", state.history.conditions(), turns, NOW + timedelta(seconds=5)
    ).decode()
    found = {
        (sample.name, sample.labels.get("subject", sample.labels.get("task"))): sample.value
        for family in text_string_to_metric_families(text)  # type: ignore[no-untyped-call]
        for sample in family.samples
    }
    assert found["hooper_well", "film-page"] == 1
    assert found["hooper_well", odd] == 0
    assert found["hooper_seen_age_seconds", "film-page"] == 5
    assert (found["hooper_task_failures", "names"], found["hooper_task_due_seconds", "names"]) == (2, 25)


def test_where_metrics_may_go() -> None:
    assert parse_outlet("file:x/y.prom", Path("/site")).file == Path("/site/x/y.prom")
    assert str(parse_outlet("127.0.0.1:9475", Path()).address) == "127.0.0.1:9475"
    assert str(parse_outlet("[::1]:9475", Path()).address) == "[::1]:9475"
    for wrong in ("0.0.0.0:9475", "192.0.2.1:1", "127.0.0.1:0", "nonsense", "file:"):
        with pytest.raises(UsageError):
            parse_outlet(wrong, Path())


def test_metrics_are_shown_on_the_loopback() -> None:
    import urllib.error
    import urllib.request

    async def main() -> tuple[bytes, str, int]:
        page = MetricsPage(b"# EOF\n")
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]

        def ask(path: str) -> tuple[bytes, str, int]:
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=5) as answer:
                    return answer.read(), answer.headers["Content-Type"], answer.status
            except urllib.error.HTTPError as exc:
                with exc:
                    return exc.read(), "", exc.code

        async with anyio.create_task_group() as tasks:
            tasks.start_soon(page.serve, Endpoint(ip_address("127.0.0.1"), port))
            with anyio.fail_after(5):
                while True:
                    try:
                        found = await anyio.to_thread.run_sync(ask, "/metrics")
                        break
                    except urllib.error.URLError:
                        await anyio.sleep(0.01)
            assert (await anyio.to_thread.run_sync(ask, "/else"))[2] == 404
            tasks.cancel_scope.cancel()
        return found

    body, kind, status = anyio.run(main)
    assert (body, status) == (b"# EOF\n", 200)
    assert kind.startswith("application/openmetrics-text; version=1.0.0")


# --- units

ASKED = UnitAsked(
    ("/opt/py thon", "-m", "hooper", "keep", "run", "/srv/100%/$HOME & <co>.toml"),
    ("/opt/py thon", "-m", "hooper", "keep", "run", "/srv/100%/$HOME & <co>.toml", "--once"),
    "nobody", ("/var/lib/hooper state",),
)  # fmt: skip


@pytest.mark.parametrize("system", SYSTEMS)
def test_units_are_well_formed(system: Any, tmp_path: Path) -> None:
    text, steps = unit(system, ASKED)
    assert steps
    assert "hooper" in text
    if system == "launchd":
        assert plistlib.loads(text.encode())["ProgramArguments"] == list(ASKED.command)
    elif system == "windows":
        command = ElementTree.fromstring(text).find(".//{*}Exec")
        assert command is not None
        assert command[0].text == ASKED.command[0]
        assert '"/srv/100%/$HOME & <co>.toml"' in str(command[1].text)
    elif system == "cron":
        assert "'/srv/100\\%/$HOME & <co>.toml'" in text


@pytest.mark.skipif(shutil.which("systemd-analyze") is None, reason="systemd is not here")
@pytest.mark.parametrize("system", ["systemd", "timer"])
def test_systemd_takes_its_units(system: Any, tmp_path: Path) -> None:
    there = UnitAsked(("/bin/true", "a b", "100%"), ("/bin/true", "--once"), "root", (str(tmp_path),))
    text, _ = unit(system, there)
    service, _, timer = text.partition("# hooper-keep.timer\n")
    (tmp_path / "hooper-keep.service").write_text(service)
    (tmp_path / "hooper-keep.timer").write_text(timer)
    names = ["hooper-keep.timer"] if timer else ["hooper-keep.service"]
    done = subprocess.run(
        ["systemd-analyze", "verify", *(str(tmp_path / name) for name in names)],
        capture_output=True, text=True, timeout=60, check=False,
    )  # fmt: skip
    assert (done.returncode, done.stderr.strip()) == (0, "")


# --- figures and a large state


def drawn() -> Drawn:
    strip = Strip(
        "film $page$ <x>",
        ((NOW, NOW + timedelta(days=2), True), (NOW + timedelta(days=2), NOW + timedelta(days=3), False)),
    )
    return Drawn(
        NOW, NOW + timedelta(days=4), (strip,),
        ((NOW, "fibre", "203.0.113.4"), (NOW + timedelta(days=1), "fibre", "203.0.113.5")),
        ((NOW + timedelta(days=1), "boathouse.heronquay.example", 0.4),),
        (("2026-05-01", "film-page", 12.0), ("2026-05-02", "film-page", 15.0)),
    )  # fmt: skip


def test_figures_are_drawn_and_the_same_data_gives_the_same_bytes(tmp_path: Path) -> None:
    written = draw_all(drawn(), tmp_path / "figures")
    assert sorted(path.name for path in written) == sorted(
        f"{name}.{form}" for name in ("availability", "addresses", "name-lag", "delay") for form in ("png", "svg")
    )
    one, other = (rendered(figures(drawn())["availability"], "svg") for _ in range(2))
    assert one == other
    ElementTree.fromstring(one)
    assert b"film $page$ &lt;x&gt;" in one
    assert figures(Drawn(NOW, NOW, (), (), (), ())) == {}


def test_a_year_of_looks_at_fifty_services_opens_fast(tmp_path: Path) -> None:
    """One-minute looks are counted by the day: 18,250 rows; changes are kept one by one."""
    path = tmp_path / "s.sqlite3"
    with State(path) as state:
        days = [(f"s{n}", "interface:usb0", f"{NOW - timedelta(days=d):%Y-%m-%d}", 1440, 1439, 1440 * 20.0, 1440)
                for n in range(50) for d in range(365)]  # fmt: skip
        with state._database.writing():
            state._database.many("INSERT INTO days VALUES (?, ?, ?, ?, ?, ?, ?)", days)
        for week in range(52):
            at = NOW - timedelta(days=7 * week)
            state.history.note(at, [condition("broken", "wrong", subject=f"s{n}") for n in range(50)])
            state.history.note(at, [condition("answers", subject=f"s{n}") for n in range(50)])
    start = clock.process_time()
    with State(path) as state:
        assert len(state.history.days(NOW - timedelta(days=366))) == 18_250
        assert len(list(outages(state.history.events(), NOW))) == 2600
        state.history.prune(NOW)
    assert clock.process_time() - start < 2, "half of it where nothing else runs"


def test_a_site_file_may_have_all_of_it() -> None:
    from support.sites import site

    text = """\
version = 1
[keep]
addresses = "30s"
checks = "2m"
places = ["here", "interface:usb0", "socks5://club@198.51.100.7:1080"]
proxy_password = "env:PROXY"
metrics = "127.0.0.1:9475"
[notices.mail]
to = "file:secrets/mail"
about = ["broken", "mended"]
quiet = "22:00-07:00"
digest = "1d"
masked = true
"""
    keep = site(text).site.keep
    assert (keep.addresses, keep.checks, keep.rules) == (30, 120, 600)
    assert [str(place) for place in keep.places] == tomllib.loads(text)["keep"]["places"]
