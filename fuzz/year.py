"""`python -m fuzz.year [DAYS] [SEED] [FOLDER]`: that many days of keeping in the lab (default 365).

Addresses change, the provider fails, routers restart, keepers are killed, devices stop, clocks are set, the machine
sleeps. What must hold is in `judged` of tests/support/year.py. FOLDER: where the site and its state are left.
"""

from __future__ import annotations

import sys
import tempfile
import time
import warnings
from pathlib import Path


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support.virtual import run_virtually
    from support.year import judged, live, of_days

    warnings.simplefilter("ignore")
    days, seed = (int(sys.argv[1]) if len(sys.argv) > 1 else 365), int(sys.argv[2]) if len(sys.argv) > 2 else 1
    year, start = of_days(days, seed), time.monotonic()
    memory = "/dev/shm" if Path("/dev/shm").is_dir() else None  # not the disk is measured
    with tempfile.TemporaryDirectory(dir=memory) as place:
        folder = Path(sys.argv[3]) if len(sys.argv) > 3 else Path(place)
        folder.mkdir(exist_ok=True)
        board, state = run_virtually(live, year, folder, sockets=False)
        took = time.monotonic() - start
        counted = judged(year, board, state)
    print(f"{days} days in {took:.0f} s: {', '.join(f'{value} {what}' for what, value in counted.items())}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
