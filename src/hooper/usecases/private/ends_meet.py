"""Two ends of a tunnel without public addresses that meet: each learns where it is seen, hands that over sealed by a
witness, tries the ways, and sets the best at the tunnel's own interface. While there is none, the relay is gone by.
"""

from __future__ import annotations

import base64
import secrets
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Literal, NamedTuple

import anyio

from hooper import deeds
from hooper.addresses import parse_address
from hooper.clock import rfc3339
from hooper.errors import CounterpartError, HooperError, MachineError, NoAnswer, WireError
from hooper.net.types import Endpoint
from hooper.places import HERE
from hooper.planning.meetings import MeetingEnd, meeting_ends
from hooper.planning.server_lists import OWN_LIST
from hooper.store.kept import Condition
from hooper.tunnels.direct_way import Tries, WayTried, best_of, outside_of, ways_to
from hooper.tunnels.seen import EndSeen, end_in
from hooper.usecases.origins import ASK_S, found, site_key
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions
from hooper.wire.meeting_talk import NONCE, STALE_S, MeetingKeys, NatKind, Note, can_meet
from hooper.wire.witness_talk import MeetAsked
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.net.types import Datagrams

WAIT_S, COMMAND_S, KEEPALIVE_S = 20, 5.0, 25  # for the other end; for a command; between two signs of life
SILENT_S, APART_S, BY_RELAY_S, HOURLY_S = 40.0, 30, 300, 3600  # how long, and how often, in seconds
MISSED = 20  # times that nobody came, until the other end is no more looked for each half minute
LAB_END = "quay-hut"  # where in the lab another site's tunnel ends
Way = Literal["direct", "relay", "none"]


class NoTunnelHere(MachineError):
    """The tunnel does not end on this computer, or may not be looked at."""

    code = "no-tunnel-here"


class NotesDiffer(CounterpartError):
    """What the other end left at the witness cannot be used."""

    code = "note-unusable"


@dataclass(frozen=True, slots=True)
class WayRow:
    """A way that answers. by: direct or relay. to: where it leads. delay_ms: there and back. loss: part of the tries
    that was not answered, from 0 to 1.
    """

    by: str
    to: str
    delay_ms: float
    loss: float


@dataclass(frozen=True)
class MetRow:
    """How one end met. end: its key. peer: the other's public key. witness: by which it met. way: by which the tunnel
    goes now; none: by none.

    came: the other end was there. can: whether the two NATs can be opened to each other, before it was tried. seen_at:
    where this end is seen from outside; null: not known. nat, other_nat: in words of RFC 4787; empty: not known. ways:
    those that answer. taken: when, RFC 3339. detail: in words.
    """

    end: str
    peer: str
    witness: str
    way: Way
    came: bool
    can: str
    seen_at: str | None
    nat: str
    other_nat: str
    ways: tuple[WayRow, ...]
    taken: str
    detail: str


@dataclass(frozen=True)
class MetDocument:
    """`hooper meeting now`. ends: one row each."""

    ends: tuple[MetRow, ...]


async def meet_all(run: Run, keys: Sequence[str], wait: int = WAIT_S) -> tuple[MetDocument, list[HooperError]]:
    """Let ends meet, side by side; what came of it is kept. keys: of `meeting_ends`. wait: seconds for the other."""
    ends, trouble = meeting_ends(run.site, run.at.date()), list[HooperError]()
    rows: dict[str, MetRow] = {}

    async def one(key: str) -> None:
        try:
            rows[key], _ = await meet_end(on_its_computer(run, ends[key]), ends[key], wait)
        except HooperError as exc:
            trouble.append(exc.about(key))
            keep_conditions(run, [Condition(ends[key].kind, key, "way", "unknown", "unknown", exc.told)])

    async with anyio.create_task_group() as tasks:
        for key in keys:
            tasks.start_soon(one, key)
    return MetDocument(tuple(rows[key] for key in keys if key in rows)), trouble


def on_its_computer(run: Run, end: MeetingEnd) -> Run:
    """The run on the computer that ends the tunnel: this one; in the lab, that machine of the town."""
    if run.here.world == "real":
        return run
    from hooper.net.lab_door import elsewhere

    site = run.site
    of_peer = site.services[site.tunnels[site.peers[end.key].tunnel].service].host if end.kind == "peer" else LAB_END
    return replace(run, door=elsewhere(run.here, of_peer))


async def end_seen(run: Run, end: MeetingEnd) -> EndSeen:
    """The end as the tunnel's own software tells of it. Raises: NoTunnelHere, MachineError."""
    dump = await run.here.printed(OWN_LIST, COMMAND_S)
    seen = end_in(dump, end.interface, end.peer) if dump else None
    if seen is None:
        what = "tells nothing here" if not dump else f"has no interface {end.interface} with that peer here"
        raise NoTunnelHere(
            f"WireGuard {what}, so {end.key} cannot meet its other end from this computer",
            remedy=f"Switch {end.interface} on, on the computer that ends it, and run this there as root.",
        )
    if seen.shared is None:
        raise NoTunnelHere(
            f"{end.key} has no pre-shared key, by which both ends would know each other",
            remedy=f"Make both ends new files: `{deeds.RENEW_PEER(end.key)}`." if end.kind == "peer" else None,
        )
    return seen


async def meet_end(run: Run, end: MeetingEnd, wait: int) -> tuple[MetRow, float]:
    """One meeting; and by how many seconds the witness's clock is ahead.

    Raises: NoTunnelHere, NoRaw, NoAnswer; WitnessFailed, WitnessRefuses; NotesDiffer.
    """
    from hooper.witness.client import meet

    seen = await end_seen(run, end)
    assert seen.shared is not None
    own, other = base64.b64decode(seen.own), base64.b64decode(end.peer)
    keys = MeetingKeys.of(seen.shared, own, other)
    servers = [Endpoint(address, port) for address, port in run.site.measure.stun if address.version == 4]
    async with await run.here.beside(seen.port, seen.mark) as socket:
        outside, nat = await outside_of(run.here, socket, servers)
        if not outside:
            asked = ", ".join(map(str, servers)) or "none is written"
            raise NoAnswer(f"no STUN server told where {end.interface} is seen from outside: {asked}")
        near = await run.here.source_towards(servers[0].address)
        spots = [outside[0], *([Endpoint(near, seen.port)] if near is not None else [])]
        written = tuple((str(spot.address), spot.port) for spot in spots)
        note = Note(round(run.here.clock.now().timestamp()), written, nat, end.relay is not None)
        asked_there = MeetAsked(keys.box, keys.side, note.sealed(keys, secrets.token_bytes(NONCE)), wait)
        met = await meet(run.here, found(run, end.witness), site_key(run), asked_there, ASK_S)
        theirs = _note_of(run, met.sealed, keys) if met.sealed else None
        ways: list[WayTried] = []
        relayed = False
        if theirs is not None:
            ways, relayed = await _tried(run, end, socket, keys, nat, theirs, outside[0])
    row = await _settled(run, end, seen, _Found(outside[0], nat, theirs, ways, relayed))
    _counted(run, end, ways)
    if row.came or row.way == "none":  # else nothing new is known
        keep_conditions(run, [_condition(end, row)])
    return row, met.ahead_s


def _counted(run: Run, end: MeetingEnd, ways: Sequence[WayTried]) -> None:
    """Keep the delay and the loss of each way, beside those of services, by day."""
    with run.keeping() as state:
        for way in ways if state is not None else ():
            name, took = f"{end.key}, {way.by}", max(1, round(1000 * way.delay_s))
            answered: list[tuple[str, str, bool, int | None]] = [(name, str(HERE), True, took)] * way.came
            lost = [(name, str(HERE), False, None)] * (way.sent - way.came)
            if state is not None:
                state.history.looked(run.here.clock.now(), [*answered, *lost])


def _note_of(run: Run, sealed: bytes, keys: MeetingKeys) -> Note:
    try:
        note = Note.opened(sealed, keys)
    except WireError as exc:
        raise NotesDiffer(
            f"what the other end left at the witness cannot be used: {exc}",
            remedy="Both ends need the same pre-shared key, and the same version of Hooper.",
        ) from None
    if abs(note.at - run.here.clock.now().timestamp()) > STALE_S:
        raise NotesDiffer("the other end's note is an hour old, or one of both clocks is wrong",
                          remedy="Set both clocks right.")  # fmt: skip
    return note


async def _tried(
    run: Run, end: MeetingEnd, socket: Datagrams, keys: MeetingKeys, nat: NatKind, theirs: Note, outside: Endpoint
) -> tuple[list[WayTried], bool]:
    """The ways that answer, and whether the other end came by a machine between both. Seen at one address, both are
    behind one router, and find each other there.
    """
    spots = [Endpoint(parse_address(address), port) for address, port in theirs.spots]
    alone = can_meet(nat, theirs.nat) == "cannot"
    near = bool(spots) and spots[0].address == outside.address
    wanted = [] if alone and not near else spots if near else spots[:1]
    ways = ways_to(wanted, await _relay(run, end))

    async def go(to: Endpoint) -> None:
        await go_by(run, end, to)

    tries = Tries(socket, keys, run.here.clock, dict(ways), go)
    return (await tries.run() if ways or theirs.relay else []), tries.relayed


async def _relay(run: Run, end: MeetingEnd) -> Endpoint | None:
    if end.relay is None:
        return None
    host, port = end.relay
    try:
        return Endpoint(parse_address(host), port)
    except ValueError:
        pass
    try:
        known = await run.here.lookup(host, "ipv4")
    except HooperError:
        return None
    return Endpoint(known[0], port) if known else None


async def go_by(run: Run, end: MeetingEnd, to: Endpoint) -> None:
    """Have the interface send there, and say so at once. Raises: MachineError."""
    words = ("wg", "set", end.interface, "peer", end.peer, "endpoint", str(to), "persistent-keepalive")
    for seconds in ("0", str(KEEPALIVE_S)):  # switched on anew, it sends a first one at once (wg(8))
        if await run.here.printed((*words, seconds), COMMAND_S) is None:
            raise MachineError(
                f"{end.interface} does not take {to} as its other end",
                code="endpoint-not-set",
                remedy=f"Run it as root, or as the service of `{deeds.KEEPER_UNIT('systemd')}`.",
            )


async def go_by_relay(run: Run, end: MeetingEnd, seen: EndSeen) -> bool:
    """Have it go by the machine between both, where it does not; whether there is one. Raises: MachineError."""
    relay = await _relay(run, end)
    if relay is not None and seen.seen.came_from != str(relay):
        await go_by(run, end, relay)
    return relay is not None


class _Found(NamedTuple):
    """What a meeting has shown. relayed: the other end came by the machine between both."""

    outside: Endpoint
    nat: NatKind
    theirs: Note | None
    ways: Sequence[WayTried]
    relayed: bool


async def _settled(run: Run, end: MeetingEnd, seen: EndSeen, met: _Found) -> MetRow:
    """Go by the way that was found; nothing is said to go that nobody has seen to go."""
    way: Way = "none"
    if best_of(met.ways, "direct") is not None:
        way = "direct"  # where it goes already
    elif met.theirs is None and alive(run, seen):
        way = before(run, end)
    else:
        await go_by_relay(run, end, seen)
        way = "relay" if met.relayed or best_of(met.ways, "relay") is not None else "none"
    came = met.theirs is not None
    other = met.theirs.nat if met.theirs is not None else NatKind()
    can = can_meet(met.nat, other) if came else "unknown"
    rows = tuple(WayRow(one.by, str(one.to), round(1000 * one.delay_s, 1), round(one.loss, 3)) for one in met.ways)
    relay = end.relay is not None or (met.theirs is not None and met.theirs.relay)
    return MetRow(
        end.key, end.peer, end.witness, way, came, can, str(met.outside), _words(met.nat), _words(other), rows,
        rfc3339(run.here.clock.now()), _detail(end, way, can, came=came, relay=relay),
    )  # fmt: skip


def alive(run: Run, seen: EndSeen) -> bool:
    """Whether its session is one that can be in use (its protocol paper, section 6.1: 180 seconds)."""
    last = seen.seen.handshake
    return last is not None and (run.here.clock.now() - last).total_seconds() < 180


def before(run: Run, end: MeetingEnd) -> Way:
    """By which way it went when that was last found out."""
    stood = run.state.history.conditions() if run.state is not None else []
    this = (end.kind, end.key, "way")
    kept = next((one.condition for one in stood if (one.condition.kind, *one.condition[1:3]) == this), None)
    state = kept.state if kept is not None else ""
    return "direct" if state == "direct" else "relay" if state == "relay" else "none"


def _words(nat: NatKind) -> str:
    said = (("mapping", nat.mapping), ("filtering", nat.filtering))
    return ", ".join(f"{what} {how}" for what, how in said if how)


def _detail(end: MeetingEnd, way: Way, can: str, *, came: bool, relay: bool) -> str:
    if not came:
        return f"nobody came to the witness {end.witness} from the other end"
    if way == "direct":
        return "both ends send to each other"
    why = "the two NATs cannot be opened to each other" if can == "cannot" else "no direct way answered"
    if way == "relay":
        return f"{why}, so it goes by the machine between both"
    return f"{why}, and {'the machine between both does not answer' if relay else 'there is no machine between both'}"


def _condition(end: MeetingEnd, row: MetRow) -> Condition:
    """How one end stands."""
    if row.way == "none":
        told = say("meeting-none", why=row.detail)
        state = "alone" if not row.came else "apart" if row.can == "cannot" else "unanswered"
        return Condition(end.kind, end.key, "way", state, "wrong", told, "meeting-apart")
    detail = say(f"meeting-way.{row.way}", ways=_measured(row.ways) or row.detail)
    return Condition(end.kind, end.key, "way", row.way, "well", detail)


def _measured(ways: Sequence[WayRow]) -> str:
    return ", ".join(f"{one.by} {one.delay_ms:g} ms, {100 * one.loss:.0f} % lost" for one in ways)


# --- kept so


@dataclass
class Tended:
    """What a keeper remembers of an end. received: bytes that had come. grew: when that last became more. due: when it
    meets next, by the witness's clock; None: at once. can: as it was last told. to: where it goes directly; None: it
    does not. missed: how often nobody came, last.
    """

    received: int = -1
    grew: float = 0.0
    due: datetime | None = None
    ahead: timedelta = timedelta(0)
    can: str = "unknown"
    to: str | None = None
    missed: int = 0


async def tend_ends(run: Run, known: dict[str, Tended]) -> tuple[datetime | None, list[HooperError]]:
    """Look at each end, and let those meet that need it; returns when it is wanted next.

    An end that hears nothing goes by its relay at once, and looks for the other end each half minute; one that goes by
    the relay does so each five minutes, and each hour where the NATs cannot be opened to each other; one that goes
    directly measures its ways each hour. All by the witness's clock, so that both ends come at the same time.
    """
    ends, trouble = meeting_ends(run.site, run.at.date()), list[HooperError]()
    for key in known.keys() - ends.keys():
        del known[key]

    async def one(end: MeetingEnd) -> None:
        tended = known.setdefault(end.key, Tended())
        try:
            await _tend(on_its_computer(run, end), end, tended)
        except HooperError as exc:
            trouble.append(exc.about(end.key))
            tended.due = _next(run, tended, 60)
            keep_conditions(run, [Condition(end.kind, end.key, "way", "unknown", "unknown", exc.told)])

    async with anyio.create_task_group() as tasks:
        for end in ends.values():
            tasks.start_soon(one, end)
    dues = [tended.due - tended.ahead for tended in known.values() if tended.due is not None]
    return min(dues, default=None), trouble


async def _tend(run: Run, end: MeetingEnd, tended: Tended) -> None:
    seen, now = await end_seen(run, end), run.here.clock.monotonic()
    first = tended.received < 0
    if seen.seen.received != tended.received:
        tended.received, tended.grew = seen.seen.received, now
    silent = (first and not alive(run, seen)) or now - tended.grew > SILENT_S
    if silent:
        await go_by_relay(run, end, seen)
    directly = tended.to is not None and seen.seen.came_from == tended.to  # else the other end has gone over
    due = _next(run, tended, _every(tended, directly=directly, silent=silent))
    tended.due = due if tended.due is None else min(due, tended.due)
    if not first and tended.due > run.here.clock.now() + tended.ahead:
        return
    row, ahead_s = await meet_end(run, end, WAIT_S)
    tended.ahead, tended.can = timedelta(seconds=ahead_s), row.can if row.came else tended.can
    tended.missed = 0 if row.came else tended.missed + 1
    if row.came:
        tended.to = next((way.to for way in row.ways if way.by == "direct"), None)
        silent, directly = silent and tended.to is None, tended.to is not None
    tended.due = _next(run, tended, _every(tended, directly=directly, silent=silent))


def _every(tended: Tended, *, directly: bool, silent: bool) -> int:
    """How often an end meets the other, in seconds."""
    if silent and tended.missed < MISSED:
        return APART_S
    return HOURLY_S if directly or tended.can == "cannot" else BY_RELAY_S


def _next(run: Run, tended: Tended, every_s: int) -> datetime:
    """The next multiple of so many seconds, by the witness's clock."""
    now = (run.here.clock.now() + tended.ahead).timestamp()
    return datetime.fromtimestamp((now // every_s + 1) * every_s, UTC)
