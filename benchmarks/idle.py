"""`python -m benchmarks.idle [SITES] [SECONDS]`: what a keeper needs while nothing happens (Linux, root).

Prints the resident memory, the processor time after the first minute as a share of one core, and the open files.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psutil

SETTLING = 60.0  # seconds in which everything is looked at for the first time


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support.namespaces import kernel_town
    from support.one_router import OneRouterTown
    from test_real_automatic import SECRET
    from test_real_keep import ONE_ROUTER

    sites, seconds = (int(sys.argv[1]) if len(sys.argv) > 1 else 1), float(sys.argv[2]) if len(sys.argv) > 2 else 600.0
    with tempfile.TemporaryDirectory() as place, kernel_town(Path(place), OneRouterTown, f"i{sites}") as town:
        assert isinstance(town, OneRouterTown)
        (town.folder / "zone-key").write_text(SECRET + "\n")
        town.serve_stun("stun", "rented")
        town.serve_names("rented", SECRET)
        town.serve_router("club-router", secure=False, natpmp=True)
        text = ONE_ROUTER.replace('addresses = "EVERY"\nrules = "EVERY"\nchecks = "1h"\n', "")
        paths = [town.folder / f"site-{number}.toml" for number in range(sites)]
        for path in paths:
            path.write_text(text)
        command = [*town.wrap("here"), sys.executable, "-m", "hooper", "keep", *map(str, paths)]
        keeper = subprocess.Popen([*command, "--state", str(town.folder / "state"), "-q"], stdout=subprocess.DEVNULL)
        try:
            time.sleep(SETTLING)
            process = psutil.Process(keeper.pid)
            before = sum(process.cpu_times()[:2])
            time.sleep(seconds)
            after = sum(process.cpu_times()[:2])
            memory = process.memory_info().rss / 1024 / 1024
            share = (after - before) / seconds
            print(f"{sites} sites: {memory:.1f} MB resident, {100 * share:.3f} % of a core, {process.num_fds()} files")
        finally:
            keeper.terminate()
            keeper.wait(30)
    return 0


if __name__ == "__main__":
    sys.exit(main())
