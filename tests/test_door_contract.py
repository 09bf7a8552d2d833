"""One contract for every door: the same assertions on the lab and on kernel NAT."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable, Iterator
from ipaddress import IPv4Address, ip_interface
from pathlib import Path
from typing import Any

import anyio
import pytest

from hooper.errors import MachineError, NoAnswer
from hooper.net.exchange import exchange
from hooper.net.lab_door import LabAddress, LabDoor, LabLink, read_lab_file
from hooper.net.types import Datagram, Door, Endpoint, Refused, Rejected, Unreachable
from hooper.wire.icmp import Icmp
from support.namespaces import CARRIER_ADDRESS, PUBLIC_ADDRESS, SITE, KernelTown, kernel_town
from support.program import Lab, hooper, start_lab

FILM_BOX, HERE = IPv4Address("10.44.7.30"), IPv4Address("10.44.7.105")
BRIEF = 0.7  # seconds after which silence counts


class World(ABC):
    """A town with the boathouse's shape."""

    public: IPv4Address
    carrier: IPv4Address

    @abstractmethod
    async def door(self, spot: str) -> Door: ...

    @abstractmethod
    async def enter(self) -> None:
        """Enter both sheets."""

    @abstractmethod
    async def forward(self, port: int) -> None:
        """Forward one more TCP port to the film box, on both routers."""

    @abstractmethod
    async def remove_inner(self) -> None: ...

    @abstractmethod
    async def stop(self) -> None:
        """End the film box's page."""

    @abstractmethod
    async def move(self) -> None: ...

    @abstractmethod
    async def mend(self) -> None: ...


class LabWorld(World):
    public, carrier = IPv4Address("203.0.113.44"), IPv4Address("198.51.100.130")

    def __init__(self, lab: Lab) -> None:
        self.lab = lab
        self.address: LabAddress = read_lab_file(Path(lab.env["HOOPER_LAB"]))
        self.link = LabLink(self.address)

    async def door(self, spot: str) -> Door:
        return await LabDoor.open(self.address, spot)

    async def enter(self) -> None:
        await self.link.ask("type", sheets=self.lab.run("worksheet", "--json").document["sheets"])

    async def forward(self, port: int) -> None:
        for gateway, target in (("fibre-box", "192.168.90.2"), ("club-router", str(FILM_BOX))):
            await self.link.ask("type", sheets=[{"gateway": gateway, "rules": [_rule(gateway, port, target)]}])

    async def remove_inner(self) -> None:
        await self.link.ask("break", fault="forward-missing-inner")

    async def stop(self) -> None:
        await self.link.ask("break", fault="service-stopped")

    async def move(self) -> None:
        await self.link.ask("break", fault="host-moved")
        await self.link.ask("clock", advance_s=60)  # nobody remembers it any more

    async def mend(self) -> None:
        await self.link.ask("mend")


class KernelWorld(World):
    public, carrier = PUBLIC_ADDRESS, CARRIER_ADDRESS

    def __init__(self, town: KernelTown) -> None:
        self.town = town
        self.moved = False

    async def door(self, spot: str) -> Door:
        return self.town.door(spot)

    async def enter(self) -> None:
        self.town.clear()
        site = self.town.folder / "site.toml"
        self.town.enter(hooper("worksheet", "--json", "--site", str(site)).document["sheets"])

    async def forward(self, port: int) -> None:
        for gateway, target in (("fibre-box", "192.168.90.2"), ("club-router", str(FILM_BOX))):
            self.town.enter([{"gateway": gateway, "rules": [_rule(gateway, port, target)]}])

    async def remove_inner(self) -> None:
        self.town.remove("club-router", "film-page")

    async def stop(self) -> None:
        self.town.stop("film-page")

    async def move(self) -> None:
        self.moved = True
        self.town.move("film-box", "10.44.7.132")

    async def mend(self) -> None:
        if self.moved:
            self.town.move("film-box", "10.44.7.30")
            self.moved = False
        if "film-page" not in self.town.servers:
            self.town.serve_page("film-page", "film-box", 443, "Race films")


def _rule(gateway: str, port: int, target: str) -> dict[str, Any]:
    ports = [port, port]
    return {
        "gateway": gateway, "line": "fibre", "kind": "forward", "service": f"extra-{port}", "transport": "tcp",
        "outside_address": None, "outside_ports": ports, "target_address": target, "target_ports": ports,
        "sources": [], "by": "hand",
    }  # fmt: skip


@pytest.fixture(scope="module", params=["lab", pytest.param("kernel", marks=pytest.mark.real)])
def built(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    if request.param == "lab":
        with start_lab(tmp_path_factory.mktemp("lab")) as lab:
            yield LabWorld(lab)
    else:
        with kernel_town(tmp_path_factory.mktemp("kernel")) as town:
            (town.folder / "site.toml").write_text(SITE)
            yield KernelWorld(town)


@pytest.fixture
def world(built: World) -> Iterator[World]:
    """Nothing broken, both sheets entered."""

    async def ready() -> None:
        await built.mend()
        await built.enter()

    anyio.run(ready)
    yield built
    anyio.run(built.mend)


def within(work: Callable[[], Awaitable[None]], seconds: float = 20) -> None:
    async def run() -> None:
        with anyio.fail_after(seconds):
            await work()

    anyio.run(run)


async def silent(door: Door, to: IPv4Address, port: int) -> bool:
    """Whether a connection attempt gets nothing at all."""
    with anyio.move_on_after(BRIEF):
        stream = await door.connect(to, port)
        await stream.aclose()
        return False
    return True


def test_what_is_forwarded_connects_from_outside_and_inside(world: World) -> None:
    async def work() -> None:
        here = await world.door("here")
        for door, to in (
            (here.through("usb0"), world.public),
            (here, FILM_BOX),
            (await world.door("rented"), world.public),
        ):
            stream = await door.connect(to, 443)
            await stream.aclose()

    within(work)


def test_unsolicited_packets_and_hairpins_are_swallowed(world: World) -> None:
    async def work() -> None:
        here = await world.door("here")
        assert await silent(here.through("usb0"), world.public, 9999)
        assert await silent(here, world.public, 443)
        assert await silent(here.through("usb0"), world.carrier, 443)
        await world.remove_inner()
        assert await silent(here.through("usb0"), world.public, 443)

    within(work)


def test_a_stopped_service_refuses_without_icmp(world: World) -> None:
    async def work() -> None:
        await world.stop()
        here = await world.door("here")
        for door, to in ((here.through("usb0"), world.public), (here, FILM_BOX)):
            with pytest.raises(Refused) as caught:
                await door.connect(to, 443)
            assert caught.value.icmp is None

    within(work)


def test_a_host_that_is_gone(world: World) -> None:
    async def work() -> None:
        await world.move()
        here = await world.door("here")
        with pytest.raises(Unreachable) as caught:
            await here.through("usb0").connect(world.public, 443)
        assert (caught.value.icmp, caught.value.by) == (Icmp(3, 1), world.public)
        with pytest.raises(Unreachable) as caught:
            await here.connect(FILM_BOX, 443)
        assert caught.value.icmp is None

    within(work)


def test_datagrams_tell_of_closed_ports(world: World) -> None:
    async def work() -> None:
        here = await world.door("here")
        async with await here.datagrams() as socket:
            to = Endpoint(FILM_BOX, 7777)
            for _ in range(2):  # the first error must not spoil the second datagram
                await socket.send(b"x", to)
                assert await socket.receive() == Rejected(Icmp(3, 3), FILM_BOX, to)
        with pytest.raises(Refused):
            await exchange(here, to, b"x", schedule=(0.0,), deadline=5, matches=lambda came: True)
        async with await here.through("usb0").datagrams() as socket:
            await socket.send(b"x", Endpoint(world.public, 7777))
            with anyio.move_on_after(BRIEF) as waited:
                await socket.receive()
            assert waited.cancelled_caught

    within(work)


def test_datagrams_go_both_ways_and_through_nat(world: World) -> None:
    async def work() -> None:
        here, rented = await world.door("here"), await world.door("rented")
        around = await rented.surroundings()
        outside = next(i.ipv4 for i in around.interfaces if not i.loopback and i.ipv4)
        async with await rented.datagrams(local=Endpoint(outside, 4700)) as server, await here.datagrams() as client:
            await client.send(b"ping", Endpoint(outside, 4700))
            came = await server.receive()
            assert isinstance(came, Datagram)
            assert (came.data, came.sender.address) == (b"ping", world.public)
            await server.send(b"pong", came.sender)
            assert await client.receive() == Datagram(b"pong", Endpoint(outside, 4700))
            assert server.local == Endpoint(outside, 4700)

    within(work)


def test_no_answer_is_the_callers_deadline(world: World) -> None:
    async def work() -> None:
        outside = (await world.door("here")).through("usb0")
        to = Endpoint(world.public, 7777)
        with pytest.raises(NoAnswer):
            await exchange(outside, to, b"x", schedule=(0, 0.1), deadline=0.3, matches=lambda came: True)

    within(work)


def test_a_listener_sees_who_comes_after_translation(world: World) -> None:
    async def work() -> None:
        await world.forward(4430)
        box, here = await world.door("film-box"), await world.door("here")
        heard: list[tuple[bytes, object]] = []
        async with await box.listen(Endpoint(FILM_BOX, 4430)) as listener:

            async def answer() -> None:
                for _ in range(2):
                    stream, peer = await listener.accept()
                    heard.append((await stream.receive(), peer.address))
                    await stream.send(b"welcome")
                    await stream.aclose()

            async with anyio.create_task_group() as tasks:
                tasks.start_soon(answer)
                for door, to in ((here.through("usb0"), world.public), (here, FILM_BOX)):
                    stream = await door.connect(to, 4430)
                    await stream.send(b"hello")
                    assert await stream.receive() == b"welcome"
                    await stream.aclose()
            assert heard == [(b"hello", world.carrier), (b"hello", HERE)]
            with pytest.raises(MachineError):
                await box.listen(Endpoint(FILM_BOX, 4430))

    within(work)


def test_surroundings(world: World) -> None:
    async def work() -> None:
        here = await world.door("here")
        around = await here.surroundings()
        for name, address in (("lan0", "10.44.7.105/24"), ("usb0", "100.72.5.20/24")):
            interface = around.interface(name)
            assert interface is not None
            assert ip_interface(address) in interface.addresses
            assert interface.up
            assert around.has_default_route(name)
            assert here.through(name).place.name == name
        assert around.has_default_route("lo") is False
        defaults = sorted((r.metric, r.interface, str(r.gateway)) for r in around.default_routes())
        assert [row[1:] for row in defaults] == [("lan0", "10.44.7.1"), ("usb0", "100.72.5.9")]
        assert around.connected

    within(work)
