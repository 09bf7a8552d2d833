"""Judgements held against many random worlds and pasts: python -m fuzz.worlds [SEED] [WORLDS] [PASTS]"""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory


def main(seed: int = 0, count: int = 20_000, pasts: int = 100) -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from hooper.store.state import State
    from support.model_worlds import World
    from test_model_worlds import wrong_about
    from test_timelines import wrong_along

    rng, wrong = Random(seed), Counter[str]()

    def heard(number: int, said: str | None, what: object) -> None:
        if said is not None:
            wrong[said.partition(":")[0]] += 1
            print(f"{number}: {what}: {said}")

    for number in range(count):
        world = World.random(rng, 2)
        heard(number, wrong_about(world), sorted(world.causes))
    with TemporaryDirectory() as folder:
        for number in range(pasts):
            with State(Path(folder) / f"{number}.sqlite3") as state:
                heard(number, wrong_along(rng, state), "past")
    print(f"{count} worlds and {pasts} pasts, {sum(wrong.values())} of them judged wrongly: {dict(wrong)}")
    return bool(wrong)


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:])))
