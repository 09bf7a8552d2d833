"""A site that asks its witness: one question a connection, and the witness as a place to look from."""

from __future__ import annotations

import json
import secrets
import ssl
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, Any, NamedTuple, Self

import anyio
from anyio.abc import ByteStream
from anyio.streams.buffered import BufferedByteStream
from anyio.streams.tls import TLSStream

from hooper import deeds
from hooper.addresses import IPAddress, parse_address
from hooper.clock import read_moment
from hooper.errors import CounterpartError, HooperError, WireError
from hooper.net.passing import PassingDoor
from hooper.net.proxy import close_quietly
from hooper.net.tls import chain_of
from hooper.net.types import (
    ConnectFailed,
    Datagram,
    Datagrams,
    Door,
    Endpoint,
    Family,
    Listener,
    ProxyTrouble,
    Refused,
    Rejected,
    Unreachable,
)
from hooper.places import Place
from hooper.wire import witness_talk as wire
from hooper.wire.icmp import Icmp
from hooper.witness.pinned_keys import OwnKey, asking_tls, is_signed, pin_of, shown_by

if TYPE_CHECKING:
    from hooper.site.witness_tables import Witness

ENDED = (anyio.EndOfStream, anyio.BrokenResourceError, anyio.ClosedResourceError, anyio.IncompleteRead, ssl.SSLError)
REMEDIES = {
    "not-known": f"Join it anew with an invitation: `{deeds.JOIN_WITNESS}`.",
    "not-invited": "Have it make another invitation: each is good once, and for an hour.",
    "too-much": "Wait a minute.",
    "no-common-version": "Bring Hooper up to date on both sides.",
}


class WitnessFailed(CounterpartError):
    """The witness cannot be reached, or is not the one that is known."""

    code = "witness-failed"
    remedy = "Look whether it runs there, and whether its port is let in."


class WitnessRefuses(CounterpartError):
    """The witness does not do what it was asked."""

    code = "witness-refuses"


class WitnessFound(NamedTuple):
    """Where a witness is found, and the pin of its key."""

    name: str
    host: str
    port: int
    pin: bytes

    @classmethod
    def of(cls, key: str, entry: Witness) -> WitnessFound:
        return cls(key, entry.at[0], entry.at[1], bytes.fromhex(entry.pin.partition(":")[2]))


class Beaten(NamedTuple):
    """What a witness said to a beat. you: the address that it sees. now: its time, which it has signed. ours: this
    computer's time in the middle of the question. within_s: the most by which that may be wrong. told: what it has told
    people of this site; empty: nothing.
    """

    you: str
    now: datetime
    ours: datetime
    within_s: float
    told: str


async def _addressed(door: Door, to: WitnessFound) -> IPAddress:
    try:
        return parse_address(to.host)
    except ValueError:
        with suppress(HooperError):
            found = await door.lookup(to.host, "ipv4")
            if found:
                return found[0]
        raise WitnessFailed(f"the name {to.host} of the witness {to.name} has no address") from None


async def asked(
    door: Door, to: WitnessFound, key: OwnKey, body: Mapping[str, Any], deadline: float
) -> tuple[dict[str, Any], BufferedByteStream]:
    """One question and its answer; the stream goes on where a port was opened. deadline: seconds for all of it.

    Raises: WitnessFailed, WitnessRefuses.
    """
    raw: ByteStream | None = None
    try:
        with anyio.fail_after(deadline):
            address = await _addressed(door, to)
            raw = await door.connect(address, to.port)
            tls = await TLSStream.wrap(raw, server_side=False, ssl_context=asking_tls(), standard_compatible=False)
            shown = shown_by(chain_of(tls)[0]) if chain_of(tls) else None
            if shown is None or pin_of(shown) != to.pin:
                raise WitnessFailed(
                    f"what answers at {to.host}:{to.port} is not the witness {to.name}: it shows another key",
                    remedy="Somebody else answers there, or it was set up anew: then join it anew.",
                )
            stream = BufferedByteStream(tls)
            hello = wire.Hello.parse(await _message(stream))
            version = hello.version()
            if version is None:
                raise _refusal(to, {"refused": "no-common-version", "says": f"it speaks {hello.versions}"})
            text = json.dumps(dict(body), separators=(",", ":"))
            sign = key.sign(wire.signed(to.pin, hello.nonce, text))
            await stream.send(wire.Ask(version, key.public, sign, text).serialize())
            answer = wire.parse(await _message(stream))
            if body["do"] == "beat" and "refused" not in answer:
                nonce, now = wire.bytes_of(body, "nonce", wire.NONCE), wire.text_of(answer, "now", 40)
                if not is_signed(shown, wire.bytes_of(answer, "sign", wire.SIGNATURE), wire.signed_time(nonce, now)):
                    raise WireError("sign", 0, "not its own")
    except BaseException as exc:
        if raw is not None:
            await close_quietly(raw)
        where = f"the witness {to.name} at {to.host}:{to.port}"
        if isinstance(exc, TimeoutError):
            raise WitnessFailed(f"{where} did not answer within {deadline:g} s") from None
        if isinstance(exc, ConnectFailed):
            raise WitnessFailed(f"{where} cannot be reached: {exc.message}") from None
        if isinstance(exc, WireError | ssl.SSLError | anyio.EndOfStream | anyio.BrokenResourceError | OSError):
            raise WitnessFailed(f"{where} does not answer as a witness") from None
        if isinstance(exc, anyio.IncompleteRead | anyio.ClosedResourceError):
            raise WitnessFailed(f"{where} hung up without an answer") from None
        raise
    if "refused" in answer:
        await close_quietly(raw)
        raise _refusal(to, answer)
    return answer, stream


def _refusal(to: WitnessFound, answer: Mapping[str, Any]) -> WitnessRefuses:
    code, says = str(answer.get("refused"))[:40], str(answer.get("says"))[:200]
    return WitnessRefuses(f"the witness {to.name} refuses: {says}", remedy=REMEDIES.get(code))


async def _message(stream: BufferedByteStream) -> bytes:
    return await stream.receive_exactly(wire.length_of(await stream.receive_exactly(wire.LENGTH.size)))


async def asked_once(
    door: Door, to: WitnessFound, key: OwnKey, body: Mapping[str, Any], deadline: float
) -> dict[str, Any]:
    """A question that is over with its answer. Raises: WitnessFailed, WitnessRefuses."""
    answer, stream = await asked(door, to, key, body, deadline)
    await close_quietly(stream)
    return answer


async def beat(door: Door, to: WitnessFound, key: OwnKey, said: wire.Beat, deadline: float) -> Beaten:
    """Say that the site is there. Raises: WitnessFailed: its time is not signed by it, too; WitnessRefuses."""
    start = door.clock.now()
    answer = await asked_once(door, to, key, said.body(), deadline)
    took = door.clock.now() - start
    try:
        you, told = wire.text_of(answer, "you", 45), wire.text_of(answer, "told", 200)
        moment = read_moment(wire.text_of(answer, "now", 40))
        parse_address(you)
    except (WireError, ValueError):
        raise WitnessFailed(f"the witness {to.name} does not answer as a witness") from None
    return Beaten(you, moment, start + took / 2, took.total_seconds() / 2 + 1.0, told)


class Met(NamedTuple):
    """What a witness handed over. sealed: the other side's note; empty: nobody came to it. ahead_s: the witness's clock
    against this computer's, by no more than the time that the answer took.
    """

    sealed: bytes
    ahead_s: float


async def meet(door: Door, to: WitnessFound, key: OwnKey, note: wire.MeetAsked, deadline: float) -> Met:
    """Leave a note, and take the other side's. deadline: seconds beside those that are waited for it.

    Raises: WitnessFailed, WitnessRefuses.
    """
    answer = await asked_once(door, to, key, note.body(), deadline + note.wait)
    try:
        moment = read_moment(wire.text_of(answer, "now", 40))
        return Met(wire.sealed_of(answer), (moment - door.clock.now()).total_seconds())
    except (WireError, ValueError):
        raise WitnessFailed(f"the witness {to.name} does not answer as a witness") from None


@dataclass
class WitnessDoor(PassingDoor):
    """What is seen from a witness: the one address that it sees the site at, and nothing else.

    you: that address. key: the site's own. at: the witness's own address, where that is written.
    """

    to: WitnessFound
    key: OwnKey
    you: IPAddress
    at: IPAddress | None = None
    deadline: float = 8.0

    @property
    def place(self) -> Place:
        return Place("witness", self.to.name)

    @property
    def hears_icmp(self) -> bool:
        return False

    def through(self, interface: str) -> WitnessDoor:
        return WitnessDoor(self.inner.through(interface), self.to, self.key, self.you, self.at, self.deadline)

    async def opened(self, transport: str, to: IPAddress, port: int) -> BufferedByteStream:
        if to != self.you:
            raise ProxyTrouble(
                f"the witness {self.to.name} sees the site at {self.you}, and looks at nobody else, so not at {to}"
            )
        body = {"do": "open", "transport": transport, "port": port}
        try:
            answer, stream = await asked(self.inner, self.to, self.key, body, self.deadline)
        except (WitnessFailed, WitnessRefuses) as exc:
            raise ProxyTrouble(exc.message) from None
        if answer.get("you") != str(to):
            await close_quietly(stream)
            raise ProxyTrouble(f"the witness {self.to.name} sees the site at {str(answer.get('you'))[:45]} now")
        if answer.get("opened") is True:
            return stream
        await close_quietly(stream)
        said = f"the witness {self.to.name} says about {Endpoint(to, port)}: {str(answer.get('closed'))[:20]}"
        icmp, by = answer.get("icmp"), None
        with suppress(ValueError):
            by = parse_address(str(answer.get("by")))
        known = isinstance(icmp, list) and len(icmp) == 2 and all(isinstance(one, int) for one in icmp)
        message = Icmp(*icmp) if known and isinstance(icmp, list) else None
        if answer.get("closed") == "refused":
            raise Refused(said)
        if answer.get("closed") == "unreachable":
            raise Unreachable(said, icmp=message, by=by)
        await anyio.sleep_forever()  # silence is the caller's deadline
        raise AssertionError

    async def connect(self, to: IPAddress, port: int, *, source: IPAddress | None = None) -> ByteStream:
        if source is not None:
            raise ProxyTrouble("the witness chooses its own source address")
        return await self.opened("tcp", to, port)

    async def datagrams(
        self,
        *,
        local: Endpoint | None = None,
        interface: str | None = None,
        groups: Sequence[IPAddress] = (),
        hop_limit: int | None = None,
    ) -> Datagrams:
        if groups or hop_limit is not None:
            raise ProxyTrouble("a witness carries datagrams to the site alone")
        return _Carried(self)

    async def listen(self, local: Endpoint) -> Listener:
        raise ProxyTrouble("a witness lets nobody listen there")

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        return await self.inner.lookup(name, family)

    async def source_towards(self, to: IPAddress) -> IPAddress | None:
        return None


class _Carried:
    """A socket at the witness, that is opened to the first port that something is sent to."""

    def __init__(self, door: WitnessDoor) -> None:
        self._door, self._to = door, Endpoint(door.you, 0)
        self._stream: BufferedByteStream | None = None
        self._opened = anyio.Event()
        self.local = Endpoint(door.you, 0)

    async def send(self, data: bytes, to: Endpoint) -> None:
        if self._stream is None:
            self._stream, self._to = await self._door.opened("udp", to.address, to.port), to
            self._opened.set()
        if to != self._to:
            raise ProxyTrouble("a witness's socket leads to one port")
        await self._stream.send(wire.LENGTH.pack(len(data)) + data)

    async def receive(self) -> Datagram | Rejected:
        await self._opened.wait()
        assert self._stream is not None
        try:
            (length,) = wire.LENGTH.unpack(await self._stream.receive_exactly(wire.LENGTH.size))
            data = await self._stream.receive_exactly(length) if length else b""
        except ENDED:
            await anyio.sleep_forever()
            raise AssertionError from None
        return Datagram(data, self._to)

    async def aclose(self) -> None:
        if self._stream is not None:
            await close_quietly(self._stream)

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, *exc: object) -> None:
        await self.aclose()


def new_nonce() -> bytes:
    return secrets.token_bytes(wire.NONCE)
