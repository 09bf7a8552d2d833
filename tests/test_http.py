"""The client for HTTP with verified TLS, over real sockets on loopback; an authority spoken to in the same way."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from functools import partial
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import anyio
import pytest
from anyio.abc import ByteStream, SocketAttribute
from anyio.streams.tls import TLSListener
from cryptography import x509

from hooper.addresses import IPAddress
from hooper.certs.acme import AcmeClient, request_for
from hooper.certs.store import new_key
from hooper.clock import SystemClock
from hooper.errors import HooperError, MachineError
from hooper.lab.acme import AcmeServer
from hooper.lab.certificates import TownAuthority
from hooper.lab.devices import read_request
from hooper.lab.switchboard import Switchboard
from hooper.names.publish import Setting, UpdaterBusy, UpdaterRefuses
from hooper.names.publishers import open_publisher
from hooper.net.http import BODY_LIMIT, HttpAnswer, HttpFailed, http, trusting
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint, Family
from hooper.wire import head
from support.sites import ONE_BOX, site

NOW = datetime.now(UTC)
HOME = IPv4Address("127.0.0.1")
AUTHORITY = TownAuthority(NOW)
ROOTS = AUTHORITY.root_pem.decode()
SITE = "names.heronquay.example"
Handler = Callable[[ByteStream], Awaitable[None]]


class Named(SystemDoor):
    """Loopback has every name."""

    async def lookup(self, name: str, family: Family) -> list[IPAddress]:
        return [HOME] if name != "nobody.heronquay.example" and family == "ipv4" else []


def served(handler: Handler, work: Callable[[int], Awaitable[Any]], *, name: str = SITE, days: int = 90) -> Any:
    """Run `work` beside a TLS server on loopback."""

    async def main() -> Any:
        identity = AUTHORITY.identity([name], NOW - timedelta(days=1), days)
        listener = await anyio.create_tcp_listener(local_host=str(HOME))
        port = listener.extra(SocketAttribute.local_port)
        secure = TLSListener(listener, identity.context, standard_compatible=False)
        result: list[Any] = []

        async def one(stream: ByteStream) -> None:
            with suppress(anyio.BrokenResourceError, anyio.EndOfStream, anyio.ClosedResourceError):
                async with stream:
                    await handler(stream)

        async with secure, anyio.create_task_group() as tasks:
            tasks.start_soon(partial(secure.serve, one))
            try:
                result.append(await work(port))
            except Exception as exc:
                result.append(exc)
            tasks.cancel_scope.cancel()
        if isinstance(result[0], Exception):
            raise result[0]
        return result[0]

    return anyio.run(main)


async def polite(stream: ByteStream) -> None:
    """Answers with the body that came, as long as the connection is kept."""
    while (got := await read_request(stream)) is not None:
        asked, body = got
        fields = (("Content-Type", "text/plain"), ("X-Asked", f"{asked.method} {asked.target} {asked.get('host')}"))
        await stream.send(head.serialize_response(200, "OK", "HTTP/1.1", fields, body or b"hello"))


async def ask(port: int, *, name: str = SITE, roots: str | None = ROOTS, deadline: float = 3.0) -> HttpAnswer:
    async with http(Named(), roots, deadline) as client:
        await client.request("GET", f"https://{name}:{port}/first")
        return await client.request("PUT", f"https://{name}:{port}/a%2Fb?c=d", content=b"203.0.113.44")


def test_a_request_over_real_sockets() -> None:
    answer = served(polite, ask)
    assert (answer.status, answer.text) == (200, "203.0.113.44")
    assert (answer.header("X-Asked") or "").startswith(f"PUT /a%2Fb?c=d {SITE}:")


def test_whom_it_does_not_trust() -> None:
    with pytest.raises(HttpFailed, match="not to be trusted"):
        served(polite, partial(ask, roots=None))
    with pytest.raises(HttpFailed, match="not to be trusted"):
        served(polite, partial(ask, roots=TownAuthority(NOW).root_pem.decode()))
    with pytest.raises(HttpFailed, match="not to be trusted"):
        served(polite, partial(ask, name="other.heronquay.example"))
    with pytest.raises(HttpFailed, match="not to be trusted"):
        served(polite, ask, days=0)
    with pytest.raises(MachineError, match="holds no certificate"):
        trusting("no certificate at all")


def test_names_and_ports_where_nobody_is() -> None:
    async def nobody(port: int) -> None:
        async with http(Named(), ROOTS, 2.0) as client:
            await client.request("GET", f"https://nobody.heronquay.example:{port}/")

    with pytest.raises(HttpFailed, match="has no address"):
        served(polite, nobody)

    async def refused() -> None:
        async with http(Named(), ROOTS, 2.0) as client:
            await client.request("GET", "https://127.0.0.1:1/")

    with pytest.raises(HttpFailed, match="refuses"):
        anyio.run(refused)


async def silent(stream: ByteStream) -> None:
    await anyio.sleep(30)


async def dripping(stream: ByteStream) -> None:
    await read_request(stream)
    await stream.send(b"HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n")
    while True:
        await stream.send(b"x")
        await anyio.sleep(0.1)


async def endless(stream: ByteStream) -> None:
    await read_request(stream)
    await stream.send(b"HTTP/1.1 200 OK\r\n\r\n")
    while True:
        await stream.send(bytes(65536))


async def cut_short(stream: ByteStream) -> None:
    await read_request(stream)
    await stream.send(b"HTTP/1.1 200 OK\r\nContent-Length: 100\r\n\r\nhalf")


async def no_http(stream: ByteStream) -> None:
    await stream.send(b"220 mail ready\r\n")


@pytest.mark.parametrize("handler", [silent, dripping, endless, cut_short, no_http])
def test_servers_that_do_not_behave_end_in_an_error_in_time(handler: Handler) -> None:
    start = time.monotonic()
    with pytest.raises(HttpFailed):
        served(handler, partial(ask, deadline=1.0))
    assert time.monotonic() - start < 5
    assert BODY_LIMIT < 10_000_000


@pytest.mark.parametrize(("status", "outcome"), [(200, "done"), (429, UpdaterBusy), (403, UpdaterRefuses)])
def test_a_name_provider_on_loopback(status: int, outcome: object) -> None:
    """Without a secret it may be asked without encryption, as a server of one's own on the same machine is."""
    asked: list[tuple[str, bytes]] = []

    async def provider(stream: ByteStream) -> None:
        async with stream:
            got = await read_request(stream)
            assert got is not None
            asked.append((f"{got[0].method} {got[0].target} {got[0].get('content-type')}", got[1]))
            await stream.send(head.serialize_response(status, "-", "HTTP/1.1", (("Connection", "close"),), b"so be it"))

    async def main() -> str:
        listener = await anyio.create_tcp_listener(local_host=str(HOME))
        port = listener.extra(SocketAttribute.local_port)
        text = ONE_BOX + (
            f'[updaters.u]\nkind = "http"\n[updaters.u.set]\nmethod = "POST"\nurl = "http://127.0.0.1:{port}/set?n={{name}}"\n'
            'body = \'{"host": "{name}.", "value": "{value}"}\'\n'
        )
        async with listener, anyio.create_task_group() as tasks:
            tasks.start_soon(listener.serve, provider)
            publisher = open_publisher(SystemDoor(), site(text).site, "u", Path(), 2.0)
            try:
                said: object = (await publisher.set([Setting("a b.example", "A", "203.0.113.44")])).means
            except HooperError as exc:
                said = type(exc)
            tasks.cancel_scope.cancel()
        assert said == outcome
        return asked[0][0]

    assert anyio.run(main) == "POST /set?n=a%20b.example application/json"
    assert asked[0][1] == b'{"host": "a b.example.", "value": "203.0.113.44"}'


def test_no_redirection_is_followed() -> None:
    async def elsewhere(stream: ByteStream) -> None:
        while await read_request(stream) is not None:
            fields = (("Location", "https://other.heronquay.example/"),)
            await stream.send(head.serialize_response(302, "Found", "HTTP/1.1", fields))

    assert served(elsewhere, ask).status == 302


def test_the_whole_way_to_a_certificate_over_real_sockets() -> None:
    """The town's authority on loopback: account, order, proof by TXT, request, chain; it refuses some nonces."""
    town = Switchboard().town
    server = AcmeServer(town, town.nodes["authority"], AUTHORITY)
    names = ["boathouse.heronquay.example", "*.boathouse.heronquay.example"]

    async def work(port: int) -> bytes:
        server.base = f"https://ca.heronquay.example:{port}"
        async with http(Named(), ROOTS, 5.0) as client:
            acme = AcmeClient(client, f"{server.base}/directory", new_key(), SystemClock(), 20)
            await acme.register([], None)
            order = await acme.new_order(names)
            for url, proof in await acme.authorizations(order, names):
                (challenge,) = [one for one in proof.challenges if one.type == "dns-01"]
                record = f"_acme-challenge.{proof.identifier.value}"
                town.zone.set(record, "TXT", [acme.text_of(challenge.token)])
                await acme.prove(challenge, url)
            order = await acme.settled(order, ("pending",))
            assert order.status == "ready"
            order = await acme.finalize(order, request_for(new_key(), names))
            return await anext(acme.chains(order))

    async def handle(stream: ByteStream) -> None:
        await server.serve(stream, Endpoint(HOME, 1))

    chain = x509.load_pem_x509_certificates(served(handle, work, name="ca.heronquay.example"))
    shown = chain[0].extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert sorted(shown.get_values_for_type(x509.DNSName)) == sorted(names)
    assert server.issued == 1
