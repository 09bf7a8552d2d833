"""What another package looks like that adds a part of each kind; its entry points stand in `test_added`.

The publisher writes a notice board (a file), the driver keeps a router's table in a file, the tunnel is a rope, and the
page is one that no browser made.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from datetime import date, datetime
from pathlib import Path

from hooper.addresses import IPAddress, parse_address
from hooper.gateways.driver import RouterRefuses
from hooper.names.publish import Setting, UpdaterRefuses, UpdaterSaid
from hooper.net.types import Door
from hooper.planning.against import TableRow
from hooper.planning.openers import cannot_say
from hooper.planning.saved_page import PageRead
from hooper.planning.topology import Topology
from hooper.planning.values import Forward, Plan
from hooper.ports import single
from hooper.secret import Secret
from hooper.site.model import Site, Updater
from hooper.site.tunnel_kinds import TunnelKind
from hooper.store.entries import LiveRule
from hooper.tunnels.common import Profile, ServerFiles, keys_of, mark_of
from hooper.tunnels.documents import Field
from hooper.tunnels.keys import KeyRing
from hooper.tunnels.works import Software, Works


@dataclass(frozen=True)
class Board:
    """Names as lines of a file."""

    path: Path
    together: bool = True

    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid:
        if not self.path.parent.is_dir():
            raise UpdaterRefuses("there is no such board")
        self.path.write_text("".join(f"{one.name} {one.kind} {one.value}\n" for one in settings))
        return UpdaterSaid("done", "chalked up")

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        return await self.set([Setting(name, "TXT", value)])

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        return UpdaterSaid("unchanged", "chalk does not last")


def board(door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float) -> Board:
    return Board(base / updater.options["board"])


@dataclass
class Box:
    """A router whose table is a file."""

    path: Path
    wan: IPAddress
    protocol: str = "boathouse-box"
    device: str = "a box on the wall"
    where: str = "the wall"
    longest_s: int = 3600

    def cannot(self, forward: Forward) -> str | None:
        return "the box knows no UDP" if forward.transport == "udp" else cannot_say("igd", forward)

    def entries(self, forward: Forward, label: str, lease_s: int) -> Iterator[LiveRule]:
        assert forward.outside_ports is not None
        assert forward.target_ports is not None
        for number in range(forward.outside_ports[1] - forward.outside_ports[0] + 1):
            outside, inside = forward.outside_ports[0] + number, forward.target_ports[0] + number
            for source in forward.sources or ("",):
                address = source.partition("/")[0]
                yield LiveRule("tcp", outside, forward.target_address, inside, address, label, True, lease_s)

    async def external_address(self) -> IPAddress | None:
        return self.wan

    async def connected(self) -> bool:
        return True

    async def table(self) -> list[LiveRule]:
        return [LiveRule(**row) for row in json.loads(self.path.read_text())] if self.path.exists() else []

    def _keep(self, rules: list[LiveRule]) -> None:
        self.path.write_text(json.dumps([asdict(rule) for rule in rules]))

    async def add(self, rule: LiveRule) -> LiveRule:
        there = await self.table()
        if any(one.key == rule.key and not one.leads_as(rule) for one in there):
            raise RouterRefuses(f"{rule.transport} {rule.outside_port} is taken", "taken")
        self._keep([*(one for one in there if not one.leads_as(rule)), rule])
        return rule

    async def renew(self, rule: LiveRule) -> LiveRule:
        return await self.add(rule)

    async def delete(self, rule: LiveRule) -> None:
        self._keep([one for one in await self.table() if not one.leads_as(rule)])


async def box(door: Door, site: Site, gateway: str, deadline: float) -> Box:
    entry = site.gateways[gateway]
    return Box(Path(entry.options["table"]), parse_address(str(entry.wan[0])))


@dataclass(frozen=True)
class RopeProfile(Profile):
    ending = ".rope"


class Rope(Works):
    """A tunnel by a rope."""

    kind = TunnelKind(
        name="a-rope", label="a rope", speaks="tcp", key="wireguard", fields=frozenset({"subnet", "load_by"}),
        servers=("linux",), only_there="ropes hang on Linux", instead='Write `server = "linux"`.', ending=".rope",
        software="the rope's own program", page="ropes", stopped="untie {name}", overhead=lambda tcp: 90,
        server_key=True, keyed=True,
    )  # fmt: skip
    software = Software(
        "the rope's program", "Open the file.", "Install the rope's program.", "on Linux tie {name}", "Tie it.", "Tie.",
        "Both ends hold.", "It hangs loose.",
    )  # fmt: skip
    folder = "/etc/rope"

    def profile_of(self, topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> Profile:
        server, own = keys_of(topology.site, key)
        tunnel = topology.site.peers[key].tunnel
        return RopeProfile(key, tunnel, "203.0.113.44:4444", own, server, ("10.44.7.0/24",))

    def peer_files(self, topology: Topology, profile: Profile, ring: KeyRing, today: date) -> dict[str, str]:
        private = ring.private(profile.public_key)
        assert private is not None
        return {f"{profile.peer}.rope": f"rope to {profile.endpoint}\nknot {private.reveal()}\n"}

    def server_mark(self, topology: Topology, key: str, today: date, plan: Plan | None) -> str:
        return mark_of(repr(topology.site.tunnels[key]) + topology.site.tunnels[key].options.get("length", "10 m"))

    def server_files(
        self, topology: Topology, key: str, ring: KeyRing, now: datetime, folder: str, plan: Plan | None = None
    ) -> ServerFiles:
        length = topology.site.tunnels[key].options.get("length", "10 m")
        files = {f"{key}.rope": f"length {length}\nin {folder}\n"}
        return ServerFiles(files, frozenset(files), self.server_mark(topology, key, now.date(), plan))

    def loading(self, site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
        yield f"Tie {key} to {folder}."

    def server_fields(self, topology: Topology, key: str, secrets: Mapping[str, str]) -> Iterator[Field]:
        yield Field("length", topology.site.tunnels[key].options.get("length", "10 m"))


rope = Rope()


class ChalkedPage:
    """A list of rules as the box on the wall prints it: outside, device, inside, in a line each."""

    def reads(self, text: str) -> bool:
        return text.startswith("BOX ON THE WALL")

    def read(self, text: str, name: str) -> PageRead:
        rules = []
        for number, line in enumerate(text.splitlines()[1:], 2):
            outside, address, inside = line.split()
            ports, there = single(int(outside)), single(int(inside))
            rules.append(TableRow(None, "tcp", ports, address, there, None, "", True, f"line {number}"))
        return PageRead(tuple(rules), "203.0.113.44", None, (), (), ())


# --- what goes wrong


def no_board(door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float) -> object:
    """It makes something else than a publisher."""
    return object()


class LyingBoard(Board):
    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid:
        return "done"  # type: ignore[return-value]  # what it gives is no answer of a publisher


def lying_board(
    door: Door, site: Site, updater: Updater, token: Secret | None, base: Path, deadline: float
) -> LyingBoard:
    return LyingBoard(base)


async def broken_box(door: Door, site: Site, gateway: str, deadline: float) -> Box:
    raise ZeroDivisionError("the box fell off the wall")


no_rope = "a string"  # no kind of tunnel
