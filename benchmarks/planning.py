"""CPU time of the plan alone, without reading the file: 10,000 and 20,000 services over three gateways.

python benchmarks/planning.py; exit code 1 where 10,000 take a second or more, or 20,000 more than 2.3 times that.
"""

from __future__ import annotations

import sys
import time
from datetime import date

from hooper.planning.plan import make_plan
from hooper.site.load import SiteFile, parse_site

RUNS, LIMIT, RATIO = 7, 1.0, 2.3


def made_up(count: int) -> SiteFile:
    """A site of that many services: a third of them without a written outside port."""
    lines = ["version = 1", "[lines.l]", 'address = "203.0.113.1"', 'blocked = ["tcp 25"]']
    for at in range(3):
        lines += [f"[gateways.g{at}]", f'lan = "10.{at}.0.1/16"', f'pool = "10.{at}.200.0-10.{at}.250.0"']
        lines += ['line = "l"'] if not at else [f'behind = "g{at - 1}"', f'wan = "10.{at - 1}.0.2"']
    for host in range(100):
        lines += [f"[hosts.h{host}]", f'address = "10.2.1.{host + 1}"', "ready = { default_password_changed = true }"]
    for number in range(count):
        lines += [f"[services.s{number}]", f'host = "h{number % 100}"', 'reach = "public"']
        lines += ['speaks = "https"' if number % 2 else 'speaks = "ssh"']
        lines += [f"outside_port = {2000 + number}"] if number % 3 else []
    return parse_site("\n".join(lines).encode(), "made up")


def main() -> int:
    files = {count: made_up(count) for count in (10_000, 20_000)}
    least = dict.fromkeys(files, float("inf"))
    for _ in range(RUNS):
        for count, file in files.items():
            before = time.process_time()
            plan = make_plan(file, date(2026, 5, 1))
            least[count] = min(least[count], time.process_time() - before)
            assert len(plan.forwards) == 3 * count
    small, large = least.values()
    print(f"10,000 services {small:.2f} s (limit {LIMIT:g} s), 20,000 {large / small:.2f} times that (limit {RATIO:g})")
    return 1 if small >= LIMIT or large / small > RATIO else 0


if __name__ == "__main__":
    sys.exit(main())
