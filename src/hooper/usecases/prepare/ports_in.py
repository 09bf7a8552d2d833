"""Which outside ports the provider lets in: rules for a while, Hooper behind them, and a look at each from outside."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address
from typing import Literal

import anyio

from hooper.addresses import IPAddress
from hooper.check.checking import probe_all
from hooper.check.handshake_keys import StandInKey
from hooper.check.results import From, Seen
from hooper.check.stand_in import stand_in_tcp, stand_in_udp
from hooper.check.targets import Target
from hooper.check.view import useless_interface
from hooper.errors import HooperError, UsageError
from hooper.net.stun import STUN_DEADLINE, mapped_by
from hooper.net.types import Door, Endpoint
from hooper.net.whereabouts import connected_surroundings
from hooper.places import Place
from hooper.planning.documents import ChangedKey
from hooper.planning.edits import change
from hooper.planning.temporary import free_ports
from hooper.planning.values import EVERYTHING
from hooper.ports import Blocked, single
from hooper.site.load import parse_site
from hooper.store.sitefile import save_site
from hooper.usecases.act.temporary import Borrow, PortIn, let_in, line_from_here, outside_address, own_place
from hooper.usecases.origins import open_place
from hooper.usecases.run import Run
from hooper.words.said import Said, say

# What people want to use, and what providers are known to drop.
USUAL = (
    *(("tcp", port) for port in (21, 22, 25, 53, 80, 110, 143, 443, 445, 465, 587, 993, 3389, 5060, 5900, 8080, 8443)),
    *(("udp", port) for port in (53, 123, 500, 1194, 4500, 5060, 51820)),
)  # fmt: skip
# What networks that people look from often drop on the way out, so that silence says nothing of the way in.
DROPPED_OUTWARD = frozenset({("tcp", 25), ("tcp", 445), ("udp", 53), ("udp", 123)})
CONTROLS = 2  # free high ports of each transport, by which it is told that anything gets in at all


@dataclass(frozen=True, slots=True)
class PortRow:
    """One outside port. let_in: whether it comes in; null: that cannot be told. why: in words."""

    transport: str
    port: int
    let_in: bool | None
    verdict: Literal["answered", "connected", "mismatched", "refused", "silent", "unproven", "not-tried"]
    why: Said


@dataclass(frozen=True, slots=True)
class PortsInDocument:
    """`hooper survey --ports`.

    ports: one row each. remarks: what is to be known of it. saved: the keys that were written into the site file.
    from: where it was looked from. address: that was tried.
    """

    line: str
    address: str
    from_: From
    ports: tuple[PortRow, ...]
    remarks: tuple[Said, ...]
    saved: tuple[ChangedKey, ...] = ()


def _not_tried(transport: str, port: int, planned: str) -> PortRow:
    return PortRow(transport, port, None, "not-tried", say("has-it-a-check", planned=planned))


async def ports_in(
    run: Run,
    place: Place,
    ports: tuple[tuple[str, int], ...] = (),
    public: Mapping[str, IPAddress] = {},
    deadline: float = 5.0,
    *,
    save: bool = False,
    entered: bool = False,
    dry_run: bool = False,
) -> tuple[PortsInDocument, list[HooperError]]:
    """Measure.

    ports: which; empty: the usual ones. place: where it is looked from. public: addresses by line that were given.
    entered: what is by hand has been entered by hand. deadline: seconds for the look. save: write what the provider
    drops into the site file. dry_run: say what would be. Raises: as `let_in`; UsageError: nothing leads elsewhere, or
    nothing tells the public address.
    """
    at, own = await own_place(run)
    line = line_from_here(run, at, None)
    address, _ = await outside_address(run, line, None, public, deadline)
    outside = await open_place(run, place, deadline)
    origin = From.of(outside.place, proves_outside=True)
    if (reason := await _proves_nothing(run, outside, address)) is not None:
        raise UsageError(f"nothing is proven from there: {reason}", remedy="Look from a phone's mobile data.")
    planned = _planned(run)
    asked = ports or USUAL
    tried = [one for one in asked if one not in planned]
    controls = [
        (transport, port)
        for transport in ("tcp", "udp")
        if any(kind == transport for kind, _ in tried)
        for port in free_ports(run.site, line, transport, run.plan.forwards, CONTROLS)
    ]
    key = secrets.token_bytes(16)
    rows = {one: _not_tried(*one, planned[one]) for one in asked if one in planned}
    async with (
        await run.here.listen(Endpoint(own, 0)) as listener,
        await run.here.datagrams(local=Endpoint(own, 0)) as socket,
    ):
        inside = {"tcp": listener.local.port, "udp": socket.local.port}
        borrows = [Borrow(None, kind, inside[kind], port, lenient=True) for kind, port in (*tried, *controls)]
        async with let_in(run, borrows) as way:
            ready = [port for port in way.ports if port.problem is None and (entered or not port.by_hand)]
            rows |= {(p.borrow.transport, p.outside): _not_ready(p) for p in way.ports if p not in ready}
            async with anyio.create_task_group() as tasks:
                tasks.start_soon(stand_in_tcp, listener, key, _nobody)
                tasks.start_soon(stand_in_udp, socket, key, _nobody)
                tasks.start_soon(way.keep_open)
                seen = await _look(outside, address, ready, key, deadline, run.progress)
                tasks.cancel_scope.cancel()
    verdicts = {(p.borrow.transport, p.outside): one for p, one in zip(ready, seen, strict=True)}
    open_at_all = {kind for (kind, _), one in verdicts.items() if one.verdict == "answered"}
    rows |= {port: _judged(*port, one, open_at_all) for port, one in verdicts.items()}
    shown = tuple(rows[port] for port in asked if port in rows)
    hand = sorted({rule.gateway for port in way.ports for rule in port.by_hand}) if not ready else []
    remarks = _remarks(shown, {kind for kind, _ in tried} - open_at_all, hand)
    saved = _saved(run, line, shown, dry_run=dry_run) if save else ()
    return PortsInDocument(line, str(address), origin, shown, remarks, saved), []


def _nobody(transport: str, peer: Endpoint, said: str) -> None:
    """Who comes is told by who asked."""


async def _proves_nothing(run: Run, outside: Door, address: IPAddress) -> Said | None:
    """Why a look through this door says nothing about outside; None: it does."""
    around = await connected_surroundings(run.here)
    if (unfit := useless_interface(run.site, outside, around)) is not None:
        return unfit.words
    servers = [Endpoint(server, port) for server, port in run.site.measure.stun]
    mapped = await mapped_by(outside, servers, STUN_DEADLINE) if servers else None
    if mapped is not None and mapped[0] == address:
        return say("shows-the-address-of", name=outside.place.name, address=address)
    return None


def _planned(run: Run) -> dict[tuple[str, int], str]:
    """The outside ports that rules of the plan have, with their services."""
    out: dict[tuple[str, int], str] = {}
    for rule in run.plan.forwards:
        if rule.outside_ports is not None and rule.service != EVERYTHING and rule.kind == "forward":
            for port in range(rule.outside_ports.first, rule.outside_ports.last + 1):
                for kind in ("tcp", "udp") if rule.transport == "both" else (rule.transport,):
                    out[kind, port] = rule.service
    return out


def _not_ready(port: PortIn) -> PortRow:
    if port.problem is not None:
        why = port.problem.told
    else:
        rule = port.by_hand[0]
        why = say("would-need-a-rule", gateway=rule.gateway, reason=rule.reason)
    return PortRow(port.borrow.transport, port.outside, None, "not-tried", why)


async def _look(
    outside: Door,
    address: IPAddress,
    ports: Sequence[PortIn],
    key: bytes,
    deadline: float,
    heard: Callable[[str], None],
) -> list[Seen]:
    jobs = [
        (
            outside,
            Target.alone(address, port.outside, "unknown", transport=port.borrow.transport, keys=StandInKey(key)),
        )
        for port in ports
    ]
    return await probe_all(jobs, deadline, heard)


def port_target(port: PortIn) -> IPv4Address:
    """This computer's address, where the last rule leads."""
    return IPv4Address(port.rules[-1].target_address)


def _judged(kind: str, port: int, seen: Seen, open_at_all: set[str]) -> PortRow:
    if seen.verdict == "answered":
        return PortRow(kind, port, True, seen.verdict, say("it-comes-in"))
    if seen.verdict in ("mismatched", "connected"):
        why = say("something-else-answers-there")
        return PortRow(kind, port, None, seen.verdict, why)
    if seen.verdict == "unproven":
        return PortRow(kind, port, None, seen.verdict, seen.detail)
    if kind not in open_at_all:
        return PortRow(kind, port, None, seen.verdict, say("nothing-came-in-over", upper=kind.upper()))
    if (kind, port) in DROPPED_OUTWARD:
        why = say("it-does-not-come")
        return PortRow(kind, port, None, seen.verdict, why)
    who = say("refused-on-the-way") if seen.verdict == "refused" else say("dropped-on-the-way")
    return PortRow(kind, port, False, seen.verdict, say("while-others-come-in", who=who))


def _remarks(rows: Sequence[PortRow], closed: set[str], hand: Sequence[str]) -> tuple[Said, ...]:
    out: list[Said] = []
    if hand:
        out.append(say("no-port-could-be", hand=hand))
    elif closed:
        kinds = tuple(sorted(kind.upper() for kind in closed))
        out.append(say("nothing-came-in-over-at", kinds=kinds))
    if any(row.let_in is False for row in rows):
        out.append(say("what-does-not-come"))
    return tuple(out)


def _saved(run: Run, line: str, rows: Sequence[PortRow], *, dry_run: bool) -> tuple[ChangedKey, ...]:
    """Write down what does not come in, and take out what does; what was not told stays as it is."""
    told = {(row.transport, row.port): row.let_in for row in rows if row.let_in is not None}
    blocked = [entry for entry in run.site.lines[line].blocked if not _is_open(entry, told)]
    there = {(entry.transport, port) for entry in blocked for port in range(entry.ports.first, entry.ports.last + 1)}
    for (kind, port), let_in_there in told.items():
        if not let_in_there and (kind, port) not in there and ("both", port) not in there:
            blocked.append(Blocked(kind, single(port)))
    written = [f"{entry.transport} {entry.ports}" for entry in blocked]
    if written == [f"{entry.transport} {entry.ports}" for entry in run.site.lines[line].blocked]:
        return ()
    edited = change(run.file, "lines", line, {"blocked": written})
    parse_site(edited.text.encode(), run.file.name)
    if not dry_run:
        run.use(save_site(run.path, run.file, edited.text))
    return tuple(ChangedKey(f"lines.{line}.{one.key}", one.before, one.after) for one in edited.changes)


def _is_open(entry: Blocked, told: Mapping[tuple[str, int], bool]) -> bool:
    """Whether a single port that was thought to be dropped comes in."""
    kinds = ("tcp", "udp") if entry.transport == "both" else (entry.transport,)
    return entry.ports.size == 1 and all(told.get((kind, entry.ports.first)) is True for kind in kinds)
