"""Publishing by a command of the user's: it gets the values in its environment, and a time limit. No shell reads it."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import anyio

from hooper.errors import CounterpartError, MachineError
from hooper.names.publish import Setting, UpdaterRefuses, UpdaterSaid, UpdaterUnclear
from hooper.secret import Secret, excerpt

if TYPE_CHECKING:
    from hooper.site.model import Updater

KEPT_BYTES = 10_000  # of what it prints


class CommandFailed(CounterpartError):
    """The command did not do it."""

    code = "command-failed"
    remedy = "Run it by hand with the same values, and look what it says."


async def run_command(
    words: Sequence[str], base: Path, more: dict[str, str], limit: float, most: int = KEPT_BYTES
) -> str:
    """Run a command that the site file names, in the site file's folder; what it printed.

    Args: words: the program and its arguments. more: environment variables beside ours. limit: seconds.
    most: bytes of what it prints.
    Raises: MachineError: it cannot be started; CommandFailed: it takes too long, or ends with a code that is not 0.
    """
    name = Path(words[0]).name
    try:
        with anyio.fail_after(limit):
            done = await anyio.run_process(
                list(words), cwd=base, env={**os.environ, **more}, stdin=subprocess.DEVNULL, check=False,
                stderr=subprocess.STDOUT,
            )  # fmt: skip
    except TimeoutError:
        raise CommandFailed(f"the command {name} was not done within {limit:g} s, and was ended") from None
    except OSError as exc:
        raise MachineError(
            f"the command {words[0]} cannot be started: {exc.strerror or exc}",
            code="command-not-started",
            remedy="Correct its path in the site file, or its permissions.",
        ) from None
    text = done.stdout[:most].decode("utf-8", "replace").strip()
    if done.returncode:
        said = f": {excerpt(text, 120)!r}" if text else ""
        raise CommandFailed(f"the command {name} ends with code {done.returncode}{said}")
    return text


@dataclass(frozen=True)
class CommandPublisher:
    """[updaters.KEY] with kind = "command". Its environment: HOOPER_NAME, HOOPER_TYPE, HOOPER_VALUE, HOOPER_TTL, and
    HOOPER_TOKEN, HOOPER_USER and HOOPER_ZONE where the site file has them. HOOPER_DO is set, set-text or clear-text.
    """

    updater: Updater
    token: Secret | None
    base: Path

    @property
    def together(self) -> bool:
        return False

    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid:
        said = UpdaterSaid("unchanged", "")
        for one in settings:
            said = await self._do("set", one)
        return said

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        if not self.updater.sets_text:
            raise UpdaterUnclear("the updater's command sets no texts", remedy="Write `texts = true` if it does.")
        return await self._do("set-text", Setting(name, "TXT", value))

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        return await self._do("clear-text", Setting(name, "TXT", value))

    async def _do(self, do: str, one: Setting) -> UpdaterSaid:
        more = {
            "HOOPER_DO": do, "HOOPER_NAME": one.name, "HOOPER_TYPE": one.kind, "HOOPER_VALUE": one.value,
            "HOOPER_TTL": str(self.updater.ttl),
        }  # fmt: skip
        if self.token is not None:
            more["HOOPER_TOKEN"] = self.token.reveal()
        more |= {f"HOOPER_{key.upper()}": text for key in ("user", "zone") if (text := getattr(self.updater, key))}
        text = await run_command(self.updater.command, self.base, more, self.updater.time_limit)
        for rule in self.updater.answers:
            if rule.status is None and rule.says is not None and rule.says.search(text):
                if rule.means == "never":
                    raise UpdaterRefuses(f"the command refuses: {excerpt(text, 80)!r}")
                if rule.means in ("done", "unchanged"):
                    return UpdaterSaid(rule.means, f"the command says {excerpt(text, 80)!r}")
        return UpdaterSaid("done", f"the command says {excerpt(text, 80)!r}" if text else "the command was run")
