"""`python -m fuzz.run [DECODER ...]`: 100,000 damaged inputs for each decoder; says what came out that should not."""

from __future__ import annotations

import argparse
import sys
import time
import traceback

from fuzz.damage import damaged
from fuzz.targets import TARGETS, outcome


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("decoder", nargs="*", choices=[[], *TARGETS], help="default: all")
    parser.add_argument("--count", type=int, default=100_000, help="inputs for each decoder")
    parser.add_argument("--number", type=int, default=1, help="another number makes other inputs")
    given = parser.parse_args()
    wrong = 0
    for name in given.decoder or TARGETS:
        target, start = TARGETS[name], time.monotonic()
        values = errors = 0
        for data in damaged(target.seeds, given.count, given.number):
            try:
                fine = outcome(target, data)
            except Exception:
                wrong += 1
                print(f"{name}: {data!r}")
                traceback.print_exc(limit=-3, file=sys.stdout)
                break
            values, errors = values + fine, errors + (not fine)
        print(f"{name:<24} {values:>8} values {errors:>8} errors  {time.monotonic() - start:6.1f} s", flush=True)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
