"""What the world sees of this computer, by the line and as it is: STUN, over both families and through a tunnel."""

from __future__ import annotations

from dataclasses import dataclass, field
from ipaddress import IPv6Address

import anyio

from hooper.addresses import IPAddress
from hooper.errors import HooperError
from hooper.line.echo import echoed
from hooper.line.ground import Ground, side_by_side
from hooper.line.hops import without_way
from hooper.net.stun import stun_answer
from hooper.net.types import Endpoint
from hooper.sourced import Sourced, SourcedAddress
from hooper.wire import stun
from hooper.words.said import Said, quoted, say


@dataclass
class SeenOutside:
    """answers: by server. silent: those that did not answer. no_way: the router that says that it has no way to one.
    first_answer: set once one did, or all are silent.
    """

    ground: Ground
    answers: dict[Endpoint, stun.Message] = field(default_factory=dict)
    echoes: list[SourcedAddress] = field(default_factory=list)
    silent: list[Said] = field(default_factory=list)
    public6: SourcedAddress = field(default_factory=lambda: Sourced(None, say("not-measured")))
    tunnel_shows: SourcedAddress | None = None
    no_way: IPAddress | None = None
    first_answer: anyio.Event = field(default_factory=anyio.Event)

    async def ask(self) -> None:
        async def one(server: Endpoint) -> None:
            try:
                self.answers[server] = await stun_answer(self.ground.door, server, self.ground.left())
            except HooperError as exc:
                self.silent.append(quoted(str(server)))
                self.no_way = self.no_way or without_way(exc)
                return
            self.first_answer.set()

        await side_by_side(one, self.ground.servers(4))
        if not self.ground.site.measure.echo:
            self.first_answer.set()

    async def ask_echoes(self) -> None:
        self.echoes, silent = await echoed(self.ground.door, self.ground.site, self.ground.left(3.0))
        self.silent += silent
        self.first_answer.set()

    def address(self) -> IPAddress | None:
        """What the world sees of this computer, by a server or by an echo; None: nobody has told."""
        return next((one.value for one in (*self.seen(), *self.echoes)), None)

    def seen(self) -> tuple[SourcedAddress, ...]:
        """What each server sees, in the order of the file."""
        out = []
        for server in self.ground.servers(4):
            mapped = self.answers[server].mapped_address() if server in self.answers else None
            if mapped is not None and mapped[0].version == 4:
                out.append(Sourced(mapped[0], say("stun-server", server=server)))
        return tuple(out)

    async def ask6(self) -> None:
        own = self.own6()
        if own.value is None:
            self.public6 = Sourced(None, say("this-machine-has-no"))
            return
        self.public6 = Sourced(None, say("no-stun-server-in"))
        for server in self.ground.servers(6):
            try:
                mapped = (await stun_answer(self.ground.door, server, self.ground.left(2.0))).mapped_address()
            except HooperError:
                self.public6 = Sourced(None, say("stun-server-did-not", server=server))
                continue
            if mapped is not None:
                self.public6 = Sourced(mapped[0], say("stun-server", server=server))
                return

    def own6(self) -> SourcedAddress:
        used = self.ground.around.interface(self.ground.interface) if self.ground.interface is not None else None
        address = used.ipv6 if used is not None else None
        seen = self.public6.value  # of several, such as temporary ones, the one that is used outward
        if used is not None and any(held.ip == seen for held in used.addresses) and isinstance(seen, IPv6Address):
            address = seen
        return Sourced(
            address, say("interface", name=used.name) if used is not None and address else say("no-interface-has-one")
        )

    async def ask_through_tunnel(self) -> None:
        """What the world sees of this computer as it is, where that is not by the line."""
        if self.ground.tunnel is None:
            return
        for server in self.ground.servers(4):
            try:
                mapped = (await stun_answer(self.ground.here, server, self.ground.left())).mapped_address()
            except HooperError:
                continue
            if mapped is not None:
                self.tunnel_shows = Sourced(
                    mapped[0], say("stun-server-through", server=server, name=self.ground.tunnel.name)
                )
                return
