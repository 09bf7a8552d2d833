"""Where the state of a site stands."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path
from typing import TYPE_CHECKING

from hooper.environment import named_lab
from hooper.store.preferences import preferences

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


def state_folder(given: Path | None) -> Path:
    """Where state stands: --state, else beside the lab, else where the person wants it, else the platform's folder."""
    if given is not None:
        return given
    lab = named_lab()
    if lab is not None:
        return lab.parent / "state"
    from platformdirs import user_state_path

    return preferences().state or user_state_path("hooper", appauthor=False)


def store_name(file: SiteFile) -> str:
    """The file's name: by the site's id, else by where the site file stands, so that two sites never share one."""
    key = file.site.site.id or str(Path(file.name).resolve())
    readable = re.sub(r"[^a-z0-9]+", "-", (file.site.site.id or Path(file.name).stem).lower()).strip("-")[:40]
    return f"{readable or 'site'}-{hashlib.sha256(key.encode()).hexdigest()[:12]}.sqlite3"


def state_path(given: Path | None, file: SiteFile) -> Path:
    """Where the state of a site stands, or would. given: --state."""
    return state_folder(given) / store_name(file)
