"""What became of tunnels: which profiles were handed over, and which server files made."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from hooper.clock import read_moment, rfc3339
from hooper.store.database import Database
from hooper.store.kept import Handed, Made, Revoked


class Tunnelling:
    def __init__(self, database: Database) -> None:
        self._db = database

    def hand(self, peer: str, handed: Handed) -> None:
        """Remember what a peer was given. Raises: StateError."""
        row = (peer, handed.public_key, handed.mark, handed.endpoint, handed.kept, rfc3339(handed.at))
        self._db.write("INSERT OR REPLACE INTO handed VALUES (?, ?, ?, ?, ?, ?)", *row)

    def handed(self) -> dict[str, Handed]:
        """By peer, the last that it was given. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, Handed]:
            return str(row[0]), Handed(str(row[1]), str(row[2]), str(row[3]), bool(row[4]), read_moment(row[5]))

        return dict(self._db.readable("handed", "SELECT peer, public_key, mark, endpoint, kept, at FROM handed", read))

    def make(self, tunnel: str, made: Made) -> None:
        """Remember the server's file that was made last. Raises: StateError."""
        self._db.write("INSERT OR REPLACE INTO made VALUES (?, ?, ?)", tunnel, made.mark, rfc3339(made.at))

    def made(self) -> dict[str, Made]:
        """By tunnel, the server's file that was made last. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, Made]:
            return str(row[0]), Made(str(row[1]), read_moment(row[2]))

        return dict(self._db.readable("made", "SELECT tunnel, mark, at FROM made", read))

    def forget(self, peers: Iterable[str] = (), tunnels: Iterable[str] = ()) -> None:
        """What became of these counts no more. Raises: StateError."""
        with self._db.writing():
            self._db.many("DELETE FROM handed WHERE peer = ?", [(key,) for key in peers])
            for table in ("made", "revoked"):
                self._db.many(f"DELETE FROM {table} WHERE tunnel = ?", [(key,) for key in tunnels])  # noqa: S608 - ours

    def revoke(self, *rows: Revoked) -> None:
        """Remember whose way in was taken, or what came of it. Raises: StateError."""
        with self._db.writing():
            self._db.many(
                "INSERT OR REPLACE INTO revoked VALUES (?, ?, ?, ?, ?, ?)",
                [
                    (
                        one.peer,
                        one.tunnel,
                        one.public_key,
                        rfc3339(one.at),
                        rfc3339(one.out) if one.out else None,
                        one.how,
                    )
                    for one in rows
                ],
            )

    def let_in(self, peer: str) -> None:
        """A peer has a new way in: what was taken counts no more. Raises: StateError."""
        self._db.write("DELETE FROM revoked WHERE peer = ?", peer)

    def revoked(self) -> dict[str, Revoked]:
        """By peer. Raises: StateError."""

        def read(row: tuple[Any, ...]) -> tuple[str, Revoked]:
            peer, tunnel, public_key, at, out, how = row
            last = read_moment(out) if out is not None else None
            return str(peer), Revoked(str(peer), tunnel, public_key, read_moment(at), last, how)

        return dict(self._db.readable("revoked", "SELECT peer, tunnel, public_key, at, out, how FROM revoked", read))

    def label(self, public_key: str) -> bytes:
        """The TAI64N of the last initiation by a key; empty: there was none. Raises: StateError."""
        row = self._db.row("SELECT label FROM labels WHERE public_key = ?", public_key)
        try:
            return bytes.fromhex(row[0]) if row is not None else b""
        except ValueError:
            return b""

    def labelled(self, public_key: str, label: bytes) -> None:
        """Remember it, before it is sent. Raises: StateError."""
        self._db.write("INSERT OR REPLACE INTO labels VALUES (?, ?)", public_key, label.hex())
