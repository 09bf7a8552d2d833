"""How a command declares its own arguments and options, in a line each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import typer

Offer = Callable[..., list[str]]


def option(words: str, text: str, offer: Offer | None = None) -> Any:
    """An option. words: its name and what it takes, such as "--out FILE"; what it takes alone, where its parameter has
    its name. text: its help. offer: what a shell is offered for it.
    """
    name, _, taken = words.partition(" ") if words.startswith("-") else ("", "", words)
    return typer.Option(*([name] if name else []), metavar=taken or None, help=text, autocompletion=offer)


def argument(metavar: str, text: str, offer: Offer | None = None) -> Any:
    """An argument. text: its help. offer: what a shell is offered for it."""
    return typer.Argument(metavar=metavar, help=text, autocompletion=offer)
