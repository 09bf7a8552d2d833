"""Two ends of a tunnel behind kernel NATs that meet by a witness: WireGuard's own software on both, packets counted."""

from __future__ import annotations

import json
import shutil
import signal
import socket
import struct
import subprocess
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from support import warm
from support.namespaces import CARRIER, PUBLIC, RENTED, inside
from support.program import Ran, hooper, program, valid
from support.tunnels import GATE, TunnelTown, tunnel_town
from test_real_detour import SITE as DETOUR

pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not shutil.which("wireguard-go") or not shutil.which("turnserver"), reason="no WireGuard here"),
]
SECOND = "11.22.55.8"
MEASURE = f'[measure]\nstun = ["{RENTED}:3478", "{SECOND}:3479", "{SECOND}:3478"]\n'
FAR = f'version = 1\n[site]\ntitle = "Cottage"\n{MEASURE}'
PORT = 7443


@dataclass
class MeetingTown(TunnelTown):
    """The gate behind two NATs, the cottage's computer behind a third: neither can be reached from outside."""

    processes: list[subprocess.Popen[bytes]] = field(default_factory=list)

    def prepared(self) -> Path:
        """The tunnel's server runs; returns the file of its peer."""
        self.write_site(GATE + MEASURE, way_back="nat")
        laptop = self.add_peer(self.name("laptop"))
        self.load()
        return laptop

    def at(self, end: str, *words: str, alone: bool = False) -> Ran:
        """Hooper at one end: gate or laptop. alone: in a process of its own."""
        site, state = (str(self.folder / f"{end}{part}") for part in (".toml", "-state"))
        takes_state = words[:2] not in (("meeting", "take"), ("tunnel", "change"))
        more = ("--state", state) if takes_state else ()
        whole = (*words, "--site", site, *more, "--json")
        return program(*whole, wrap=tuple(self.wrap(end))) if alone else hooper(*whole, place=self.ns(end))

    def background(self, place: str, log: str, *words: str) -> Path:
        path = self.folder / log
        with path.open("wb") as out:
            streams = {"stdin": subprocess.DEVNULL, "stdout": out, "stderr": out}
            self.processes.append(warm.start(words, wrap=self.wrap(place), **streams))
        return path

    def end_background(self) -> None:
        for process in self.processes:
            process.send_signal(signal.SIGTERM)
        for process in self.processes:
            process.wait(15)
        self.processes.clear()

    def invited(self) -> str:
        folder = str(self.folder / "witness")
        ran = hooper("witness", "invite", f"{RENTED}:{PORT}", "--folder", folder, "--json", place=self.ns("rented"))
        return str(valid("witness-invite", ran.document)["code"])

    def meet(self) -> dict[str, dict[str, Any]]:
        """Both ends at the same time."""
        with ThreadPoolExecutor(2) as both:
            asked = {end: both.submit(self.at, end, "meeting", "now", alone=True) for end in ("gate", "laptop")}
            ran = {end: one.result() for end, one in asked.items()}
        for end, one in ran.items():
            assert one.code in (0, 1), (end, one.code, one.out, one.err)
        return {end: valid("meeting-now", one.document)["ends"][0] for end, one in ran.items()}

    def carried(self) -> bool:
        """Whether a page at the club comes through the tunnel."""
        asked = ("curl", "-sk", "--max-time", "8", "https://10.44.7.30/")
        done = subprocess.run([*self.wrap("laptop"), *asked], capture_output=True, text=True, check=False, timeout=30)
        return "Race films" in done.stdout

    def endpoint(self, end: str) -> str:
        interface = {"gate": self.tunnel, "laptop": self.name("laptop")}[end]
        return next(word for word in self.run(end, "wg", "show", interface, "endpoints").split() if word[:3] == "11.")

    def ports(self, name: str, how: str) -> None:
        """Which ports a router's NAT gives out from now on, as nft has it; all that it had is forgotten, as when a line
        comes back after a while.
        """
        with suppress(AssertionError):
            self.run(name, "nft", "delete", "table", "ip", "ports")
        lines = ("type nat hook postrouting priority srcnat - 10;", f'oifname "wan" meta l4proto udp masquerade {how}')
        rules = "\n".join(("table ip ports {", "chain post {", *lines, "}", "}", ""))
        self.run(name, "nft", "-f", "-", stdin=rules)
        with inside(self.ns(name)):
            kernel = socket.socket(socket.AF_NETLINK, socket.SOCK_RAW, 12)  # NETLINK_NETFILTER
        with kernel:  # IPCTNL_MSG_CT_DELETE without a tuple, acknowledged: all of IPv4
            kernel.send(struct.pack("=IHHIIBBH", 20, 1 << 8 | 2, 5, 1, 0, socket.AF_INET, 0, 0))
            assert struct.unpack_from("=i", kernel.recv(4096), 16)[0] == 0


@contextmanager
def met_town(folder: Path, mark: str, kind: type[MeetingTown]) -> Iterator[MeetingTown]:
    """A town with a witness, two STUN addresses, and both ends set up as people do it."""
    with tunnel_town(folder, mark=mark, kind=kind) as built:
        assert isinstance(built, MeetingTown)
        try:
            built.run("rented", "ip", "address", "add", f"{SECOND}/24", "dev", "eth0")
            built.serve_page("film-page", "film-box", 443, "Race films")
            built.serve_stun("stun", "rented", SECOND)
            log = built.background("rented", "witness.log", "witness", "serve", "--folder", f"{built.folder}/witness")
            until = time.monotonic() + 20
            while b"listening" not in log.read_bytes():
                assert time.monotonic() < until, log.read_text()
                time.sleep(0.05)
            laptop = built.prepared()
            shutil.copy(built.folder / "site.toml", built.folder / "gate.toml")
            (built.folder / "laptop.toml").write_text(FAR)
            for end in ("gate", "laptop"):
                joined = built.at(end, "witness", "join", built.invited(), "--named", "rented")
                assert joined.code == 0, joined
            changed = built.at("gate", "tunnel", "change", built.tunnel, "--meet", "rented")
            assert changed.code == 0, changed
            taken = built.at("laptop", "meeting", "take", str(laptop))
            assert taken.code == 0, taken
            built.up("laptop", laptop)
            yield built
        finally:
            built.end_background()


COUNTED = f"""\
table ip counted {{
  counter direct {{ }}
  counter others {{ }}
  chain through {{
    type filter hook forward priority 0;
    meta l4proto udp ip saddr {{ {PUBLIC}, {CARRIER} }} ip daddr {{ {PUBLIC}, {CARRIER} }} counter name direct accept
    counter name others
  }}
}}
"""


@pytest.fixture(scope="module")
def town(tmp_path_factory: pytest.TempPathFactory) -> Iterator[MeetingTown]:
    with met_town(tmp_path_factory.mktemp("meeting"), "q", MeetingTown) as built:
        yield built


def test_two_cones_meet_and_go_on_after_both_mappings_change(town: MeetingTown) -> None:
    met = town.meet()
    assert {end: (row["way"], row["can"]) for end, row in met.items()} == {
        "gate": ("direct", "can"), "laptop": ("direct", "can"),
    }  # fmt: skip
    assert {row["seen_at"] for row in met.values()} == {town.endpoint("laptop"), town.endpoint("gate")}
    town.run("inet", "nft", "-f", "-", stdin=COUNTED)
    assert town.carried()
    counted = json.loads(town.run("inet", "nft", "-j", "list", "counters"))["nftables"]
    packets = {one["counter"]["name"]: one["counter"]["packets"] for one in counted if "counter" in one}
    assert packets["direct"] >= 8, packets
    assert packets["others"] == 0, packets
    town.ports("fibre-box", "to :41000-41000")
    town.ports("carrier", "to :42000-42000")
    met = town.meet()
    assert {end: (row["way"], row["seen_at"]) for end, row in met.items()} == {
        "gate": ("direct", f"{PUBLIC}:41000"), "laptop": ("direct", f"{CARRIER}:42000"),
    }  # fmt: skip
    assert town.carried()


OARS = """\
[services.oars]
host = "gate"
speaks = "wireguard"
reach = "public"
"""


@dataclass
class HubTown(MeetingTown):
    """The club's line has no address of its own: a rented machine stands for it, and carries what has no other way."""

    def prepared(self) -> Path:
        hub, end, folder = f"hub{self.mark}", f"end{self.mark}", self.folder / "server"
        text = DETOUR.format(rented=RENTED, tunnel=hub, end=end) + OARS + MEASURE
        (self.folder / "site.toml").write_text(text)
        tunnel = ("--service", "oars", "--subnet", "10.88.44.0/24", "--way-back", "nat")
        for words in (("tunnel", "renew", hub), ("peer", "renew", end), ("tunnel", "add", self.tunnel, *tunnel)):
            ran = self.hooper(*words)
            assert ran.code == 0, ran.err
        ran = self.hooper("tunnel", "make", hub, "--out", str(folder), "--server-folder", str(folder))
        assert ran.code == 0, ran.err
        self.up("rented", folder / f"{hub}.conf")
        path = self.folder / f"{end}.conf"
        ran = self.hooper("peer", "hand", end, "--out", str(path))
        assert ran.code == 0, ran.err
        path.write_text(path.read_text().replace("/etc/wireguard", str(folder)))
        self.up("gate", path)
        laptop = self.add_peer(self.name("laptop"))
        self.load()
        return laptop

    def hand(self, key: str) -> Path:
        path = self.folder / f"{key}.conf"
        ran = self.hooper("peer", "hand", key, "--out", str(path))
        assert ran.code == 0, ran.err
        path.write_text(path.read_text().replace("boathouse.heronquay.example", RENTED))  # nobody here knows the name
        return path


@pytest.fixture(scope="module")
def hub(tmp_path_factory: pytest.TempPathFactory) -> Iterator[HubTown]:
    with met_town(tmp_path_factory.mktemp("hub"), "u", HubTown) as built:
        assert isinstance(built, HubTown)
        yield built


def test_two_that_cannot_meet_go_by_the_hub_and_come_back_when_they_can(hub: HubTown) -> None:
    hub.ports("carrier", "fully-random")
    met = hub.meet()
    assert {end: (row["way"], row["can"]) for end, row in met.items()} == {
        "gate": ("relay", "cannot"), "laptop": ("relay", "cannot"),
    }  # fmt: skip
    assert hub.endpoint("laptop").startswith(RENTED)
    assert hub.carried()
    hub.ports("carrier", "persistent")
    met = hub.meet()
    assert {end: row["way"] for end, row in met.items()} == {"gate": "direct", "laptop": "direct"}
    assert {way["by"] for way in met["laptop"]["ways"]} == {"direct", "relay"}
    assert hub.endpoint("laptop").startswith(PUBLIC)
    assert hub.carried()
