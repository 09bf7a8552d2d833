"""CPU time of taking entries out of a router's table that has as many of other hands: how it grows with the work.

python benchmarks/closing.py [--all]; exit code 1 where twice the entries cost more than 2.5 times as much; with --all
5,000 and 10,000 of them, and 10,000 take less than two seconds. The ratio is the middle one of rounds, in each of which
both are measured one after the other; while it is over its limit it is learned anew, up to 27 times.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from math import inf
from pathlib import Path
from statistics import median
from tempfile import TemporaryDirectory
from typing import Any

import anyio

from hooper.gateways.work import Work
from hooper.store.entries import Entered, Key, LiveRule, key_of
from hooper.store.state import State

RUNS, AT_MOST, LIMIT, RATIO = 5, 27, 2.0, 2.5


class Router:
    """A router in memory."""

    def __init__(self, rules: Sequence[LiveRule]) -> None:
        self.rules: dict[Key, LiveRule] = {key_of(rule): rule for rule in rules}

    async def table(self) -> list[LiveRule]:
        return list(self.rules.values())

    async def delete(self, rule: LiveRule) -> None:
        del self.rules[key_of(rule)]


class Clock:
    def now(self) -> datetime:
        return datetime.now(UTC)


def closed(count: int, folder: Path) -> float:
    """Seconds for so many entries of ours beside as many of others."""
    mine = [LiveRule("tcp", 2000 + at, "10.0.0.9", 80, "", f"Hooper: s{at}", True, 0) for at in range(count)]
    theirs = [LiveRule("udp", 2000 + at, "10.0.0.9", 80, "", "console", True, 0) for at in range(count)]
    router, clock = Router([*mine, *theirs]), Clock()
    with State(folder / f"{time.monotonic_ns()}.sqlite3") as state:
        state.journal.write(*(Entered("box", rule.label[8:], rule, "open", (), None) for rule in mine))
        driver: Any = router
        told: Any = clock
        work = Work("box", driver, "10.0.0.1", state.journal, told)
        before = time.process_time()
        anyio.run(work.close, None)
        spent = time.process_time() - before
    assert (len(work.changes), len(router.rules), work.trouble) == (count, count, [])
    return spent


def main() -> int:
    many = 10_000 if "--all" in sys.argv[1:] else 3_000
    with TemporaryDirectory() as folder:
        ratios, all_ = list[float](), inf  # by turns, so that a machine that is slow for a while is so for both
        while len(ratios) < RUNS or (median(ratios) > RATIO and len(ratios) < AT_MOST):
            half, whole = closed(many // 2, Path(folder)), closed(many, Path(folder))
            ratios.append(whole / half)
            all_ = min(all_, whole)
    ratio = median(ratios)
    print(f"{many:,} closed in {all_:.2f} s, {ratio:.2f} times what half of them took (limit {RATIO:g})")
    return 0 if ratio <= RATIO and (many < 10_000 or all_ < LIMIT) else 1


if __name__ == "__main__":
    sys.exit(main())
