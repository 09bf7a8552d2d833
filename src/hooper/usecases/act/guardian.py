"""The process that outlives a run which has let ports in: it waits until that has ended, and takes back what is left.

Everything that is needed is loaded before, since a machine that is going down has no time for it.
"""

from __future__ import annotations

import sys
from pathlib import Path

import anyio

from hooper.errors import HooperError
from hooper.store.sitefile import read_site
from hooper.usecases.act.temporary import tidy_up
from hooper.usecases.run import open_run


async def _tidy(site: Path, state: Path) -> None:
    file = read_site(site)
    async with open_run(file, site, lambda text: None, state=state) as run:
        await tidy_up(run)


def main(site: Path, state: Path) -> int:
    """Wait, then tidy up; the exit code."""
    while sys.stdin.buffer.read(4096):
        pass
    try:
        anyio.run(_tidy, site, state)
    except HooperError as exc:
        return exc.exit_code
    return 0


if __name__ == "__main__":
    sys.exit(main(Path(sys.argv[1]), Path(sys.argv[2])))
