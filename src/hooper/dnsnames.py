"""DNS names held against each other, wildcards as RFC 9525 section 6.3 has them: one way for all who ask."""

from __future__ import annotations

from collections.abc import Iterable

WILDCARD = "*."


def is_wildcard(name: str) -> bool:
    return name.startswith(WILDCARD)


def base(name: str) -> str:
    """The name that a wildcard stands below; another name itself."""
    return name.removeprefix(WILDCARD)


def stands_for(pattern: str, name: str) -> bool:
    """Whether `pattern` is `name`, or a wildcard for it.

    The asterisk is the whole leftmost label and stands for exactly one. It never stands for the label of an address
    (RFC 9525 section 6.4), nor directly below a top-level domain, which clients do not accept.
    """
    pattern, name = pattern.rstrip(".").lower(), name.rstrip(".").lower()
    if pattern == name:
        return True
    first, _, rest = name.partition(".")
    if not is_wildcard(pattern) or not first or first == "*" or rest != base(pattern):
        return False
    return "." in rest and not rest.rpartition(".")[2].isdigit()


def any_stands_for(patterns: Iterable[str], name: str) -> bool:
    return any(stands_for(pattern, name) for pattern in patterns)
