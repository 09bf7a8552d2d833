"""Giving a certificate to whoever shows it: into a folder, or by a command of the user's."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.errors import MachineError
from hooper.files import machine_error, read_whole, write_atomically
from hooper.names.handing import run_command
from hooper.words.said import Said, say, together

if TYPE_CHECKING:
    from hooper.site.certificate_tables import Certificate

LIMIT_S = 60.0  # seconds for the command


def _folder(base: Path, written: str) -> Path:
    return base / Path(written).expanduser()


async def give(planned: Certificate, base: Path, key: Path, chain: Path) -> Said:
    """Give a certificate as the site file says; where it went, in words; empty: nowhere.

    Args: base: the site file's folder. key, chain: the files, in PEM. Raises: MachineError, CommandFailed.
    """
    went: list[Said] = []
    if planned.give_to is not None:
        folder = _folder(base, planned.give_to)
        if not folder.is_dir():
            raise MachineError(
                f"{folder} is no folder that is there",
                code="certificate-not-given",
                remedy="Make it, or join the device's share; or correct `give_to`.",
            )
        for path in (chain, key):
            try:
                data = read_whole(path)
            except OSError as exc:
                raise machine_error(exc, f"{path} cannot be read") from None
            write_atomically(folder / path.name, data, private=True)
        went.append(say("written-to", folder=folder))
    if planned.give_command:
        more = {"HOOPER_CERTIFICATE": str(chain), "HOOPER_KEY": str(key), "HOOPER_NAMES": " ".join(planned.names)}
        await run_command(planned.give_command, base, more, LIMIT_S)
        went.append(say("handed-over-by", command=Path(planned.give_command[0]).name))
    return together(went, ", ")
