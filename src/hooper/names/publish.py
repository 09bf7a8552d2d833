"""Publishing an address or a text: by a provider's HTTP requests, or by dynamic update."""

from __future__ import annotations

import base64
import binascii
import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Literal, Protocol
from urllib.parse import quote, quote_plus

from hooper.errors import CounterpartError, HooperError, MachineError, WireError
from hooper.files import read_text
from hooper.net.types import Door, Endpoint
from hooper.secret import Secret, excerpt, keep_out_of_output
from hooper.site import placeholders

if TYPE_CHECKING:
    import dns.message
    import dns.name

    from hooper.net.http import HttpAnswer
    from hooper.site.model import Meaning, Site, Updater, UpdaterRequest


@dataclass(frozen=True)
class UpdaterSaid:
    """What a provider said. means: as the site file tells it."""

    means: Literal["done", "unchanged"]
    text: str


class UpdaterBusy(CounterpartError):
    """The provider asks to wait. wait_s: how long."""

    code = "updater-busy"
    remedy = "Run the command again later."

    def __init__(self, message: str, wait_s: float) -> None:
        super().__init__(message)
        self.wait_s = wait_s


class UpdaterRefuses(CounterpartError):
    """The provider says no, and asking again would not help."""

    code = "updater-refused"
    remedy = "Correct what it names: user, secret or name."


class UpdaterUnclear(CounterpartError):
    """The provider's answer fits nothing that the site file tells."""

    code = "updater-unclear"
    remedy = "Compare its answer with the updater's `answers` in the site file."


class Publisher(Protocol):
    """How one updater publishes. Raises, all three: UpdaterBusy, UpdaterRefuses, UpdaterUnclear, CounterpartError."""

    async def set(self, name: str, kind: str, value: str) -> UpdaterSaid: ...

    async def set_text(self, name: str, value: str) -> UpdaterSaid: ...

    async def clear_text(self, name: str, value: str) -> UpdaterSaid: ...


def open_publisher(door: Door, site: Site, key: str, base: Path, deadline: float) -> Publisher:
    """The publisher of [updaters.KEY]. base: the site file's folder. Raises: MachineError: its secret cannot be had."""
    updater = site.updaters[key]
    token = updater.token.read(base) if updater.token is not None else None
    if updater.kind == "http":
        roots = read_text(base / updater.trust.place) if updater.trust is not None else None
        return HttpPublisher(door, updater, token, roots, deadline)
    assert token is not None
    return DnsPublisher(door, site, updater, token, deadline)


# --- http


@dataclass(frozen=True)
class HttpPublisher:
    door: Door
    updater: Updater
    token: Secret | None
    roots: str | None
    deadline: float

    async def set(self, name: str, kind: str, value: str) -> UpdaterSaid:
        assert self.updater.set is not None
        return await self._do(self.updater.set, name, kind, value)

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        if self.updater.set_text is None:
            raise UpdaterUnclear("the updater has no `set_text` request", remedy="Add it to the site file.")
        return await self._do(self.updater.set_text, name, "TXT", value)

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        if self.updater.clear_text is None:
            return UpdaterSaid("unchanged", "the updater has no `clear_text` request")
        return await self._do(self.updater.clear_text, name, "TXT", value)

    async def _do(self, request: UpdaterRequest, name: str, kind: str, value: str) -> UpdaterSaid:
        from hooper.net.http import HttpFailed, http

        words = _words(self.updater, self.token, name, kind, value)
        url = placeholders.fill(request.url, {word: quote(text, safe="") for word, text in words.items()})
        headers = {key: placeholders.fill(text, words) for key, text in request.headers.items()}
        if any("\r" in text or "\n" in text for text in headers.values()):
            raise MachineError("the secret holds a line break, which no header can", code="secret-unusable")
        content = None
        if request.body is not None:
            content, usual = _body(request, headers, words)
            if not any(key.lower() == "content-type" for key in headers):
                headers["Content-Type"] = usual
        try:
            async with http(self.door, self.roots, self.deadline) as client:
                answer = await client.request(request.method, url, headers=headers, content=content)
        except HttpFailed as exc:
            host = request.url.split("/")[2]
            raise CounterpartError(
                f"the name provider {host} cannot be reached: {exc.message}", code="updater-unreachable"
            ) from None
        return understand(self.updater.answers, answer, self.door.clock.now())


def _words(updater: Updater, token: Secret | None, name: str, kind: str, value: str) -> dict[str, str]:
    words = {"name": name, "type": kind, "value": value, "ttl": str(updater.ttl)}
    if updater.zone is not None:
        words |= {"zone": updater.zone, "host": name.removesuffix(updater.zone).rstrip(".") or "@"}
    if updater.user is not None:
        words["user"] = updater.user
    if token is not None:
        words["token"] = token.reveal()
        if updater.user is not None:
            login = base64.b64encode(f"{updater.user}:{token.reveal()}".encode()).decode()
            keep_out_of_output(login)
            words["basic"] = login
    return words


def _body(request: UpdaterRequest, headers: Mapping[str, str], words: Mapping[str, str]) -> tuple[bytes, str]:
    """The body with what is filled in written as its kind of text wants it, and its usual type."""
    assert request.body is not None
    given = next((text.lower() for key, text in headers.items() if key.lower() == "content-type"), "")
    looks_json = request.body.lstrip()[:1] in ("{", "[")
    if "json" in given or (not given and looks_json):
        filled = {word: json.dumps(text)[1:-1] for word, text in words.items()}
        return placeholders.fill(request.body, filled).encode(), "application/json"
    if "x-www-form-urlencoded" in given or (not given and "=" in request.body):
        filled = {word: quote_plus(text) for word, text in words.items()}
        return placeholders.fill(request.body, filled).encode(), "application/x-www-form-urlencoded"
    return placeholders.fill(request.body, dict(words)).encode(), "text/plain; charset=utf-8"


def understand(answers: tuple[Meaning, ...], answer: HttpAnswer, now: datetime) -> UpdaterSaid:
    """What an answer means: by the site file's own list, else by its status. now: what a date to wait until is held to.

    Raises: UpdaterBusy, UpdaterRefuses, UpdaterUnclear.
    """
    text = answer.text[:100_000]
    shown = f"it answers {answer.status}" + (f" {excerpt(text, 80)!r}" if text.strip() else "")
    means = next((rule.means for rule in answers if _fits(rule, answer.status, text)), None)
    if means is None:
        if answer.status == 429 or answer.status >= 500:
            means = "wait"
        elif answer.status in (401, 403):
            means = "never"
        elif 200 <= answer.status < 300 and not any(rule.means == "done" for rule in answers):
            means = "done"
    if means in ("done", "unchanged"):
        return UpdaterSaid(means, shown)
    if means == "wait":
        from hooper.net.http import retry_after

        raise UpdaterBusy(f"the name provider asks to wait: {shown}", retry_after(answer.header("Retry-After"), now))
    if means == "never":
        raise UpdaterRefuses(f"the name provider refuses: {shown}")
    raise UpdaterUnclear(f"the name provider's answer is not understood: {shown}")


def _fits(one: Meaning, status: int, text: str) -> bool:
    return (one.status is None or status in one.status) and (one.says is None or one.says.search(text) is not None)


# --- dynamic update


class UpdateRefused(CounterpartError):
    """The DNS server refuses a dynamic update."""

    code = "update-refused"
    remedy = "Correct the key's name, algorithm or secret, this machine's clock, or what the server allows the key."


@dataclass(frozen=True)
class DnsPublisher:
    """Dynamic update (RFC 2136) with a transaction signature (RFC 8945)."""

    door: Door
    site: Site
    updater: Updater
    token: Secret
    deadline: float

    async def set(self, name: str, kind: str, value: str) -> UpdaterSaid:
        return await self._update(name, kind, replace=value)

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        return await self._update(name, "TXT", add=value)

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        return await self._update(name, "TXT", delete=value)

    async def _update(
        self, name: str, kind: str, *, replace: str | None = None, add: str | None = None, delete: str | None = None
    ) -> UpdaterSaid:
        import dns.update

        from hooper.net.dns import records

        server, zone = await self.find(name)
        ring, key_name = self._keyring()
        message = dns.update.UpdateMessage(
            zone, keyring=ring, keyname=key_name, keyalgorithm=f"{self.updater.algorithm}."
        )
        absolute = f"{name}."
        if replace is not None:
            message.replace(absolute, self.updater.ttl, kind, replace)
        if add is not None:
            message.add(absolute, self.updater.ttl, kind, f'"{add}"')
        if delete is not None:
            message.delete(absolute, kind, f'"{delete}"')
        await self._send(server, message, zone)
        wanted = replace if replace is not None else add
        shown = await records(self.door, server, name, kind, self.deadline, recursive=False)
        if wanted is not None and wanted not in shown:
            raise UpdaterUnclear(
                f"{server} took the update, and does not show {wanted} for {name}",
                remedy="Look into the server's log; perhaps another view or server answers.",
            )
        return UpdaterSaid("done", f"{server} has it")

    async def find(self, name: str) -> tuple[Endpoint, str]:
        """The server to send updates to, and the zone. Raises: CounterpartError: none is found."""
        from ipaddress import ip_address

        from hooper.names.authority import resolvers_of
        from hooper.net.dns import records, zone_of

        if self.updater.server is not None:
            server = Endpoint(*self.updater.server)
            if self.updater.zone is not None:
                return server, self.updater.zone
            found = await zone_of(self.door, server, name, self.deadline)
            if found is None:
                raise UpdateRefused(f"{server} has no zone that {name} is in")
            return server, found[0]
        problem: HooperError | None = None
        for resolver in await resolvers_of(self.door, self.site):
            try:
                found = await zone_of(self.door, resolver, name, self.deadline)
                if found is None:
                    continue
                zone, primary = found
                for text in await records(self.door, resolver, primary, "A", self.deadline):
                    return Endpoint(ip_address(text), 53), self.updater.zone or zone
            except HooperError as exc:
                problem = exc
        raise problem or CounterpartError(
            f"no server is found that has the zone of {name}",
            code="zone-not-found",
            remedy="Name it: `server` in [updaters.*].",
        )

    def _keyring(self) -> tuple[dict[dns.name.Name, bytes], dns.name.Name]:
        import dns.name

        assert self.updater.key is not None
        try:
            secret = base64.b64decode(self.token.reveal(), validate=True)
            name = dns.name.from_text(self.updater.key)
        except (binascii.Error, ValueError, dns.exception.DNSException):
            raise MachineError(
                "the key of the dynamic update is not base64, or its name is none",
                code="secret-unusable",
                remedy="Copy the secret as the server's configuration has it, without quotes.",
            ) from None
        return {name: secret}, name

    async def _send(self, server: Endpoint, message: dns.message.Message, zone: str) -> None:
        """Raises: UpdateRefused; NoAnswer, ConnectFailed, WireError."""
        import dns.exception
        import dns.message
        import dns.rcode
        import dns.tsig

        from hooper.net.dns import ask_raw, parse_unchecked

        data = await ask_raw(self.door, server, message, self.deadline)
        try:
            answer = parse_unchecked(data)
        except (dns.exception.DNSException, ValueError, LookupError):
            raise WireError("answer", 0, f"{server} answers with a damaged message") from None
        rcode = answer.rcode()
        if rcode != dns.rcode.NOERROR:
            raise UpdateRefused(self._why(server, zone, answer))
        try:
            signed = dns.message.from_wire(data, keyring=message.keyring, request_mac=message.mac)
        except (dns.exception.DNSException, ValueError, LookupError):
            raise WireError("signature", 0, f"the answer of {server} is not signed with our key") from None
        if not signed.had_tsig:
            raise WireError("signature", 0, f"the answer of {server} is not signed")

    def _why(self, server: Endpoint, zone: str, answer: dns.message.Message) -> str:
        """RFC 8945 section 5.2 and RFC 2136 section 2.2 in words."""
        import dns.rcode

        error = answer.tsig[0].error if answer.tsig is not None else 0
        key = self.updater.key
        if error == dns.rcode.BADKEY:
            return f"{server} does not know the key {key!r} with {self.updater.algorithm} (BADKEY)"
        if error == dns.rcode.BADSIG:
            return f"{server} does not accept the secret of the key {key!r} (BADSIG)"
        if error == dns.rcode.BADTIME:
            assert answer.tsig is not None
            theirs = int.from_bytes(answer.tsig[0].other, "big") if len(answer.tsig[0].other) == 6 else None
            by = f" by {abs(theirs - answer.tsig[0].time_signed)} s" if theirs is not None else ""
            return f"the clocks of {server} and of this machine differ{by} (BADTIME); set the wrong one right"
        words = {
            dns.rcode.REFUSED: f"it does not allow the key {key!r} to change this",
            dns.rcode.NOTAUTH: f"it does not have the zone {zone}, or not the key {key!r}",
            dns.rcode.NOTZONE: f"the name is not in its zone {zone}",
            dns.rcode.SERVFAIL: "it failed; its log says why (often its zone file cannot be written)",
            dns.rcode.NOTIMP: "it knows no dynamic updates",
        }
        code = answer.rcode()
        return f"{server} refuses the update: {words.get(code, 'no reason')} ({dns.rcode.to_text(code)})"
