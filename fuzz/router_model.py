"""`python -m fuzz.router_model [COUNT]`: that many sequences of what may happen to a router (default 10,000)."""

from __future__ import annotations

import sys
from pathlib import Path

from hypothesis import HealthCheck, settings
from hypothesis.stateful import run_state_machine_as_test


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from test_router_model import Routers

    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    wish = settings(
        max_examples=count, stateful_step_count=30, deadline=None, database=None,
        suppress_health_check=list(HealthCheck), print_blob=True,
    )  # fmt: skip
    run_state_machine_as_test(Routers, settings=wish)
    print(f"{count} sequences: ours as the plan wants, others' as before")
    return 0


if __name__ == "__main__":
    sys.exit(main())
