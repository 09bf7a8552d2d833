"""DNS names held against each other, wildcards as RFC 9525 section 6.3 has them: one way for all who ask."""

from __future__ import annotations

from collections.abc import Iterable

from hooper.addresses import IPAddress, IPNetwork, parse_network

WILDCARD = "*."


def is_wildcard(name: str) -> bool:
    return name.startswith(WILDCARD)


def base(name: str) -> str:
    """The name that a wildcard stands below; another name itself."""
    return name.removeprefix(WILDCARD)


def is_below(name: str, top: str) -> bool:
    """Whether a name is `top` or below it (RFC 5280 section 4.2.1.10); one that begins with a dot is for those below
    alone, and the empty one for all.
    """
    name, top = name.rstrip(".").lower(), top.rstrip(".").lower()
    if top.startswith("."):
        return name.endswith(top)
    return not top or name == top or name.endswith(f".{top}")


def bound_to(text: str) -> str | IPNetwork:
    """What an authority is bound to, as the site file writes it: a DNS name with all below it, or a network."""
    try:
        return parse_network(text)
    except ValueError:
        return text


def may_sign(signs: Iterable[str], wanted: str | IPAddress) -> bool:
    """Whether an authority that is bound to these names and networks may sign for a name or an address."""
    for one in map(bound_to, signs):
        if isinstance(one, str):
            if isinstance(wanted, str) and is_below(wanted.removeprefix(WILDCARD), one):
                return True
        elif not isinstance(wanted, str) and wanted in one:
            return True
    return False


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
