"""How the deeds that messages name are done here: by which command, by which option."""

from __future__ import annotations

import shlex

from hooper import deeds
from hooper.deeds import Deed
from hooper.words.data import data

# What it is done to is added to a command, or stands where an option has {}.
COMMANDS: dict[Deed, str] = {Deed(name): words for name, words in data("deeds")["commands"].items()}
OPTIONS: dict[Deed, str] = {Deed(name): words for name, words in data("deeds")["options"].items()}


def _spell(deed: Deed, *objects: str) -> str:
    objects = tuple(map(shlex.quote, objects))  # a name or a path may hold what a shell takes for its own
    if deed in COMMANDS:
        command = COMMANDS[deed]
        return f"hooper {command.format(*objects)}" if "{" in command else " ".join(("hooper", command, *objects))
    return OPTIONS[deed].format(*objects)


def spelled(text: str) -> str:
    """`text` with every deed as the command or the option that does it."""
    return deeds.spelled_out(text, _spell)


def commands_in(text: str) -> list[str]:
    """The commands that a text names between backticks, each once and without the program's name."""
    named = (part.removeprefix("hooper ") for part in spelled(text).split("`")[1::2] if part.startswith("hooper "))
    return list(dict.fromkeys(named))
