"""`python -m fuzz.run [READER ...]`: damaged inputs for each decoder (100,000) and each reader of what strangers hand
over (10,000); says what came out that should not, the slowest, what memory grew by, and descriptors that stayed open.
"""

from __future__ import annotations

import argparse
import os
import resource
import sys
import time
import traceback
from itertools import chain

from fuzz.damage import damaged
from fuzz.readers import READERS
from fuzz.targets import TARGETS, Target, outcome

SLOWEST_S, GROWTH_KB, LEFT_OPEN = 1.0, 64 * 1024, 3


def trial(name: str, target: Target, count: int, number: int) -> bool:
    """Whether all went as it should, within the bounds."""
    start, open_before, memory = time.monotonic(), _open(), 0
    values = errors = 0
    slowest, slow = 0.0, b""
    for data in chain(target.seeds, damaged(target.seeds, count, number)):
        begun = time.process_time()
        try:
            fine = outcome(target, data)
        except Exception:
            print(f"{name}: {data[:2000]!r}")
            traceback.print_exc(limit=-3, file=sys.stdout)
            return False
        values, errors = values + fine, errors + (not fine)
        if (took := time.process_time() - begun) > slowest:
            slowest, slow = took, data
        memory = memory or (_memory() if values + errors > count // 10 else 0)
    grown, left = _memory() - memory, _open() - open_before
    print(
        f"{name:<24} {values:>8} values {errors:>8} errors  {time.monotonic() - start:6.1f} s, slowest"
        f" {slowest * 1000:6.1f} ms, {grown:>6} kB more, {left} left open",
        flush=True,
    )
    if slowest > SLOWEST_S:
        print(f"{name}: too slow: {slow[:2000]!r}")
    return slowest <= SLOWEST_S and grown <= GROWTH_KB and left <= LEFT_OPEN


def _memory() -> int:
    """Most kB that this process has had."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss


def _open() -> int:
    return len(os.listdir("/proc/self/fd")) if os.path.isdir("/proc/self/fd") else 0


def main() -> int:
    everything = {**TARGETS, **READERS}
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("reader", nargs="*", choices=[[], *everything], help="default: all")
    parser.add_argument("--count", type=int, help="inputs for each")
    parser.add_argument("--number", type=int, default=1, help="another number makes other inputs")
    given = parser.parse_args()
    well = [
        trial(name, everything[name], given.count or (10_000 if name in READERS else 100_000), given.number)
        for name in given.reader or everything
    ]
    return 0 if all(well) else 1


if __name__ == "__main__":
    sys.exit(main())
