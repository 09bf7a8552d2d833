"""`python -m fuzz.fault_pairs [PART/OF]`: every two faults of the lab at once, with routers that speak and mute ones.

A diagnosis must name one that is there; once that is mended, the other; then nothing. PART/OF: one part of the pairs.
"""

from __future__ import annotations

import sys
import tempfile
from pathlib import Path


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support.fault_table import Outlook, pairs
    from support.fault_table import wrong_about as wrong
    from support.program import Lab, town_here

    part, _, of = (sys.argv[1] if len(sys.argv) > 1 else "0/1").partition("/")
    count, bad = 0, 0
    with tempfile.TemporaryDirectory() as place, town_here(Path(place) / "lab") as town:
        lab = Lab(town.env, town.folder)
        lab.enter_sheets()
        surveyed = f"{place}/surveyed"
        lab.run("survey", "--state", surveyed, "--json")
        for routers in ("speaking", "mute"):
            outlook = Outlook(lab, surveyed, routers=routers)
            for pair in pairs(outlook.routers)[int(part) :: int(of)]:
                count += 1
                for message in wrong(outlook, pair):
                    bad += 1
                    print(message, flush=True)
    print(f"{count} pairs, {bad} not as they should be")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
