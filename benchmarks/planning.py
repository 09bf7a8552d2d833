"""CPU time of the plan alone, without reading the file, over three gateways: how it grows with the work.

python benchmarks/planning.py [--all]; exit code 1 where twice the services cost more than 2.3 times as much, on a
hundred devices or on five; with --all 10,000 and 20,000 services, and 10,000 take less than a second. The ratio is the
middle one of rounds, in each of which both are measured one after the other, so that a machine that is slower for a
while is slower for both; while it is over its limit it is learned anew, up to 25 times.
"""

from __future__ import annotations

import sys
import time
from datetime import date
from statistics import median

from hooper.planning.plan import make_plan
from hooper.site.load import SiteFile, parse_site

RUNS, AT_MOST, LIMIT, RATIO = 5, 25, 1.0, 2.3


def made_up(count: int, hosts: int = 100) -> SiteFile:
    """A site of that many services: a third of them without a written outside port."""
    lines = ["version = 1", "[lines.l]", 'address = "203.0.113.1"', 'blocked = ["tcp 25"]']
    for at in range(3):
        lines += [f"[gateways.g{at}]", f'lan = "10.{at}.0.1/16"', f'pool = "10.{at}.200.0-10.{at}.250.0"']
        lines += ['line = "l"'] if not at else [f'behind = "g{at - 1}"', f'wan = "10.{at - 1}.0.2"']
    for host in range(hosts):
        lines += [f"[hosts.h{host}]", f'address = "10.2.1.{host + 1}"', "ready = { default_password_changed = true }"]
    for number in range(count):
        lines += [f"[services.s{number}]", f'host = "h{number % hosts}"', 'reach = "public"']
        lines += ['speaks = "https"' if number % 2 else 'speaks = "ssh"']
        lines += [f"outside_port = {2000 + number}"] if number % 3 else []
    return parse_site("\n".join(lines).encode(), "made up")


def measured(few: int, hosts: int) -> tuple[float, float]:
    """Seconds for so many services, and how many times that for twice as many."""
    files = {count: made_up(count, hosts) for count in (few, 2 * few)}
    least, ratios = float("inf"), list[float]()
    while len(ratios) < RUNS or (median(ratios) > RATIO and len(ratios) < AT_MOST):
        took: list[float] = []
        for count, file in files.items():
            before = time.process_time()
            plan = make_plan(file, date(2026, 5, 1))
            took.append(time.process_time() - before)
            assert len(plan.forwards) == 3 * count
        least = min(least, took[0])
        ratios.append(took[1] / took[0])
    return least, median(ratios)


def main() -> int:
    few, good = (10_000 if "--all" in sys.argv[1:] else 3_000), True
    for hosts in (100, 5):
        seconds, ratio = measured(few, hosts)
        print(f"{few:,} services on {hosts} devices {seconds:.2f} s, twice as many {ratio:.2f} times that")
        good = good and ratio <= RATIO and (few < 10_000 or seconds < LIMIT)
    print(f"limits: {RATIO:g} times, and of 10,000 {LIMIT:g} s")
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
