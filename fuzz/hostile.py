"""`python -m fuzz.hostile`: the program against every way in which a server can be hostile, in time and in memory."""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from test_hostile_program import DATAGRAMS, STREAMS, over_tcp, over_udp

    for modes, trial in ((STREAMS, over_tcp), (DATAGRAMS, over_udp)):
        for mode in modes:
            with tempfile.TemporaryDirectory() as folder:
                trial(mode, Path(folder))
            print(f"{mode}: in time, in memory", flush=True)
    return 0


if __name__ == "__main__":
    sys.exit(main())
