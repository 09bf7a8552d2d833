"""hooper schema"""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path
from typing import Annotated

from hooper.cli.command import command
from hooper.cli.common import Session, sub_app
from hooper.cli.options import option
from hooper.errors import UsageError

app = sub_app("The keys of the site file, as a JSON schema.")


@command(app, "schema")
def schema(
    session: Session,
    out: Annotated[Path | None, option("--out FILE", "Write it there, for an editor to check against.")] = None,
    force: Annotated[bool, option("--force", "With --out: replace a file of another hand.")] = False,
) -> int:
    """The keys of the site file with what each means, as a JSON schema (draft 2020-12)."""
    if force and out is None:
        raise UsageError("--force has no effect here", remedy="It goes with --out FILE.")
    session.give(files("hooper.site").joinpath("site.schema.json").read_text(encoding="utf-8"), out, force=force)
    return 0
