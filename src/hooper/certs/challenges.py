"""Proving that a name is ours: a TXT record by the name's own updater, or a page at port 80."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal, Protocol

import anyio

from hooper import deeds
from hooper.addresses import IPAddress
from hooper.dnsnames import is_wildcard
from hooper.errors import CounterpartError, HooperError, NeedsAPerson
from hooper.files import make_folder, write_atomically
from hooper.names.own_servers import authority_for
from hooper.names.publishers import open_publisher
from hooper.net.dns import QUESTION_S, shown_by_all
from hooper.net.serving import NOT_THERE, HttpAsked, HttpSaid, serve_http
from hooper.net.types import Door, Endpoint
from hooper.planning.topology import Topology
from hooper.ports import blocking, single
from hooper.site.references import name_entry

if TYPE_CHECKING:
    from hooper.site.model import Certificate, Site

Kind = Literal["dns-01", "http-01"]
SHOWN_EVERY = 1.0  # seconds
WELL_KNOWN = "/.well-known/acme-challenge/"


class NoProof(NeedsAPerson):
    """There is no way to prove a name."""

    code = "no-challenge"
    remedy = (
        "Give the name an updater that sets TXT records (`set_text`, or dns-update), or open port 80 to this computer."
    )


class TextNotShown(CounterpartError):
    """The TXT record did not arrive at all servers of the zone."""

    code = "text-not-shown"
    remedy = f"Run the command again later, or wait longer with {deeds.WAIT_FOR_NAMES}; it goes on where it stopped."


@dataclass(frozen=True)
class PageWay:
    """How a page at port 80 is answered: by listening here, or by a file in the web server's folder."""

    listen: Endpoint | None
    page_folder: Path | None


def page_way(site: Site, certificate: Certificate, name: str, own: set[IPAddress], base: Path) -> PageWay | str:
    """How http-01 can work for `name` by the plan, or why it cannot. own: this computer's addresses."""
    entry = name_entry(site, name)
    if is_wildcard(name):
        return "a wildcard is proven by a TXT record only"
    assert entry is not None
    if blocking(site.lines[entry.line].blocked, "tcp", single(80)) is not None:
        return f"the provider of {entry.line} blocks port 80"
    if certificate.page_folder is not None:
        return PageWay(None, base / Path(certificate.page_folder).expanduser())
    topology = Topology(site)
    for key, ports in topology.outside_ports.items():
        service = site.services[key]
        if topology.lines[key] == entry.line and service.used_transport != "udp" and ports.has(80):
            address = site.devices[service.host].address
            if address not in own:
                return f"port 80 leads to {service.host} (the service {key}), which is not this computer"
            return PageWay(Endpoint(address, service.used_ports.first + 80 - ports.first), None)
    return "no public service of the plan comes in at port 80"


def text_way(site: Site, name: str) -> str | None:
    """The updater that can set the TXT record for `name`; None: none can."""
    entry = name_entry(site, name)
    if entry is None or entry.updated_by not in site.updaters:
        return None
    return entry.updated_by if site.updaters[entry.updated_by].sets_text else None


class ProofMemory(Protocol):
    """What is remembered of TXT records that are published, so that none is left behind by a run that was killed."""

    def texts(self) -> list[tuple[str, str]]: ...

    def save_text(self, name: str, text: str, *, there: bool) -> None: ...


@dataclass(frozen=True)
class Prover:
    """Makes what a challenge looks for, and takes it away again."""

    here: Door
    site: Site
    certificate: Certificate
    base: Path
    deadline: float
    patience: float
    memory: ProofMemory

    async def choose(self, name: str, offered: set[str]) -> Kind:
        """The challenge to take for a name. Raises: NoProof."""
        wanted = self.certificate.challenge
        updater = text_way(self.site, name)
        if wanted in ("auto", "dns-01") and "dns-01" in offered and updater is not None:
            return "dns-01"
        page = page_way(self.site, self.certificate, name, await self._own(), self.base)
        if wanted in ("auto", "http-01") and "http-01" in offered and isinstance(page, PageWay):
            return "http-01"
        no_text = "its updater sets no TXT records" if updater is None else "it is not offered"
        why = {"dns-01": no_text, "http-01": page if isinstance(page, str) else "it is not offered"}
        reasons = "; ".join(f"{kind}: {text}" for kind, text in why.items() if wanted in ("auto", kind))
        raise NoProof(f"there is no way to prove {name}: {reasons}")

    async def _own(self) -> set[IPAddress]:
        around = await self.here.surroundings()
        return {address.ip for interface in around.interfaces for address in interface.addresses}

    @asynccontextmanager
    async def shown(self, kind: Kind, name: str, token: str, answer: str, text: str) -> AsyncIterator[None]:
        """While this is open, the challenge is answered. answer: the key authorization; text: for the TXT record.

        Raises: TextNotShown; what the updater or this computer has against it.
        """
        if kind == "dns-01":
            async with self._text(name, text):
                yield
            return
        way = page_way(self.site, self.certificate, name, await self._own(), self.base)
        assert isinstance(way, PageWay)
        if way.page_folder is not None:
            folder = way.page_folder / ".well-known" / "acme-challenge"
            make_folder(folder)
            write_atomically(folder / token, answer.encode())
            try:
                yield
            finally:
                with suppress(OSError):
                    (folder / token).unlink()
            return
        assert way.listen is not None
        problem: HooperError | None = None
        async with await self.here.listen(way.listen) as listener, anyio.create_task_group() as tasks:
            page = HttpSaid(200, answer.encode(), "application/octet-stream")

            async def said(asked: HttpAsked) -> HttpSaid:
                return page if asked.target == WELL_KNOWN + token else NOT_THERE

            tasks.start_soon(serve_http, listener, said)
            try:
                yield
            except HooperError as exc:  # kept, since the task group would wrap it up
                problem = exc
            tasks.cancel_scope.cancel()
        if problem is not None:
            raise problem

    @asynccontextmanager
    async def _text(self, name: str, text: str) -> AsyncIterator[None]:
        record = f"_acme-challenge.{name.removeprefix('*.')}"
        updater = text_way(self.site, name)
        assert updater is not None
        publisher = open_publisher(self.here, self.site, updater, self.base, self.deadline)
        self.memory.save_text(name, text, there=True)
        try:
            await publisher.set_text(record, text)
            await self._until_shown(record, text, updater)
            yield
        finally:
            with anyio.CancelScope(shield=True), anyio.move_on_after(self.deadline), suppress(HooperError):
                await publisher.clear_text(record, text)
                self.memory.save_text(name, text, there=False)

    async def clear_leftovers(self) -> None:
        """Take away the records that a run which was killed has left."""
        for name, text in self.memory.texts():
            updater = text_way(self.site, name) if name_entry(self.site, name) is not None else None
            with suppress(HooperError):
                if updater is not None:
                    publisher = open_publisher(self.here, self.site, updater, self.base, self.deadline)
                    await publisher.clear_text(f"_acme-challenge.{name.removeprefix('*.')}", text)
                self.memory.save_text(name, text, there=False)

    async def _until_shown(self, record: str, text: str, updater: str) -> None:
        """Wait until all of the zone's servers have the record; where none can be asked, the authority decides."""
        where = await authority_for(self.here, self.site, record, updater, self.deadline)
        unanswered = 0
        with anyio.move_on_after(self.patience):
            while True:
                shown = await shown_by_all(self.here, where, record, "TXT", text, min(self.deadline, QUESTION_S))
                unanswered = unanswered + 1 if shown is None else 0
                if shown or unanswered >= 2:
                    return
                await self.here.clock.sleep(SHOWN_EVERY)
        servers = ", ".join(str(server.address) for server in where.servers)
        raise TextNotShown(f"after {self.patience:g} s the TXT record at {record} is not shown by all of {servers}")
