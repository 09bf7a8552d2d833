"""Giving a certificate to whoever shows it, in the form that it wants: a folder, SFTP, a command; and taking it back.

The files are written beside the ones that are there and then take their places one after the other; the server is told
to read them anew only when all are there.
"""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlsplit

from hooper.certs.bundles import written
from hooper.errors import MachineError, UsageError
from hooper.files import FILE_LIMIT, machine_error, read_whole, write_atomically
from hooper.names.handing import run_command
from hooper.words.said import NOTHING, Said, say

if TYPE_CHECKING:
    from hooper.site.certificate_tables import Certificate

LIMIT_S = 60.0  # seconds for a command
Files = dict[str, bytes]  # by their names; of what is not there: nothing


class NotGiven(MachineError):
    """The certificate could not be given."""

    code = "certificate-not-given"


def files_for(planned: Certificate, base: Path, pair: bytes) -> Files:
    """What is given, by the names that it has there, in the order in which it is written. pair: key and chain in PEM.

    Raises: MachineError: the password of the bundle cannot be had.
    """
    password = planned.give_password.read(base) if planned.give_password is not None else None
    names = {"key": planned.give_key_name, "chain": planned.give_chain_name}
    return {names.get(part) or name: data for part, name, data in written(pair, planned.give_as, password)}


@dataclass(frozen=True)
class FilePlace:
    """Where the files go. It is opened for one certificate."""

    planned: Certificate
    base: Path

    @property
    def folder(self) -> Path:
        assert self.planned.give_to is not None
        return self.base / Path(self.planned.give_to).expanduser()

    @property
    def remote(self) -> bool:
        return (self.planned.give_to or "").startswith("sftp://")

    async def read(self, names: Mapping[str, bytes]) -> Files:
        """What is there now, of these names. Raises: NotGiven, MachineError, CommandFailed."""
        if self.remote:
            return await self._fetched(list(names))
        self._look()
        found: Files = {}
        for name in names:
            try:
                found[name] = read_whole(self.folder / name, 16 * FILE_LIMIT)
            except FileNotFoundError:
                continue
            except OSError as exc:
                raise machine_error(exc, f"{self.folder / name} cannot be read") from None
        return found

    async def write(self, files: Files) -> Said:
        """Lay them there; where, in words. Raises: as `read`."""
        mode = int(self.planned.give_mode, 8) if self.planned.give_mode is not None else 0o600
        if self.remote:
            await self._sent(files, mode)
            return say("written-to", folder=self.planned.give_to)
        self._look()
        for name, data in files.items():
            write_atomically(self.folder / name, data, mode=mode, owner=self.planned.give_owner)
        return say("written-to", folder=str(self.folder))

    def _look(self) -> None:
        if not self.folder.is_dir():
            raise NotGiven(
                f"{self.folder} is no folder that is there",
                remedy="Make it, or join the device's share; or correct `give_to`.",
            )

    # --- SFTP, by the system's own OpenSSH

    async def _fetched(self, names: list[str]) -> Files:
        with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
            at = Path(folder)
            lines = [f"-get {quoted(name)} {quoted(str(at / name))}" for name in names]
            await self._batch(["pwd", *lines], at)
            return {name: (at / name).read_bytes() for name in names if (at / name).is_file()}

    async def _sent(self, files: Files, mode: int) -> None:
        with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
            at, lines = Path(folder), []
            for name, data in files.items():
                write_atomically(at / name, data, private=True)
                fresh = f".{name}.hooper-new"
                lines += [f"put {quoted(str(at / name))} {quoted(fresh)}", f"chmod {mode:o} {quoted(fresh)}"]
            lines += [f"rename {quoted(f'.{name}.hooper-new')} {quoted(name)}" for name in files]
            await self._batch(lines, at)

    async def _batch(self, lines: list[str], at: Path) -> None:
        """One session of sftp in the folder of the device. Raises: NotGiven, CommandFailed."""
        parts = urlsplit(self.planned.give_to or "")
        if self.planned.give_host_key is None:
            raise NotGiven(
                f"the host key of {parts.hostname} is not in the site file, so that anybody could answer in its place",
                remedy="Write `give_host_key` in [certificates], with the line that its"
                " /etc/ssh/ssh_host_ed25519_key.pub has.",
            )
        host, folder = parts.hostname or "", unquote(parts.path).removeprefix("/~/") or "."
        known = at / "known"
        write_atomically(known, f"pinned {self.planned.give_host_key}\n".encode(), private=True)
        write_atomically(at / "batch", "\n".join([f"cd {quoted(folder)}", *lines, ""]).encode(), private=True)
        options = {
            "BatchMode": "yes", "StrictHostKeyChecking": "yes", "HostKeyAlias": "pinned",
            "UserKnownHostsFile": str(known), "GlobalKnownHostsFile": "/dev/null",
            "ConnectTimeout": "15", "UpdateHostKeys": "no",
        }  # fmt: skip
        words = ["sftp", "-q", "-b", str(at / "batch"), *[f"-o{key}={value}" for key, value in options.items()]]
        host = f"[{host}]" if ":" in host else host
        words += ["-P", str(parts.port or 22), "--", f"{parts.username}@{host}" if parts.username else host]
        await run_command(words, self.base, {}, LIMIT_S)


def quoted(name: str) -> str:
    """A file's name as sftp reads it. Raises: UsageError: no such name can be said."""
    if any(ord(sign) < 32 for sign in name):
        raise UsageError(f"{name!r} is no name of a file", remedy="Correct it in [certificates].")
    return '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'


async def hand_over(planned: Certificate, base: Path, pair: bytes, kept: Mapping[str, Path] | None = None) -> Said:
    """Run the command that gives it, with the files' paths in its environment; empty: there is none.

    kept: where chain and key are kept; None: they lie somewhere for as long as the command runs. Raises: MachineError,
    CommandFailed.
    """
    if not planned.give_command:
        return NOTHING
    with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
        paths = dict(kept or {})
        for part, name, data in written(pair, "pem", None) if kept is None else ():
            paths[part] = Path(folder, name)
            write_atomically(paths[part], data, private=True)
        more = {"HOOPER_CERTIFICATE": str(paths["chain"]), "HOOPER_KEY": str(paths["key"]),
                "HOOPER_NAMES": " ".join(planned.names)}  # fmt: skip
        await run_command(planned.give_command, base, more, LIMIT_S)
    return say("handed-over-by", command=Path(planned.give_command[0]).name)


async def reload(planned: Certificate, base: Path) -> None:
    """Have the server read its files anew. Raises: MachineError, CommandFailed."""
    if planned.give_reload:
        await run_command(planned.give_reload, base, {"HOOPER_NAMES": " ".join(planned.names)}, LIMIT_S)
