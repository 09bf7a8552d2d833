"""A diagnosis held against many random worlds: python -m fuzz.worlds [SEED] [WORLDS]"""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path
from random import Random


def main(seed: int = 0, count: int = 20_000) -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support.model_worlds import World
    from test_model_worlds import wrong_about

    rng, wrong = Random(seed), Counter[str]()
    for number in range(count):
        world = World.random(rng, 2)
        said = wrong_about(world)
        if said is not None:
            wrong[said.partition(":")[0]] += 1
            print(f"{number}: {sorted(world.causes)}: {said}")
    print(f"{count} worlds, {sum(wrong.values())} of them judged wrongly: {dict(wrong)}")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:])))
