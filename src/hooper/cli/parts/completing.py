"""What a shell is offered for an argument: the site's own names, interfaces, faults, ticks. It must be quick, and it
never fails: what cannot be read is not offered.
"""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from hooper.environment import named_lab, named_site
from hooper.files import read_whole

SIZE_LIMIT = 1024 * 1024  # bytes of a site file


def _site(ctx: Any) -> dict[str, Any]:
    """The tables of the site file that the command line names so far; empty where it cannot be read."""
    given = ctx.params.get("site_file") if ctx is not None else None
    path = Path(given or named_site() or "site.toml")
    try:
        return tomllib.loads(read_whole(path, SIZE_LIMIT).decode("utf-8-sig"))
    except (OSError, ValueError, RecursionError):
        return {}


def _keys(ctx: Any, *tables: str) -> list[str]:
    site = _site(ctx)
    return [key for table in tables if isinstance(site.get(table), dict) for key in site[table]]


def _offered(words: Iterable[str], incomplete: str) -> list[str]:
    return [word for word in words if word.startswith(incomplete)]


def keys_of(*tables: str) -> Callable[..., list[str]]:
    """Offers the keys of tables of the site file."""

    def offer(ctx: Any, incomplete: str) -> list[str]:
        named = _after_a_colon()
        return _offered(_interfaces() if named is not None else _keys(ctx, *tables), incomplete)

    offer.__annotations__ = _annotations()
    return offer


def words(*offered: str) -> Callable[[str], list[str]]:
    """Offers fixed words."""

    def offer(incomplete: str) -> list[str]:
        return _offered(offered, incomplete)

    offer.__annotations__ = {"incomplete": str, "return": list[str]}
    return offer


def pairs(table: str) -> Callable[..., list[str]]:
    """Offers KEY= for the keys of a table."""

    def offer(ctx: Any, incomplete: str) -> list[str]:
        return _offered([f"{key}=" for key in _keys(ctx, table)], incomplete)

    offer.__annotations__ = _annotations()
    return offer


def places(incomplete: str) -> list[str]:
    """Offers the places to look from: this computer's interfaces too."""
    return _offered(
        ["here", "interface", "hotspot", *(f"interface:{name}" for name in _interfaces()), "socks5://"], incomplete
    )


def ticks(ctx: Any, incomplete: str) -> list[str]:
    """Offers what can be ticked off."""
    from hooper.words import catalogue

    del ctx
    return _offered((tick.key for tick in catalogue.ticks()), incomplete)


def codes(incomplete: str) -> list[str]:
    """Offers the codes of findings and causes."""
    from hooper.words import catalogue

    return _offered(catalogue.codes(), incomplete)


def faults(incomplete: str) -> list[str]:
    """Offers the faults of the lab."""
    from hooper.words import catalogue

    return _offered(catalogue.faults(), incomplete)


def lines(incomplete: str) -> list[str]:
    """Offers the lab's kinds of line."""
    from hooper.words import catalogue

    return _offered(catalogue.lines(), incomplete)


def _annotations() -> dict[str, Any]:
    import typer

    return {"ctx": typer.Context, "incomplete": str, "return": list[str]}


ticks.__annotations__ = _annotations()


def _interfaces() -> list[str]:
    from hooper.net.interfaces import interface_names

    return ["lan0", "usb0"] if named_lab() is not None else interface_names()


def _after_a_colon() -> str | None:
    """What bash has taken for a word of its own after `interface:`; None: it is something else."""
    match = re.search(r"--from[ =]interface ?: ?(\S*)$", os.environ.get("COMP_WORDS", ""))
    return match[1] if match else None


def offer(told: str) -> Callable[..., list[str]]:
    """What options.json says that a shell is offered: "keys TABLE...", "pairs TABLE", "words WORD...", or a list."""
    kind, *of = told.split()
    made: dict[str, Callable[..., list[str]]] = {
        "keys": keys_of(*of), "pairs": pairs(" ".join(of)), "words": words(*of), "places": places, "ticks": ticks,
        "codes": codes, "faults": faults, "lines": lines,
    }  # fmt: skip
    return made[kind]
