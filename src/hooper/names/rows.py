"""What the name commands say, and what is remembered of an update."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from hooper.planning.values import Finding

Action = Literal["current", "needed", "updated", "watched", "waiting", "refused", "failed", "unknown"]


@dataclass(frozen=True, slots=True)
class NameRow:
    """One name.

    wanted: the address it should have; empty: not known. published: the one it has; empty: none, or nobody tells.
    action: current: as it should be; needed: to be updated; updated: it was; watched: kept by the router or a device;
    waiting: the provider asked to wait; refused: the provider said no for good; failed; unknown: something is missing.
    ok: what is published is what is wanted. name: the DNS name. type: the record's type, A or AAAA. updated_by: who
    keeps it. wanted_source: where the wanted address comes from. published_source: who told the published one.
    """

    name: str
    type: str
    updated_by: str
    wanted: tuple[str, ...]
    wanted_source: str
    published: tuple[str, ...]
    published_source: str
    action: Action
    ok: bool
    detail: str


@dataclass(frozen=True, slots=True)
class NamesDocument:
    """`hooper name list` and `hooper name update`.

    dry_run: nothing was changed. findings: where what is written or told of a line contradicts what was looked at.
    names: one row each.
    """

    dry_run: bool
    names: tuple[NameRow, ...]
    findings: tuple[Finding, ...] = ()
