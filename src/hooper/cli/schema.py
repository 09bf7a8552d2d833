"""hooper schema"""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

from hooper.cli.parts.command import command
from hooper.cli.parts.session import Session, sub_app
from hooper.errors import UsageError

app = sub_app("The keys of the site file, as a JSON schema.")


@command(app, "schema")
def schema(session: Session, out: Path | None = None, force: bool = False) -> int:
    """The keys of the site file with what each means, as a JSON schema (draft 2020-12)."""
    if force and out is None:
        raise UsageError("--force has no effect here", remedy="It goes with --out FILE.")
    session.give(files("hooper.site").joinpath("site.schema.json").read_text(encoding="utf-8"), out, force=force)
    return 0
