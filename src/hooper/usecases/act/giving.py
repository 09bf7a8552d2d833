"""A certificate is given, the server reads it, the handshake shows it; else the former one is put back.

What is under way stands in the certificate's folder: a run that was killed is gone on with by the next, which never
takes what it gave itself for what was there before.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from hooper.certs.documents import GivenDocument, GivenRow, ShownRow
from hooper.certs.file_places import FilePlace, Files, files_for, hand_over, reload
from hooper.certs.inspect import fingerprint_of
from hooper.certs.store import CertificateStore, Kept
from hooper.check.probes import probe
from hooper.check.targets import inner_targets, outer_targets
from hooper.errors import HooperError, UsageError
from hooper.files import make_folder, read_whole, write_atomically
from hooper.line.public import public_addresses
from hooper.places import Place
from hooper.store.kept import Condition
from hooper.store.locking import alone
from hooper.usecases.origins import open_place
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import AT
from hooper.usecases.watch.conditions import keep_conditions
from hooper.words.said import NOTHING, Said, quoted, say, together

AGAIN_S = 2.0  # seconds between two looks
UNSEEN_S = 5.0  # seconds for services that showed nothing before
ADDRESS_S = 3.0  # seconds to find the public address
Outcome = Literal["shown", "already", "put-back", "not-shown", "not-seen", "given", "failed", "nowhere"]


@dataclass(frozen=True)
class GiveRequest:
    """certificates: which. deadline: seconds for a handshake. again: also where it was given before."""

    certificates: tuple[str, ...]
    deadline: float = 5.0
    again: bool = False
    outside: bool = True
    dry_run: bool = False


@dataclass
class UnderWay:
    """What is written down before anything is changed. fingerprint: of the new one. seen: what each service showed
    before; null: nothing. former: the files that were there.
    """

    fingerprint: str
    seen: dict[str, str | None] = field(default_factory=dict)


async def give_certificates(run: Run, request: GiveRequest) -> tuple[GivenDocument, list[HooperError]]:
    """Give these, and prove it. Raises: UsageError: none is named, or a device keeps it."""
    rows, trouble = [], list[HooperError]()
    for key in request.certificates:
        if run.site.certificates[key].authority == "device":
            raise UsageError(f"{key} is kept by the device itself", remedy="Renew it there.")
        try:
            row = await give_one(run, key, request)
        except HooperError as exc:
            trouble.append(exc.about(key))
            row = GivenRow(key, "failed", (), quoted(exc.message))
        rows.append(row)
    return GivenDocument(tuple(rows)), trouble


async def give_one(run: Run, key: str, request: GiveRequest) -> GivenRow:
    """Give one. Raises: UsageError: there is none; MachineError, CommandFailed: it could not be given."""
    store = CertificateStore(run.kept.certificates)
    kept = store.kept(key)
    if kept is None:
        raise UsageError(f"{key} was not ordered yet", remedy="Order it first.")
    async with alone(run.kept.lock(f"giving-{key}"), run.here.clock, f"is giving {key}"):
        return await Giving(run, key, store, kept, request).run_it()


@dataclass
class Giving:
    """One certificate on its way to those who show it."""

    run: Run
    key: str
    store: CertificateStore
    kept: Kept
    request: GiveRequest

    def __post_init__(self) -> None:
        self.planned = self.run.site.certificates[self.key]
        self.fingerprint = fingerprint_of(self.kept.leaf)
        self.at = self.store.folder / self.key / "giving"

    @property
    def goes_somewhere(self) -> bool:
        return bool(self.planned.give_to or self.planned.give_command)

    async def run_it(self) -> GivenRow:
        """Give it unless it was given, look, and keep how it stands."""
        under_way = self._under_way()
        if not self.goes_somewhere:
            return self._row("nowhere", await self._look(), say("given-nowhere"))
        given = self._stands("given")
        if under_way is None and given in (self.fingerprint, f"put-back {self.fingerprint}") and not self.request.again:
            back = given != self.fingerprint
            return self._row("put-back" if back else "already", await self._look(), NOTHING)
        if self.run.here.world == "lab" and (self.planned.give_to or "").startswith("sftp://"):
            raise UsageError("SFTP would leave the town, whose devices have none", remedy="Name a folder instead.")
        if self.request.dry_run:
            return self._row("given", await self._look(), say("would-be-given", to=self._to()))
        if under_way is None:
            under_way = await self._begin()
        kept = {"chain": self.store.chain_path(self.key), "key": self.store.key_path(self.key)}
        went = await self._give(self.store.pair(self.key), kept)
        return await self._prove(under_way, went)

    # --- what is under way

    def _under_way(self) -> UnderWay | None:
        """What a run that was killed has begun with this very certificate."""
        try:
            found = json.loads(read_whole(self.at / "begun.json"))
            begun = UnderWay(str(found["fingerprint"]), dict(found["seen"]))
        except (OSError, ValueError, KeyError, TypeError):
            return None
        if begun.fingerprint != self.fingerprint:  # of one before: what was there before that is still the former
            begun.fingerprint = self.fingerprint
            self._write_down(begun)
        return begun

    async def _begin(self) -> UnderWay:
        """Keep what is there and what is seen, then write down that it begins."""
        seen = {row.service: row.fingerprint for row in await self._look()}
        former = await FilePlace(self.planned, self.run.base).read(self._files()) if self.planned.give_to else {}
        make_folder(self.at / "former", private=True)
        for name in [path.name for path in (self.at / "former").iterdir()]:
            (self.at / "former" / name).unlink()
        for name, data in former.items():
            write_atomically(self.at / "former" / name, data, private=True)
        begun = UnderWay(self.fingerprint, seen)
        self._write_down(begun)
        return begun

    def _write_down(self, begun: UnderWay) -> None:
        text = json.dumps({"fingerprint": begun.fingerprint, "seen": begun.seen})
        write_atomically(self.at / "begun.json", text.encode(), private=True)

    def _end(self) -> None:
        (self.at / "begun.json").unlink(missing_ok=True)

    def _files(self) -> Files:
        return files_for(self.planned, self.run.base, self.store.pair(self.key))

    def _former(self) -> Files:
        folder = self.at / "former"
        return {path.name: path.read_bytes() for path in sorted(folder.glob("*"))} if folder.is_dir() else {}

    def _to(self) -> str:
        return self.planned.give_to or Path(self.planned.give_command[0]).name

    # --- giving, and looking

    async def _give(self, pair: bytes, kept: Mapping[str, Path] | None = None) -> Said:
        went: list[Said] = []
        if self.planned.give_to is not None:
            went.append(
                await FilePlace(self.planned, self.run.base).write(files_for(self.planned, self.run.base, pair))
            )
        went.append(await hand_over(self.planned, self.run.base, pair, kept))
        await reload(self.planned, self.run.base)
        return together(went, ", ")

    async def _prove(self, begun: UnderWay, went: Said) -> GivenRow:
        patience = self.planned.give_wait if any(begun.seen.values()) else min(self.planned.give_wait, UNSEEN_S)
        rows = await self._until(dict.fromkeys(self.planned.services, self.fingerprint), patience)
        lost = [row for row in rows if begun.seen.get(row.service) is not None and row.fingerprint != self.fingerprint]
        if not lost:
            self._end()
            shown = any(row.fingerprint == self.fingerprint for row in rows)
            self._keep(self.fingerprint, "fact", went)
            outcome: Outcome = "shown" if shown else "not-seen" if rows else "given"
            return self._row(outcome, await self._outside(rows), went)
        names = ", ".join(row.service for row in lost)
        if not await self._put_back():
            self._end()
            self._keep(self.fingerprint, "fact", went)
            return self._row("not-shown", rows, say("given-not-shown", services=names))
        former = {key: seen for key, seen in begun.seen.items() if seen is not None}
        rows = await self._until(former, self.planned.give_wait)
        self._end()
        back = all(row.fingerprint == begun.seen.get(row.service) for row in rows if begun.seen.get(row.service))
        said = say("put-back-shown" if back else "put-back-not-shown", services=names)
        self._keep(f"put-back {self.fingerprint}", "wrong", said, "certificate-not-shown")
        return self._row("put-back", rows, said)

    async def _put_back(self) -> bool:
        """Give what was there before once more; whether there was anything."""
        former = self._former()
        if self.planned.give_to is not None and former:
            await FilePlace(self.planned, self.run.base).write(former)
            await reload(self.planned, self.run.base)
            return True
        earlier = next(iter(self.store.earlier(self.key)), None)
        if self.planned.give_to is None and earlier is not None:
            await self._give(self.store.pair(self.key, earlier))
            return True
        return False

    async def _until(self, wanted: Mapping[str, str | None], patience: float) -> list[ShownRow]:
        """What the services show once it is what is wanted, or the patience is over, in seconds."""
        end = self.run.here.clock.monotonic() + patience
        while True:
            rows = await self._look()
            done = all(row.fingerprint == wanted[row.service] for row in rows if row.service in wanted)
            if done or self.run.here.clock.monotonic() + AGAIN_S > end:
                return rows
            await self.run.here.clock.sleep(AGAIN_S)

    async def _look(self) -> list[ShownRow]:
        rows = []
        for service in self.planned.services:
            for target in list(inner_targets(self.run.topology, [service]))[:1]:
                seen = await probe(self.run.here, target, self.request.deadline)
                rows.append(ShownRow(service, "inside", seen.fingerprint, self._state(seen.fingerprint)))
        return rows

    def _state(self, fingerprint: str | None) -> Literal["shown", "another", "none"]:
        return "none" if fingerprint is None else "shown" if fingerprint == self.fingerprint else "another"

    async def _outside(self, rows: list[ShownRow]) -> list[ShownRow]:
        """The same from the places that the keeper looks from; a place that cannot be had is left out."""
        if not self.request.outside:
            return rows
        found = list(rows)
        for place in self.run.site.keep.places:
            if place.kind not in ("here", "hotspot"):
                try:
                    found += await self._seen_from(place)
                except HooperError as exc:
                    self.run.trouble.append(exc)
        return found

    async def _seen_from(self, place: Place) -> list[ShownRow]:
        run, services, rows = self.run, self.planned.services, list[ShownRow]()
        door = await open_place(run, place, self.request.deadline)
        lines = tuple({run.topology.lines[key] for key in services if key in run.topology.lines})
        known = await public_addresses(run.here, run.site, lines, run.given({}), ADDRESS_S)
        public = {line: one.address.value for line, one in known.items() if one.address.value is not None}
        for target in outer_targets(run.topology, services, public, None)[0]:
            if target.address is not None:
                shown = (await probe(door, target, self.request.deadline)).fingerprint
                rows.append(ShownRow(target.service, str(place), shown, self._state(shown)))
        return rows

    # --- what is kept of it

    def _stands(self, aspect: str) -> str | None:
        conditions = self.run.kept.history.conditions()
        return next(
            (one.condition.state for one in conditions
             if (one.condition.kind, one.condition.subject, one.condition.aspect) == ("certificate", self.key, aspect)),
            None,
        )  # fmt: skip

    def _keep(self, state: str, level: Literal["fact", "wrong"], said: Said, cause: str | None = None) -> None:
        keep_conditions(self.run, [Condition("certificate", self.key, "given", state, level, said, cause)])

    def _row(self, outcome: Outcome, rows: list[ShownRow], said: Said) -> GivenRow:
        inside = [row for row in rows if row.place == "inside"]
        keep_conditions(self.run, [self._condition(row) for row in inside])
        return GivenRow(self.key, outcome, tuple(rows), said)

    def _condition(self, row: ShownRow) -> Condition:
        aspect, service = f"{AT}{row.service}", row.service
        if row.state == "none":
            detail = say("shows-none-now", service=service)
            return Condition("certificate", self.key, aspect, "not-seen", "unknown", detail, steady=True)
        if row.state == "shown":
            detail = say("service-shows-it", service=service)
            return Condition("certificate", self.key, aspect, "shown", "well", detail)
        detail = say("service-shows-another", service=service)
        return Condition("certificate", self.key, aspect, "another-one", "wrong", detail, "certificate-not-shown")
