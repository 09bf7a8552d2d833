"""The state of one site, in parts by what is kept."""

from __future__ import annotations

import hashlib
import os
import re
from pathlib import Path
from typing import TYPE_CHECKING, Self

from hooper.store.checks import Checks
from hooper.store.database import Database
from hooper.store.journal import Journal
from hooper.store.orders import Orders
from hooper.store.updates import Updates
from hooper.store.values import Values

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


def state_folder(given: Path | None) -> Path:
    """Where state stands: --state, else beside the lab, else the platform's folder for it."""
    if given is not None:
        return given
    lab = os.environ.get("HOOPER_LAB")
    if lab:
        return Path(lab).parent / "state"
    from platformdirs import user_state_path

    return user_state_path("hooper", appauthor=False)


def store_name(file: SiteFile) -> str:
    """The file's name: by the site's id, else by where the site file stands, so that two sites never share one."""
    key = file.site.site.id or str(Path(file.name).resolve())
    readable = re.sub(r"[^a-z0-9]+", "-", (file.site.site.id or Path(file.name).stem).lower()).strip("-")[:40]
    return f"{readable or 'site'}-{hashlib.sha256(key.encode()).hexdigest()[:12]}.sqlite3"


def state_path(given: Path | None, file: SiteFile) -> Path:
    """Where the state of a site stands, or would. given: --state."""
    return state_folder(given) / store_name(file)


class State:
    """An open store."""

    def __init__(self, path: Path) -> None:
        """Raises: StateError: it cannot be opened, or comes from a newer Hooper."""
        self.path = path
        self._database = Database(path)
        self.checks = Checks(self._database)
        self.values = Values(self._database)
        self.journal = Journal(self._database)
        self.updates = Updates(self._database)
        self.orders = Orders(self._database)

    @property
    def certificates(self) -> Path:
        """The folder for keys and certificates, beside the store."""
        return self.path.with_suffix("") / "certificates"

    def close(self) -> None:
        self._database.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()
