"""The ways in that are left where a line has no public IPv4 address to itself, best first. Pure."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper import deeds

WayKind = Literal["bridge", "ipv6", "public-address", "rented-machine", "two-nats"]
INDEPENDENT = "endpoint-independent"  # RFC 4787 section 4.1


@dataclass(frozen=True)
class WayIn:
    """One way in.

    way: which. fits: whether it can work on this line; null: not known. title: what it is. needs: what it takes. how:
    where to begin.
    """

    way: WayKind
    fits: bool | None
    title: str
    needs: str
    how: str


def ways_left(prefix6: bool | None, *, bridge: bool = False, mapping: str | None = None) -> tuple[WayIn, ...]:
    """All of them, those that fit first.

    prefix6: whether the line has IPv6; None: not known. bridge: another router of the user's own may be the NAT.
    mapping: what the outer port of the NAT depends on, as in RFC 4787; None: not measured.
    """
    six = WayIn(
        "ipv6",
        prefix6,
        "IPv6, which this line has" if prefix6 else "IPv6, if the line has it",
        "`address6` at the hosts, and IPv6 where you are" if prefix6 else "IPv6 where you are",
        "Write `prefix6` at the gateway and `address6` at the hosts: the plan then opens them.",
    )
    found = []
    if bridge:
        needs = "that the router before is yours, or that the provider switches it over"
        found.append(WayIn("bridge", None, "bridge mode", needs, "Ask the provider, or look on that router's page."))
    if prefix6:
        found.append(six)
    found.append(
        WayIn(
            "public-address",
            None,
            "a public IPv4 address",
            "asking the provider: often a call, sometimes a fee",
            f"`{deeds.LETTER}` is the letter.",
        )
    )
    if prefix6 is None:
        found.append(six)
    found.append(
        WayIn(
            "rented-machine",
            True,
            "a tunnel out to a machine you rent",
            "that machine and a few euros a month",
            f"`{deeds.ADD_RENTED}` makes both ends.",
        )
    )
    if mapping == INDEPENDENT:
        found.append(
            WayIn(
                "two-nats",
                None,
                "a meeting of two NATs",
                "a helper outside that tells both ends of each other, and a NAT like this one where you are",
                "This NAT allows it, by its mapping. Hooper does not make it yet.",
            )
        )
    return tuple(found)


def in_one_sentence(ways: tuple[WayIn, ...]) -> str:
    """The same as a remedy."""
    text = "; ".join(f"{number}. {way.title} (needs {way.needs})" for number, way in enumerate(ways, 1))
    return f"The ways that remain, best first: {text}."
