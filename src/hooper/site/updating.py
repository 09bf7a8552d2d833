"""The forms of updating a name by HTTP that many providers share, and the algorithms of signed updates. Pure."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Literal

FormOfUpdate = Literal["words", "token", "record"]
Means = Literal["done", "unchanged", "wait", "never"]
TsigAlgorithm = Literal[
    "hmac-sha256",
    "hmac-sha384",
    "hmac-sha512",
    "hmac-sha224",
    "hmac-sha1",
    "hmac-md5",
    "hmac-sha256-128",
    "hmac-sha384-192",
    "hmac-sha512-256",
]  # fmt: skip - RFC 8945 section 6


@dataclass(frozen=True)
class SharedForm:
    """A request of that form. more: what follows the URL of the provider. answers: patterns and what they mean.

    told: how a provider's guide describes it.
    """

    told: str
    method: str
    more: str = ""
    headers: dict[str, str] = field(default_factory=dict)
    body: str | None = None
    answers: tuple[tuple[str, Means], ...] = ()
    needs: tuple[str, ...] = ()


FORMS: dict[FormOfUpdate, SharedForm] = {
    "words": SharedForm(
        "one GET with `hostname` and `myip`, user and password, answered by one word such as good or nochg",
        "GET",
        "?hostname={name}&myip={value}",
        {"Authorization": "Basic {basic}"},
        None,
        (
            (r"^good\b", "done"),
            (r"^nochg\b", "unchanged"),
            (r"^(dnserr|911|servererror)\b", "wait"),
            (r"^(badauth|notfqdn|nohost|numhost|abuse|badagent|!donator|!yours|badresolv|not_authorized)\b", "never"),
        ),
        ("url", "user", "token"),
    ),
    "token": SharedForm(
        "one GET whose address holds a token, answered by OK or by a number of 200",
        "GET",
        answers=((r"^\s*(ok|good|success|updated)\b", "done"), (r"^\s*(ko|error|fail)", "never")),
        needs=("url", "token"),
    ),
    "record": SharedForm(
        "a PUT of the record itself as JSON, with the token as a bearer",
        "PUT",
        "",
        {"Authorization": "Bearer {token}", "Accept": "application/json"},
        '{"type": "{type}", "name": "{name}", "content": "{value}", "ttl": {ttl}}',
        needs=("url", "token"),
    ),
}


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
