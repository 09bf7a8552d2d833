"""The {words} in an updater's requests: which there are, and which of them are secret. Pure text."""

from __future__ import annotations

import re

WORDS: dict[str, str] = {
    "name": "the DNS name",
    "host": "the part of the name before the zone",
    "zone": "the updater's `zone`",
    "type": "A, AAAA or TXT",
    "value": "the address or text",
    "ttl": "seconds, the updater's `ttl`",
    "user": "the updater's `user`",
    "token": "the secret",
    "basic": "user and secret, as HTTP's Basic login writes them",
}
SECRET = ("token", "basic")
_WORD = re.compile(r"\{([a-z]+)\}")


def used(text: str) -> list[str]:
    """The words in braces in `text`, known or not."""
    return _WORD.findall(text)


def fill(text: str, values: dict[str, str]) -> str:
    """`text` with each known word replaced. What is filled in is not looked at again."""
    return _WORD.sub(lambda match: values.get(match[1], match[0]), text)
