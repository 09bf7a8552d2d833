"""Fixtures for all tests, and the rule that `real` tests may not be skipped where CI asks for them."""

from __future__ import annotations

import gc
import os
import random
import shutil
import signal
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import settings

from hooper import secret
from support.program import Lab, town_here

steady = os.environ.get("CI") == "true"  # there the same examples each time; elsewhere new ones are looked for
examples = int(os.environ.get("HOOPER_EXAMPLES", "60"))  # of each property that does not say
settings.register_profile("hooper", max_examples=examples, deadline=None, derandomize=steady)
settings.load_profile("hooper")

if os.environ.pop("PYTHONDONTWRITEBYTECODE", None):
    sys.dont_write_bytecode = False  # a program of its own would read its whole source anew, hundreds of times
for number in (signal.SIGINT, signal.SIGHUP):  # a shell lets what it starts in the background ignore these
    if signal.getsignal(number) is signal.SIG_IGN:
        signal.signal(number, signal.default_int_handler if number == signal.SIGINT else signal.SIG_DFL)
os.umask(0o077)  # secret files are private, as their owners make them
os.environ["PATH"] = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", "/sbin"])  # where Debian keeps servers
with suppress(OSError):  # thousands of small files and databases: where memory serves as a disk, none waits for one
    memory = os.statvfs("/dev/shm")
    if memory.f_bavail * memory.f_frsize >= 1 << 29 and not memory.f_flag & os.ST_NOEXEC:
        os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", "/dev/shm")
TOOLS = ("ip", "nft", "nginx", "sshd", "turnserver", "miniupnpd", "named", "tayga", "avahi-daemon")


def pytest_xdist_auto_num_workers() -> int:
    """Four more than there are processors: many tests wait for others."""
    return (os.cpu_count() or 2) + 4


WAITING = (  # for others, mostly
    "test_real_", "test_keep", "test_arrival", "test_probes", "test_door_contract", "test_turns", "test_with_phone",
)  # fmt: skip


LONG = (  # single tests of these take long: late ones would keep one worker busy alone
    "test_fault_table", "test_year", "test_signals", "test_foundations", "test_hostile_program", "test_program",
    "test_tunnel", "test_widths", "test_reachable", "test_survey_table", "test_secrets", "test_next_steps",
)  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Deal the modules out among the workers, which take equal parts of the list from its start on: those that mostly
    wait come first, at half of the workers, so that others work meanwhile and no waiting is left in the end.
    """
    workers = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
    modules: dict[str, list[pytest.Item]] = {}
    for item in items:
        modules.setdefault(item.path.stem, []).append(item)
    if (seed := os.environ.get("HOOPER_ORDER")) is not None:  # any order will do; it is the same in all workers
        chance = random.Random(seed)
        names = list(modules)
        chance.shuffle(names)
        for own in modules.values():
            chance.shuffle(own)
        modules = {name: modules[name] for name in names}
        items[:] = [item for own in modules.values() for item in own]
    if workers < 3:
        return
    waiting = [key for key in modules if key.startswith(WAITING)]
    hands: list[list[pytest.Item]] = [[] for _ in range(workers)]
    for number, key in enumerate(waiting):
        hands[number % (workers // 2)] += modules.pop(key)
    for key in sorted(modules, key=lambda key: not key.startswith(LONG)):
        min(hands, key=len).extend(modules[key])
    items[:] = [item for hand in hands for item in hand]


def pytest_collection_finish() -> None:
    """What is loaded by now stays: looking through all of it again and again took a tenth of the time."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 100)


def _missing() -> str | None:
    """Why `real` tests cannot run here; None: they can."""
    if not sys.platform.startswith("linux"):
        return "needs Linux"
    if os.geteuid() != 0:
        return "needs root, for network namespaces"
    absent = [tool for tool in TOOLS if shutil.which(tool) is None]
    return f"not installed: {', '.join(absent)}" if absent else None


@pytest.fixture(autouse=True)
def _secrets_of_this_test() -> Iterator[None]:
    """What one test keeps out of its output is an ordinary word in the next."""
    with secret.Secrets().used():
        yield


def pytest_runtest_setup(item: pytest.Item) -> None:
    if item.get_closest_marker("real") is None:
        return
    reason = _missing()
    if reason is None:
        return
    if os.environ.get("CI") == "true":
        pytest.fail(f"a real test would be skipped: {reason}")
    pytest.skip(reason)


@pytest.fixture(autouse=True)
def _clean_environment(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """No variable of the machine leads a test anywhere; state goes into the test's own folder; no leave stays given."""
    for name in ("HOOPER_LAB", "HOOPER_SITE", "COLUMNS", "LINES", "NO_COLOR", "FORCE_COLOR", "PAGER"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state-home"))
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path / "config-home"))


@pytest.fixture(scope="module")
def running_lab(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Lab]:
    """A lab in this process, for one module."""
    with town_here(tmp_path_factory.mktemp("lab")) as lab:
        yield lab


@pytest.fixture
def lab(running_lab: Lab) -> Iterator[Lab]:
    """The module's lab, with nothing broken and both sheets entered."""
    running_lab.as_built()
    yield running_lab
    running_lab.ask("mend")
