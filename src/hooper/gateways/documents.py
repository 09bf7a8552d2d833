"""What the router commands say. The field names are those of the JSON contract."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

from hooper.comparison import Comparison
from hooper.ports import Ports
from hooper.words.said import Said

Owner = Literal["ours", "labelled", "lent", "other"]
Done = Literal["added", "restored", "renewed", "already", "replaced", "removed", "put-back", "gone", "left"]
Outcome = Literal[Done, "by-hand", "refused", "failed"]
DONE: tuple[Done, ...] = get_args(Done)


@dataclass(frozen=True, slots=True)
class RuleRow:
    """A rule as it stands in a router's table.

    service: the one of the plan that wants this outside port; null: none. meets_plan: it leads where the plan says.
    source: the one address it is for; null: anyone. lease_s: seconds it still lasts; null: until it is removed.
    enabled: the rule is in force. owner: whose rule it is; labelled: it carries Hooper's label, and the journal does
    not have it; lent: it stands for a test that is running. visible_by: the protocol that lists it.
    """

    service: str | None
    transport: str
    outside_ports: Ports
    target_address: str
    target_ports: Ports
    source: str | None
    label: str
    enabled: bool
    owner: Owner
    meets_plan: bool
    lease_s: int | None
    visible_by: str


@dataclass(frozen=True, slots=True)
class GatewayTable:
    """A router's table. protocol: null where it is driven by hand, or answers nothing. device: what it calls itself."""

    gateway: str
    protocol: str | None
    device: str | None
    wan_address: str | None
    rules: tuple[RuleRow, ...]


@dataclass(frozen=True, slots=True)
class RouterListDocument:
    """`hooper router list`."""

    gateways: tuple[GatewayTable, ...]
    comparisons: tuple[Comparison, ...]


@dataclass(frozen=True, slots=True)
class ChangedRule:
    """The rule that a change is about. source: the one address it is for; null: anyone."""

    service: str | None
    transport: str
    outside_ports: Ports
    target_address: str
    target_ports: Ports
    source: str | None


@dataclass(frozen=True, slots=True)
class RuleChange:
    """What was done about one rule.

    action: what was wanted. until: when the rule ends by itself; null: not before it is removed, or it is not there.
    detail: what a person should know about it; empty where the outcome says all. outcome: what came of it;
    restored: it was entered once, and the router had lost it.
    """

    gateway: str
    action: Literal["open", "close"]
    rule: ChangedRule
    outcome: Outcome
    until: str | None
    detail: Said


@dataclass(frozen=True, slots=True)
class RouterChangesDocument:
    """`hooper router open` and `hooper router close`. dry_run: nothing was done, the outcomes are what would be.

    by_hand: the routers at which something is left to enter by hand, and not ticked off.
    """

    dry_run: bool
    changes: tuple[RuleChange, ...]
    by_hand: tuple[str, ...] = ()
