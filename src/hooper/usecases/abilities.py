"""What this installation can do, what is missing, and how to get it."""

from __future__ import annotations

import os
import shutil
import sys
from collections.abc import Awaitable, Callable, Iterator
from dataclasses import dataclass
from importlib.util import find_spec
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from hooper.errors import HooperError
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.net.system import SystemDatagrams

State = Literal["ok", "missing", "limited"]


@dataclass(frozen=True)
class Ability:
    """One thing that some commands need.

    ability: what, as a word. state: limited: it works in part. needed: no command works without it. detail: what was
    found. remedy: how to get what is missing; empty: nothing is.
    """

    ability: str
    state: State
    needed: bool
    detail: Said
    remedy: Said


@dataclass(frozen=True)
class InstallationDocument:
    """`hooper self check`. python: its version. abilities: what commands need."""

    python: str
    abilities: tuple[Ability, ...]


async def check_installation(state: Path, encoding: str) -> InstallationDocument:
    """Look at this computer; nobody else is asked, and nothing is written.

    state: the folder in which what was seen is kept. encoding: of the screen.
    """
    found = (*_installed(), *_own(state, encoding), await _binding(), await _over_six())
    return InstallationDocument(sys.version.split()[0], tuple(_row(*one) for one in found))


def _row(ability: str, state: State, needed: bool) -> Ability:
    remedy = say("ability.none" if state == "ok" else f"ability.{ability}.do")
    return Ability(ability, state, needed, say(f"ability.{ability}.{state}"), remedy)


Found = tuple[str, State, bool]


def _installed() -> Iterator[Found]:
    yield "system", "ok" if sys.platform == "linux" else "limited", False
    yield "figures", "ok" if find_spec("matplotlib") and find_spec("pandas") else "missing", False
    yield "wg", "ok" if shutil.which("wg") else "missing", False
    yield "manual", "ok" if (Path(sys.prefix) / "share/man/man1/hooper.1").is_file() else "missing", False


def _own(state: Path, encoding: str) -> Iterator[Found]:
    there = next(folder for folder in (state, *state.absolute().parents) if folder.exists())
    yield "state", "ok" if os.access(there, os.W_OK | os.X_OK) else "missing", True
    yield "signs", "ok" if encoding.lower().replace("-", "") == "utf8" else "limited", False


async def _can(open_one: Callable[[], Awaitable[SystemDatagrams]]) -> bool:
    try:
        await (await open_one()).aclose()
    except HooperError:
        return False
    return True


async def _binding() -> Found:
    """Whether a look can be bound to an interface, as that from a phone's is."""
    from hooper.net.interfaces import interface_names
    from hooper.net.system import SystemDoor

    door = SystemDoor(next(iter(interface_names()), "lo"))
    return "interface", "ok" if await _can(door.datagrams) else "missing", False


async def _over_six() -> Found:
    from hooper.net.system import SystemDoor
    from hooper.net.types import Endpoint

    local = Endpoint(ip_address("::1"), 0)
    return "ipv6", "ok" if await _can(lambda: SystemDoor().datagrams(local=local)) else "limited", False
