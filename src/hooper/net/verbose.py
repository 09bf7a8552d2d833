"""A door that says what is asked through it, what is answered, and when: for whoever wants to watch."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from anyio.abc import ByteStream

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.net.passing import PassingDatagrams, PassingDoor
from hooper.net.types import Datagram, Datagrams, Door, Endpoint, Family, Listener, Rejected

MEANT = {53: "DNS", 1900: "SSDP", 3478: "STUN", 5351: "NAT-PMP or PCP"}  # what is usually asked at a port


@dataclass
class TellingDoor(PassingDoor):
    """The door `inner`, which tells `tell` one line for each question and each answer.

    started: from when the time is counted, by the door's clock.
    """

    tell: Callable[[str], None]
    started: float

    def say(self, text: str) -> None:
        self.tell(f"{self.clock.monotonic() - self.started:7.3f} s  {text}")

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        where = f"tcp {Endpoint(to, port)}"
        self.say(f"{where}: connecting")
        try:
            stream = await self.inner.connect(to, port, source=source)
        except HooperError as exc:
            self.say(f"{where}: {exc.message}")
            raise
        self.say(f"{where}: connected")
        return stream

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        inner = await self.inner.datagrams(local=local, interface=interface, groups=groups, hop_limit=hop_limit)
        return _TellingDatagrams(inner, self, "" if hop_limit is None else f", for {hop_limit} hops")

    async def listen(self, local: Endpoint) -> Listener:
        self.say(f"tcp {local}: listening")
        return await self.inner.listen(local)

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        self.say(f"looking up {name} ({family})")
        found = await self.inner.lookup(name, family)
        self.say(f"{name} has {', '.join(map(str, found)) or 'no address'}")
        return found

    def through(self, interface: str) -> Door:
        inner = self.inner.through(interface)
        return TellingDoor(inner, lambda text: self.tell(f"{text} (by {interface})"), self.started)


@dataclass
class _TellingDatagrams(PassingDatagrams):
    door: TellingDoor
    how: str

    async def send(self, data: bytes, to: Endpoint) -> None:
        await self.inner.send(data, to)
        meant = f", {MEANT[to.port]}" if to.port in MEANT else ""
        self.door.say(f"udp {to}: {len(data)} bytes sent{meant}{self.how}")

    async def receive(self) -> Datagram | Rejected:
        came = await self.inner.receive()
        if isinstance(came, Datagram):
            self.door.say(f"udp {came.sender}: {len(came.data)} bytes came")
        else:
            self.door.say(f"udp {came.to or 'something'}: ICMP {came.icmp.name} by {came.by or 'nobody named'}")
        return came
