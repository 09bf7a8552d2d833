"""The state of one site, in parts by what is kept."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from secrets import token_hex
from typing import TYPE_CHECKING, Self

from hooper.errors import MachineError, StateError
from hooper.files import Lock, NoLock, make_folder
from hooper.store.database import Database

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from hooper.store.journal import Journal, LentRules
    from hooper.store.ledger import Ledger
    from hooper.store.recorded import History
    from hooper.store.tunnelling import Tunnelling
    from hooper.store.updates import Orders, Turns, Updates, Values


class State:
    """An open store. Each part is loaded when it is used: most commands need one or two."""

    def __init__(self, path: Path, *, kept: bool = True) -> None:
        """kept: False: it is remembered for this process alone, in the place of one that cannot be used.

        Raises: StateError: it cannot be opened, or comes from a newer Hooper.
        """
        self.path, self.kept = path, kept
        self._database = Database(path, kept=kept)

    @cached_property
    def ledger(self) -> Ledger:
        from hooper.store.ledger import Ledger

        return Ledger(self._database, token_hex(4))

    @cached_property
    def values(self) -> Values:
        from hooper.store.updates import Values

        return Values(self._database)

    @cached_property
    def journal(self) -> Journal:
        from hooper.store.journal import Journal

        return Journal(self._database)

    @cached_property
    def lent(self) -> LentRules:
        from hooper.store.journal import LentRules

        return LentRules(self._database)

    @cached_property
    def updates(self) -> Updates:
        from hooper.store.updates import Updates

        return Updates(self._database)

    @cached_property
    def orders(self) -> Orders:
        from hooper.store.updates import Orders

        return Orders(self._database)

    @cached_property
    def history(self) -> History:
        from hooper.store.recorded import History

        return History(self._database)

    @cached_property
    def turns(self) -> Turns:
        from hooper.store.updates import Turns

        return Turns(self._database)

    @cached_property
    def tunnelling(self) -> Tunnelling:
        from hooper.store.tunnelling import Tunnelling

        return Tunnelling(self._database)

    def prove(self) -> None:
        """Raises: StateError: it cannot be written to, or is not the file any more that was opened."""
        self._database.prove()

    @property
    def certificates(self) -> Path:
        """The folder for keys and certificates, beside the store."""
        return self.path.with_suffix("") / "certificates"

    @property
    def tunnels(self) -> Path:
        """The folder for the private keys of tunnels, beside the store."""
        return self.path.with_suffix("") / "tunnels"

    def lock(self, name: str) -> Lock:
        """The lock of that name, for this site and all runs. Raises: StateError."""
        if not self.kept:
            return NoLock(self.path)
        folder = self.path.with_suffix("") / "locks"
        try:
            make_folder(folder, private=True)
        except MachineError as exc:
            raise StateError(exc.message) from None
        return Lock(folder / f"{name}.lock")

    @property
    def aside(self) -> dict[str, int]:
        """How many rows of each part could not be read in this run, and were set aside."""
        return self._database.aside

    def rename(self, changes: Iterable[str], names: Mapping[str, str], bases: list[tuple[str, str, str]]) -> None:
        """Changes with :old and :new, and services that are reached as before: all or none. Raises: StateError."""
        with self._database.writing():
            for change in changes:
                self._database.many(change, [names])
            for table in ("observations", "states"):
                prefix = "services." if table == "observations" else ""
                self._database.many(
                    f"UPDATE {table} SET basis = ? WHERE subject = ? AND basis = ?",  # noqa: S608 - names of ours
                    [(after, f"{prefix}{service}", before) for service, before, after in bases],
                )

    def close(self) -> None:
        self._database.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()
