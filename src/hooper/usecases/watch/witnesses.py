"""A site and its witnesses: joining, saying that it is there, looking from them, leaving."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.store import CertificateStore
from hooper.errors import HooperError, UsageError
from hooper.line.facts import ClockRow
from hooper.planning.documents import EditDocument
from hooper.planning.edits import Edited, add, again, change, remove
from hooper.planning.typed import name_for
from hooper.store.kept import Condition
from hooper.usecases.origins import ASK_S, found, site_key
from hooper.usecases.prepare.edits import edit
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions
from hooper.wire.witness_talk import MOST, Beat, Invitation, Watched, in_base64
from hooper.witness.client import Beaten, WitnessFound, asked_once, beat, new_nonce
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.site.load import SiteFile


@dataclass(frozen=True)
class WitnessRow:
    """A witness of this site. witness: its name in the site file. at: where it is found. pin: of its key. silence_s:
    after how long it tells people, in seconds.

    answers: null: it was not asked. you: the address that it sees this site at. behind_s: by how much this computer's
    clock is behind its own; less than 0: ahead. told: what it has told people of this site. detail: in words.
    """

    witness: str
    at: str
    pin: str
    silence_s: float
    answers: bool | None
    you: str | None
    behind_s: float | None
    told: str | None
    detail: str


@dataclass(frozen=True)
class WitnessesDocument:
    """`hooper witness list`, `hooper witness show`. witnesses: one row each."""

    witnesses: tuple[WitnessRow, ...]


# --- joining and leaving


async def join(run: Run, code: str, key: str, *, dry_run: bool) -> tuple[EditDocument, list[HooperError]]:
    """Join a witness by its invitation, and write it down. Raises: UsageError; WitnessFailed, WitnessRefuses."""
    try:
        invited = Invitation.read(code)
    except ValueError as exc:
        remedy = f"Copy all of what `{deeds.INVITE}` printed there."
        raise UsageError(f"this is no invitation: {exc}", remedy=remedy) from None
    if dry_run:
        return edit(run, lambda file: _written(file, key, invited), dry_run=True)
    again(run.file, _written(run.file, key, invited).text)  # whether it can be, before it is used up
    to = WitnessFound(key, invited.host, invited.port, invited.pin)
    body = {"do": "join", "secret": in_base64(invited.secret), "title": (run.site.site.title or run.path.stem)[:80]}
    await asked_once(run.here, to, site_key(run), body, ASK_S)
    return edit(run, lambda file: _written(file, key, invited), dry_run=False)


def _written(file: SiteFile, key: str, invited: Invitation) -> Edited:
    host = f"[{invited.host}]" if ":" in invited.host else invited.host
    rows = {"at": f"{host}:{invited.port}", "pin": f"sha256:{invited.pin.hex()}"}
    return change(file, "witnesses", key, rows) if key in file.site.witnesses else add(file, "witnesses", key, rows)


async def leave(run: Run, key: str, *, dry_run: bool) -> tuple[EditDocument, list[HooperError]]:
    """Have a witness forget this site, and take it out of the site file. Raises: as `edit`."""
    trouble: list[HooperError] = []
    if not dry_run:
        try:
            await asked_once(run.here, found(run, key), site_key(run), {"do": "leave"}, ASK_S)
        except HooperError as exc:  # it may be gone for good
            trouble.append(exc)
    document, more = edit(run, lambda file: remove(file, "witnesses", key), dry_run=dry_run)
    return document, [*trouble, *more]


# --- saying that it is there


def beat_of(run: Run, key: str) -> Beat:
    """What a witness is told: what it looks at once nobody speaks any more."""
    site, topology = run.site, run.topology
    watch = [
        Watched(one, transport, ports.first, site.services[one].speaks, name_for(topology, one) or "")
        for one, ports in topology.outside_ports.items()
        for transport in (site.services[one].used_transport.replace("both", "tcp"),)
        if transport in ("tcp", "udp") and site.services[one].reach == "public"
    ]
    ends: list[tuple[str, str]] = []
    if run.state is not None and site.certificates:
        store = CertificateStore(run.state.certificates)
        kept = {one: store.kept(one) for one, entry in site.certificates.items() if entry.authority != "device"}
        ends = [(one, str(found.leaf.not_valid_after_utc.date())) for one, found in kept.items() if found is not None]
    names = tuple(name for name in site.names if "*" not in name)
    agreed = round(site.witnesses[key].silence)
    return Beat(new_nonce(), agreed, tuple(watch[:MOST]), names[:MOST], tuple(ends[:MOST]))


async def say_there(run: Run, key: str) -> Beaten:
    """Say to one witness that this site is there. Raises: WitnessFailed, WitnessRefuses, StateError, MachineError."""
    return await beat(run.here, found(run, key), site_key(run), beat_of(run, key), ASK_S)


async def say_there_to_all(run: Run) -> list[HooperError]:
    """Say it to all, and keep how each stands; the trouble on the way."""
    trouble: list[HooperError] = []
    seen: dict[str, str] = {}
    for key in run.site.witnesses:
        try:
            seen[key] = (await say_there(run, key)).you
        except HooperError as exc:
            trouble.append(exc)
            keep_conditions(run, [_stands(run, key, exc)])
    keep_conditions(run, list(of_seen(seen)))
    return trouble


def of_seen(seen: Mapping[str, str]) -> Iterator[Condition]:
    """How those that answer stand. seen: where each sees this site; one that sees it elsewhere than most is told of, of
    each family by itself: a proxy or another line is on the way to it, or it is not what it was.
    """
    for key, you in seen.items():
        alike = [other for other in seen.values() if (":" in other) == (":" in you)]
        most, times = Counter(alike).most_common(1)[0]
        if you != most and times > 1:
            yield Condition("witness", key, "", "odd", "unknown", say("witness-odd", you=you, most=most), steady=True)
        else:
            yield Condition("witness", key, "", "there", "well", say("witness-sees", you=you))


def _stands(run: Run, key: str, exc: HooperError) -> Condition:
    """How a witness stands that did not answer: gone, once it has not for a while."""
    before = next((one for one in run.kept.history.conditions()
                   if (one.condition.kind, one.condition.subject) == ("witness", key)), None)  # fmt: skip
    lately = (
        before is not None
        and before.condition.state == "there"
        and ((run.here.clock.now() - before.at).total_seconds() < run.site.witnesses[key].silence)
    )
    if lately and before is not None:
        return before.condition._replace(detail=exc.told)
    return Condition("witness", key, "", "gone", "wrong", exc.told, "witness-gone")


async def list_witnesses(run: Run, keys: tuple[str, ...], *, ask: bool) -> tuple[WitnessesDocument, list[HooperError]]:
    """The witnesses of this site. ask: each is asked whether it is there. Raises: StateError, MachineError."""
    rows = []
    for key in keys:
        entry = run.site.witnesses[key]
        at = f"{entry.at[0]}:{entry.at[1]}"
        row = WitnessRow(key, at, entry.pin, entry.silence, None, None, None, None, "")
        if ask:
            try:
                said = await say_there(run, key)
            except HooperError as exc:
                row = WitnessRow(key, at, entry.pin, entry.silence, False, None, None, None, exc.message)
            else:
                behind = round((said.now - said.ours).total_seconds(), 1)
                words = "it has told people that this site is silent" if said.told else "it sees this site"
                row = WitnessRow(key, at, entry.pin, entry.silence, True, said.you, behind, said.told, words)
        rows.append(row)
    return WitnessesDocument(tuple(rows)), []


async def clock_by_witness(run: Run) -> ClockRow | None:
    """This computer's clock by the signed time of the first witness that answers; None: none does."""
    for key in run.site.witnesses:
        try:
            said = await say_there(run, key)
        except HooperError:
            continue
        return ClockRow(f"witness {key}", round((said.now - said.ours).total_seconds(), 1), said.within_s)
    return None
