"""Publishing by dynamic update (RFC 2136), signed (RFC 8945)."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from hooper.errors import CounterpartError, HooperError, MachineError, WireError
from hooper.names.publish import Setting, UpdaterRefuses, UpdaterSaid, UpdaterUnclear
from hooper.net.types import Door, Endpoint
from hooper.secret import Secret

if TYPE_CHECKING:
    import dns.message
    import dns.name

    from hooper.site.model import Site, Updater


ALGORITHMS = {"hmac-md5": "HMAC-MD5.SIG-ALG.REG.INT."}  # RFC 8945 section 6: the one whose name is another


class UpdateRefused(UpdaterRefuses):
    """The DNS server refuses a dynamic update for a reason that stays."""

    code = "update-refused"
    remedy = "Correct the key's name, algorithm or secret, this computer's clock, or what the server allows the key."


class UpdateFailed(CounterpartError):
    """The DNS server does not make the update, for a reason that may pass."""

    code = "update-failed"
    remedy = "Look into the server's log; then run the command again."


class ClocksDiffer(UpdateFailed):
    """A signature is good for some minutes only, by the clocks of both."""

    code = "clocks-differ"
    remedy = "Set the wrong clock right, best from the network."


class Overtaken(UpdateFailed):
    """The record is not what it was when the update was made: somebody else was faster. Nothing was changed."""

    code = "update-overtaken"
    remedy = "Find out who else updates this name; then run the command again."


@dataclass(frozen=True)
class DnsPublisher:
    """Dynamic update (RFC 2136) with a transaction signature (RFC 8945)."""

    door: Door
    site: Site
    updater: Updater
    token: Secret
    deadline: float

    @property
    def together(self) -> bool:
        return True

    async def set(self, settings: Sequence[Setting]) -> UpdaterSaid:
        """All of a zone in one update. Each record is only replaced if it still is what was just read, so that nobody
        else's change is lost (RFC 2136 section 2.4), and never where the name is an alias.
        """
        zones: dict[tuple[Endpoint, str], list[Setting]] = {}
        for one in settings:
            zones.setdefault(await self.find(one.name), []).append(one)
        said = [await self._replace(server, zone, mine) for (server, zone), mine in zones.items()]
        return UpdaterSaid("done", "; ".join(one.text for one in said))

    async def _replace(self, server: Endpoint, zone: str, settings: Sequence[Setting]) -> UpdaterSaid:
        from hooper.net.dns import records

        message = self._message(zone)
        for one in settings:
            before = await records(self.door, server, one.name, one.kind, self.deadline, recursive=False)
            absolute = f"{one.name}."
            message.absent(absolute, "CNAME")
            if before:
                message.present(absolute, one.kind, *before)
            else:
                message.absent(absolute, one.kind)
            message.replace(absolute, self.updater.ttl, one.kind, one.value)
        try:
            await self._send(server, message, zone)
        except Overtaken:
            for one in settings:
                if alias := await records(self.door, server, one.name, "CNAME", self.deadline, recursive=False):
                    to = alias[0].rstrip(".")
                    raise UpdateRefused(
                        f"{one.name} is an alias of {to} at {server}: it can have no address of its own",
                        remedy="Take the alias away, or name another name in the site file.",
                    ) from None
            raise
        for one in settings:
            await self._confirmed(server, one.name, one.kind, one.value)
        return UpdaterSaid("done", f"{server} has it")

    async def set_text(self, name: str, value: str) -> UpdaterSaid:
        server, zone = await self.find(name)
        message = self._message(zone)
        message.add(f"{name}.", self.updater.ttl, "TXT", f'"{value}"')
        await self._send(server, message, zone)
        await self._confirmed(server, name, "TXT", value)
        return UpdaterSaid("done", f"{server} has it")

    async def clear_text(self, name: str, value: str) -> UpdaterSaid:
        server, zone = await self.find(name)
        message = self._message(zone)
        message.delete(f"{name}.", "TXT", f'"{value}"')
        await self._send(server, message, zone)
        return UpdaterSaid("done", f"{server} has it no more")

    def _message(self, zone: str) -> dns.update.UpdateMessage:
        import dns.update

        ring, key_name = self._keyring()
        algorithm = ALGORITHMS.get(self.updater.algorithm, f"{self.updater.algorithm}.")
        return dns.update.UpdateMessage(zone, keyring=ring, keyname=key_name, keyalgorithm=algorithm)

    async def _confirmed(self, server: Endpoint, name: str, kind: str, value: str) -> None:
        """Raises: UpdaterUnclear: the server took it, and has something else."""
        from hooper.net.dns import records

        if value not in await records(self.door, server, name, kind, self.deadline, recursive=False):
            raise UpdaterUnclear(
                f"{server} took the update, and does not show {value} for {name}",
                remedy="Look into the server's log; perhaps another view or server answers.",
            )

    async def find(self, name: str) -> tuple[Endpoint, str]:
        """The server to send updates to, and the zone. Raises: CounterpartError: none is found."""
        from ipaddress import ip_address

        from hooper.names.own_servers import resolvers_of
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
        if answer.rcode() != dns.rcode.NOERROR:
            raise self._problem(server, zone, answer)
        try:
            signed = dns.message.from_wire(data, keyring=message.keyring, request_mac=message.mac)
        except (dns.exception.DNSException, ValueError, LookupError):
            raise WireError("signature", 0, f"the answer of {server} is not signed with our key") from None
        if not signed.had_tsig:
            raise WireError("signature", 0, f"the answer of {server} is not signed")

    def _problem(self, server: Endpoint, zone: str, answer: dns.message.Message) -> HooperError:
        """RFC 8945 section 5.2 and RFC 2136 section 2.2 in words."""
        import dns.rcode

        error = answer.tsig[0].error if answer.tsig is not None else 0
        code, key = answer.rcode(), self.updater.key
        if error == dns.rcode.BADKEY:
            said = f"{server} does not know the key {key!r} with {self.updater.algorithm} (BADKEY)"
            whole, dash, bits = self.updater.algorithm.removeprefix("hmac-").partition("-")
            if not dash:
                return UpdateRefused(said)
            hint = f"Some servers mean hmac-{whole} by hmac-{whole}-{bits}: write that. Else correct the key's name."
            return UpdateRefused(said, remedy=hint)
        if error == dns.rcode.BADSIG:
            return UpdateRefused(f"{server} does not accept the secret of the key {key!r} (BADSIG)")
        if error == dns.rcode.BADTRUNC:
            return UpdateRefused(f"{server} wants a longer signature than {self.updater.algorithm} makes (BADTRUNC)")
        if error == dns.rcode.BADTIME:
            assert answer.tsig is not None
            theirs = int.from_bytes(answer.tsig[0].other, "big") if len(answer.tsig[0].other) == 6 else None
            by = f" by {abs(theirs - answer.tsig[0].time_signed)} s" if theirs is not None else ""
            return ClocksDiffer(f"the clocks of {server} and of this computer differ{by} (BADTIME)")
        if code in (dns.rcode.YXDOMAIN, dns.rcode.YXRRSET, dns.rcode.NXRRSET, dns.rcode.NXDOMAIN):
            return Overtaken(f"{server} has something else by now than a moment ago ({dns.rcode.to_text(code)})")
        refusals = {
            dns.rcode.REFUSED: f"it does not allow the key {key!r} to change this",
            dns.rcode.NOTAUTH: f"it does not have the zone {zone}, or not the key {key!r}",
            dns.rcode.NOTZONE: f"the name is not in its zone {zone}",
            dns.rcode.NOTIMP: "it knows no dynamic updates",
        }
        if code in refusals:
            return UpdateRefused(f"{server} refuses the update: {refusals[code]} ({dns.rcode.to_text(code)})")
        failed = "it failed; its log says why (often its zone file cannot be written)"
        why = failed if code == dns.rcode.SERVFAIL else "no reason"
        return UpdateFailed(f"{server} does not make the update: {why} ({dns.rcode.to_text(code)})")
