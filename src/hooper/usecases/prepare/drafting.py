"""A site file in a person's editor: a draft, which takes the file's place once it can be understood."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from pathlib import Path

from hooper import deeds
from hooper.errors import SiteFileError, Where
from hooper.files import machine_error, make_folder, read_text, read_whole, write_atomically
from hooper.planning.documents import EditDocument
from hooper.planning.edits import differences
from hooper.site.load import SIZE_LIMIT, parse_site
from hooper.store.earlier import kept_in
from hooper.store.sitefile import read_site, replace_site


@dataclass(frozen=True)
class Draft:
    """old: the site file's text. path: of the draft. left_over: somebody began it before. outdated: on another text."""

    site: Path
    old: str
    path: Path
    left_over: bool
    outdated: bool

    @classmethod
    def begun(cls, site: Path) -> Draft:
        """A new one, or the one that was left unfinished. Raises: SiteFileError, MachineError."""
        try:
            old = read_whole(site, SIZE_LIMIT).decode("utf-8-sig")
        except FileNotFoundError:
            read_site(site)
            raise
        except UnicodeDecodeError:
            raise SiteFileError("the site file is not UTF-8 text", where=Where(str(site))) from None
        except OSError as exc:
            raise machine_error(exc, f"{site} cannot be read") from None
        folder = kept_in(site)
        path, base = folder / "draft.toml", folder / "draft-base.toml"
        left_over = path.exists()
        if not left_over:
            make_folder(folder, private=True)
            for one in (base, path):
                write_atomically(one, old.encode(), private=True)
        return cls(site, old, path, left_over, left_over and (not base.exists() or read_text(base) != old))

    def finish(self) -> EditDocument:
        """What is left in it takes the place of the site file. Raises: SiteFileError, SeveralErrors: it is none;
        ChangedMeanwhile, MachineError. The draft stays then.
        """
        try:
            data = read_whole(self.path, SIZE_LIMIT + 1)
        except OSError as exc:
            raise machine_error(exc, f"{self.path} cannot be read") from None
        parse_site(data, str(self.path))
        text = data.decode("utf-8-sig")
        if text != self.old:
            replace_site(self.site, self.old, text)
        self.drop()
        try:
            changes = tuple(differences(self.old, text))
        except tomllib.TOMLDecodeError:  # it was no site file before
            changes = ()
        follows = () if changes or text == self.old else (f"look at all of it: `{deeds.PLAN}`",)
        return EditDocument(str(self.site), "edited", self.site.name, changes, follows, dry_run=False)

    def drop(self, *, unless_changed: bool = False) -> None:
        """Take the draft away. unless_changed: only where nothing has been written in it."""
        if unless_changed and read_text(self.path) != self.old:
            return
        for one in (self.path, self.path.with_name("draft-base.toml")):
            one.unlink(missing_ok=True)
