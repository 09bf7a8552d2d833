"""A look from elsewhere by a machine that knows nothing of the site but one small file, and its result brought home."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import re
import secrets
import tempfile
import tomllib
from collections.abc import Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import anyio

from hooper import deeds
from hooper.addresses import classify, parse_address
from hooper.check.checking import check_services
from hooper.check.handshake_keys import PinnedKey, ProbeKeys, TunnelKeys
from hooper.check.results import CheckDocument
from hooper.check.targets import inner_targets, outer_targets
from hooper.check.wish import Outcome, Wish
from hooper.clock import read_moment, rfc3339
from hooper.errors import HooperError, MachineError, RefusedForSafety, UsageError
from hooper.evidence.observations import service_subject
from hooper.files import read_text, write_atomically
from hooper.jsonform import kept, plain, read_json
from hooper.line.public import public_addresses
from hooper.line.sources import PublicAddress
from hooper.net.bounded import BoundedDoor
from hooper.net.types import Endpoint
from hooper.net.whereabouts import at_home
from hooper.places import Place
from hooper.planning.plan import gather
from hooper.planning.topology import Topology
from hooper.planning.typed import name_for
from hooper.planning.unfolded import side_doors
from hooper.site.load import SiteFile
from hooper.site.model import Site
from hooper.site.references import mistakes_between_tables
from hooper.sourced import Sourced
from hooper.store.kept import PageKnown, StoredInside
from hooper.usecases.prove.check import document_of
from hooper.usecases.prove.keeping_looks import keep_look
from hooper.usecases.prove.probing import probe_keys
from hooper.usecases.run import Run
from hooper.wire.wireguard import tai64n
from hooper.words.said import say

if TYPE_CHECKING:
    from collections.abc import Iterator

PACK, RESULT = "Made by Hooper: visit 1", "Made by Hooper: result of visit 1"
# What of the site file a look from outside needs; no table of persons, secrets, updaters or tunnels is among it.
TAKEN: dict[str, tuple[str, ...]] = {
    "lines": ("address", "blocked", "prefix6"),
    "gateways": ("line", "behind", "wan", "lan", "address6", "everything_to", "form"),
    "hosts": ("address", "address6"),
    "services": (
        "host", "speaks", "transport", "port", "reach", "outside_port", "outside_address", "family", "sources", "line",
        "name", "path", "expect",
    ),
    "names": ("line", "types", "host"),
    "certificates": ("names", "services"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class PackedInside:
    """What a service looked like from inside. at: as RFC 3339 writes it. title: of its page, kept as its own."""

    service: str
    transport: str
    port: int
    verdict: Literal["answered", "connected"]
    fingerprint: str | None
    greeting: str | None
    at: str
    title: str | None = None


@dataclass(frozen=True, slots=True)
class PackedKey:
    """What one handshake takes: of WireGuard the probe's private key and the server's public one, of SSH the key's
    kind and fingerprint.
    """

    service: str
    tunnel: str
    kind: Literal["wireguard", "ssh"]
    first: str
    second: str


@dataclass(frozen=True, slots=True)
class Pack:
    """The file that is taken along. seal: by which its result is known again at home. public: addresses by line, with
    the moment. trust: roots of the site's own authorities, in PEM. site: as the site file has it, as far as is needed.
    """

    form: str
    id: str
    seal: str
    made: str
    expires: str
    title: str
    services: tuple[str, ...]
    site: dict[str, Any]
    public: dict[str, tuple[str, str]]
    inside: tuple[PackedInside, ...]
    keys: tuple[PackedKey, ...]
    trust: str


@dataclass(frozen=True, slots=True)
class Brought:
    """The result of a visit, as its file has it. proof: of the pack, over all the rest."""

    form: str
    id: str
    at: str
    place: str
    looked_from: dict[str, Any]
    results: tuple[dict[str, Any], ...]
    proof: str


# --- at home, before


@dataclass(frozen=True, slots=True)
class PackedDocument:
    """`hooper visit pack`. file: that was written; null: it was not yet. expires: until when it can be used.

    services: that it looks at. secrets: what in it is secret, in words. remarks: what it cannot prove.
    """

    file: str | None
    expires: str
    services: tuple[str, ...]
    secrets: tuple[str, ...]
    remarks: tuple[str, ...]


async def make_pack(
    run: Run, services: tuple[str, ...], lasts: timedelta, deadline: float
) -> tuple[tuple[PackedDocument, bytes], list[HooperError]]:
    """The file to take along, and what is said of it.

    services: which. lasts: how long it can be used. deadline: seconds for the look at home. Raises: NoNetwork,
    MachineError: there is no state.
    """
    if run.state is None:
        raise MachineError("without its state, Hooper would not know the result again", remedy="Mend the state.")
    wish = Wish(run.topology, services, deadline, run.given(), base=run.base)
    around = await run.here.surroundings()
    if at_home(run.site, around) is not None:
        keep_look(run, await check_services(run.here, wish, memory=run.memory))
    public = await public_addresses(run.here, run.site, tuple(run.site.lines), wish.known, deadline, names=True)
    keys, remarks = _packed_keys(run, services)
    pack = Pack(
        form=PACK,
        id=secrets.token_hex(8),
        seal=secrets.token_hex(16),
        made=rfc3339(run.at),
        expires=rfc3339(run.at + lasts),
        title=run.site.site.title or "",
        services=services,
        site=_site_part(run.file),
        public={line: (str(one.address.value), rfc3339(one.address.at or run.at)) for line, one in public.items()
                if one.address.value is not None},
        inside=_packed_inside(run, services),
        keys=keys,
        trust=_trust(run),
    )  # fmt: skip
    bases = json.dumps({subject: run.basis(subject) for subject in map(service_subject, services)})
    run.state.values.keep(run.at, {f"visit:{pack.id}": f"{pack.seal} {pack.expires} {pack.made} {bases}"})
    told = tuple(f"the probe's key of {key.tunnel}" for key in keys if key.kind == "wireguard")
    document = PackedDocument(None, pack.expires, services, told, remarks)
    return (document, (json.dumps(plain(pack), indent=1, ensure_ascii=False) + "\n").encode()), []


def _site_part(file: SiteFile) -> dict[str, Any]:
    """What of the site file is needed."""
    raw = tomllib.loads(file.text.removeprefix("\ufeff"))
    out: dict[str, Any] = {"version": 1}
    for table, fields in TAKEN.items():
        rows = raw.get(table, {})
        out[table] = {key: {name: row[name] for name in fields if name in row} for key, row in rows.items()}
    measure = raw.get("measure", {})
    out["measure"] = {name: measure[name] for name in ("stun", "resolvers") if name in measure}
    return out


def _packed_inside(run: Run, services: tuple[str, ...]) -> tuple[PackedInside, ...]:
    found = []
    for target in inner_targets(run.topology, services):
        seen = run.kept.ledger.inside(target.service, target.transport, target.port)
        if seen is not None:
            one = (seen.verdict, seen.fingerprint, seen.greeting, seen.at)
            page = run.kept.ledger.page(target.service, target.transport, target.port)
            title = page.title if page is not None else None
            found.append(PackedInside(target.service, target.transport, target.port, *one, title))
    return tuple(found)


def _packed_keys(run: Run, services: tuple[str, ...]) -> tuple[tuple[PackedKey, ...], tuple[str, ...]]:
    """The keys that probes need, and what is left out: a key that all peers share is no probe's."""
    packed: list[PackedKey] = []
    remarks: list[str] = []
    for service, keys in probe_keys(run).items():
        if service not in services:
            continue
        if isinstance(keys, ProbeKeys):
            private, server = base64.b64encode(keys.private).decode(), base64.b64encode(keys.server).decode()
            packed.append(PackedKey(service, keys.tunnel, "wireguard", private, server))
        elif isinstance(keys, PinnedKey):
            packed.append(PackedKey(service, keys.tunnel, "ssh", keys.kind, keys.fingerprint))
        else:
            remarks.append(f"{service}: the key that all peers of {keys_of(keys)} share is not taken along, so silence"
                           " there will prove nothing.")  # fmt: skip
    return tuple(packed), tuple(remarks)


def keys_of(keys: TunnelKeys) -> str:
    """The tunnel that keys are of."""
    return str(getattr(keys, "tunnel", "the tunnel"))


def _trust(run: Run) -> str:
    """The roots of the site's own authorities, in PEM."""
    out = []
    for authority in run.site.authorities.values():
        if authority.trust is not None:
            try:
                out.append(read_text(run.base / authority.trust.place))
            except HooperError as exc:
                run.trouble.append(exc)
    return "\n".join(out)


# --- elsewhere


class VisitExpired(RefusedForSafety):
    """The pack may not be used any more."""

    code = "visit-expired"
    remedy = f"Make another one at home: `{deeds.PACK}`."


def read_pack(path: Path) -> Pack:
    """The pack of a file. Raises: MachineError: it cannot be read; UsageError: it is none, or damaged."""
    remedy = f"Give the file that `{deeds.PACK}` wrote at home."
    try:
        pack = read_json(Pack, read_text(path).encode())
        if pack.form != PACK:
            raise ValueError(pack.form)
        for moment in (pack.made, pack.expires, *(at for _, at in pack.public.values())):
            read_moment(moment)
        for text, _ in pack.public.values():
            parse_address(text)
        if not re.fullmatch(r"[0-9a-f]{32}", pack.seal):
            raise ValueError("seal")
        for key in pack.keys:
            if key.kind == "wireguard" and {len(base64.b64decode(one, validate=True)) for one in _both(key)} != {32}:
                raise ValueError("key")
        return pack
    except ValueError:
        raise UsageError(f"{path} is no file for a visit, or it is damaged", remedy=remedy) from None


def _both(key: PackedKey) -> tuple[str, str]:
    return key.first, key.second


def packed_site(pack: Pack, name: str) -> SiteFile:
    """The site as far as the pack tells it. Raises: UsageError: it is damaged."""
    raw = dict(pack.site)
    try:
        raw["names"] = {key: {**row, "updated_by": "router"} for key, row in raw.get("names", {}).items()}
        if pack.trust:
            raw["authorities"] = {"own": {"directory": "https://unknown.invalid/", "trust": "file:roots.pem"}}
        file = SiteFile(name, "", Site.model_validate(raw))
        if set(pack.services) - file.site.services.keys() or set(pack.public) - file.site.lines.keys():
            raise ValueError("services")
        if mistakes_between_tables(file.site):
            raise ValueError("references")
        return file
    except (ValueError, TypeError, AttributeError):
        raise UsageError(f"{name} is damaged: it makes no site", remedy="Make another one at home.") from None


class VisitTooWide(RefusedForSafety):
    """A pack asks for more than any home has."""

    code = "visit-too-wide"
    remedy = "Do not use it, and ask who gave it to you; a pack of a home looks at a few ports."


MOST_PORTS, MOST_NAMES, MOST_LINES = 64, 16, 8
FURTHER = 64  # name servers and STUN servers, each with its port


@dataclass(frozen=True, slots=True)
class Asks:
    """Whom a pack has somebody ask. ports: as people write them. servers: STUN servers and resolvers that it names."""

    names: tuple[str, ...]
    addresses: tuple[str, ...]
    ports: tuple[str, ...]
    servers: tuple[str, ...]

    def words(self) -> list[str]:
        """One line each."""
        many = f"{len(self.ports)} ports" if len(self.ports) != 1 else "one port"
        found = [f"{', '.join((*self.names, *self.addresses)) or 'nobody'}, at {many}: {', '.join(self.ports)}"]
        if self.names:
            found.append("the name servers of those names")
        return found + ([f"the servers {', '.join(self.servers)}"] if self.servers else [])


def asks_of(pack: Pack, file: SiteFile) -> Asks:
    """Whom a visit by this pack would ask. Raises: VisitTooWide; UsageError: it is damaged."""
    site, topology = file.site, Topology(file.site)
    addresses = {line: parse_address(text) for line, (text, _) in pack.public.items()}
    fixed = {key: line.address[0] for key, line in site.lines.items() if line.address}
    doors = side_doors(topology, gather(file, read_moment(pack.made).date(), topology).forwards)
    targets, _ = outer_targets(topology, pack.services, {**fixed, **addresses}, None, doors, six=True)
    ports = sorted({(target.transport, target.port) for target in targets})
    everybody = {str(one) for one in (*addresses.values(), *(a for line in site.lines.values() for a in line.address))}
    everybody |= {str(target.address) for target in targets if target.address is not None}
    names = sorted({name for key in pack.services if (name := name_for(topology, key)) is not None})
    inner = [text for text in sorted(everybody) if not classify(parse_address(text)).reachable]
    if inner:
        raise VisitTooWide(f"it would ask {inner[0]}, which is no public address")
    if len(ports) > MOST_PORTS or len(names) > MOST_NAMES or len(everybody) > MOST_LINES:
        wide = f"{len(ports)} ports, {len(names)} names and {len(everybody)} addresses"
        raise VisitTooWide(f"it would ask {wide}")
    servers = [str(Endpoint(*one)) for one in (*site.measure.stun, *site.measure.resolvers)]
    if len(servers) > MOST_LINES:
        raise VisitTooWide(f"it would ask {len(servers)} servers")
    words = tuple(f"{transport.upper()} {port}" for transport, port in ports)
    return Asks(tuple(names), tuple(sorted(everybody)), words, tuple(servers))


@dataclass
class _PackedMemory:
    """What the inside looked like, as the pack tells it."""

    rows: Mapping[tuple[str, str, int], PackedInside] = field(default_factory=dict)

    def inside(self, service: str, transport: str, port: int) -> StoredInside | None:
        one = self.rows.get((service, transport, port))
        return StoredInside(one.verdict, one.fingerprint, one.greeting, one.at) if one is not None else None

    def page(self, service: str, transport: str, port: int) -> PageKnown | None:
        one = self.rows.get((service, transport, port))
        return PageKnown(one.title, ()) if one is not None else None

    def rule(self, service: str, gateway: str) -> None:
        return None

    def showing(self, fingerprint: str) -> tuple[str, ...]:
        return tuple(one.service for one in self.rows.values() if one.fingerprint == fingerprint)


async def visit(
    run: Run, pack: Pack, place: str, deadline: float
) -> tuple[tuple[CheckDocument, bytes], list[HooperError]]:
    """Look from here, which is elsewhere; gives the document and the file to bring home.

    place: where this is, in the person's words; empty: not told. deadline: seconds for the look. Raises: NoNetwork,
    VisitExpired, UsageError: the pack is damaged.
    """
    now = run.here.clock.now()
    if now > read_moment(pack.expires):
        raise VisitExpired(f"this file could be used until {pack.expires}")
    topology, origin = run.topology, Place("visit", place or "elsewhere")
    with _trusted(pack) as base:
        wish = Wish(
            topology, pack.services, deadline, run.given(), base=base, origin=origin, heard=run.progress,
            public=_public(run, pack), keys=_keys(pack),
            doors=tuple(side_doors(topology, gather(run.file, now.date(), topology).forwards)),
        )  # fmt: skip
        memory = _PackedMemory({(one.service, one.transport, one.port): one for one in pack.inside})
        around = await run.here.surroundings()
        most = len(asks_of(pack, run.file).ports) * MOST_LINES + FURTHER
        door = BoundedDoor(run.here, most, frozenset(around.resolvers))
        outcome = await check_services(door, wish, door, memory)
    return (document_of(outcome), _sealed(pack, outcome, now)), outcome.errors


def _public(run: Run, pack: Pack) -> dict[str, PublicAddress]:
    """The lines' addresses as they were at home. One that may have changed since counts only where no name tells it."""
    out = {}
    for line, (text, at) in pack.public.items():
        changing = line in run.site.lines and not run.site.lines[line].address
        named = any(name_for(run.topology, key) for key in pack.services if run.topology.lines[key] == line)
        if not (changing and named):
            value = Sourced(parse_address(text), say("as-it-was-at-home"), read_moment(at), "surveyed")
            out[line] = PublicAddress(line, value)
    return out


def _keys(pack: Pack) -> dict[str, TunnelKeys]:
    out: dict[str, TunnelKeys] = {}
    for key in pack.keys:
        if key.kind == "ssh":
            out[key.service] = PinnedKey(key.tunnel, key.first, key.second)
            continue
        last = [b""]

        def label(moment: datetime, last: list[bytes] = last) -> bytes:
            last[0] = tai64n(moment, last[0])
            return last[0]

        private, server = base64.b64decode(key.first), base64.b64decode(key.second)
        out[key.service] = ProbeKeys(key.tunnel, private, server, label, anyio.Lock())
    return out


@contextmanager
def _trusted(pack: Pack) -> Iterator[Path]:
    """A folder with the roots that the pack brings. Raises: MachineError."""
    with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
        roots = Path(folder) / "roots.pem"
        write_atomically(roots, pack.trust.encode())
        yield roots.parent


def _sealed(pack: Pack, outcome: Outcome, now: datetime) -> bytes:
    origin = outcome.origin
    brought = Brought(
        RESULT, pack.id, rfc3339(now), origin.name, plain(origin), tuple(kept(one) for one in outcome.results), ""
    )
    brought = replace(brought, proof=proof_of(brought, pack.seal))
    return (json.dumps(plain(brought), indent=1, ensure_ascii=False) + "\n").encode()


def proof_of(brought: Brought, seal: str) -> str:
    """HMAC-SHA256 by the pack's seal over the rest as JSON, with sorted keys and without spaces."""
    body = plain(replace(brought, proof=""))
    text = json.dumps(body, sort_keys=True, separators=(",", ":"), ensure_ascii=True)
    return hmac.new(bytes.fromhex(seal), text.encode(), hashlib.sha256).hexdigest()
