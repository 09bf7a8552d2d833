"""What the name commands say, and what is remembered of an update."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.planning.values import Finding
from hooper.words.said import Said

Action = Literal["current", "needed", "updated", "watched", "pending", "waiting", "refused", "failed", "unknown"]


@dataclass(frozen=True, slots=True)
class ServerShows:
    """What one server has for a name.

    server: its address. kind: authoritative, or a resolver, which may keep what is old for a while. values: what it
    has; null: it does not answer. ok: that is what is wanted.
    """

    server: str
    kind: Literal["authoritative", "resolver"]
    values: tuple[str, ...] | None
    ok: bool


@dataclass(frozen=True, slots=True)
class NameRow:
    """One name.

    wanted: the address it should have; empty: not known. published: the one it has; empty: none, or nobody tells.
    action: current: as it should be; needed: to be updated; updated: it was; watched: kept by the router or a device;
    pending: an update was taken, and does not show everywhere yet; waiting: the provider is left alone for now;
    refused: the provider said no for good; failed; unknown: something is missing.
    ok: what is published is what is wanted. name: the DNS name. type: the record's type, A or AAAA. updated_by: who
    keeps it. wanted_source: where the wanted address comes from. published_source: who told the published one. servers:
    what each that was asked has. took_s: seconds from the update until all of the name's own servers had it; null: it
    was not updated, or that has not been seen. again: when the provider may be asked again, RFC 3339; null: now.
    """

    name: str
    type: str
    updated_by: str
    wanted: tuple[str, ...]
    wanted_source: Said
    published: tuple[str, ...]
    published_source: Said
    action: Action
    ok: bool
    detail: Said
    servers: tuple[ServerShows, ...] = ()
    took_s: float | None = None
    again: str | None = None


@dataclass(frozen=True, slots=True)
class NamesDocument:
    """`hooper name list` and `hooper name update`.

    dry_run: nothing was changed. findings: where what is written or told of a line contradicts what was looked at.
    names: one row each.
    """

    dry_run: bool
    names: tuple[NameRow, ...]
    findings: tuple[Finding, ...] = ()
