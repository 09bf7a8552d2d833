"""The faults that the devices' certificates and pages can have."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from cryptography.hazmat.primitives.asymmetric import ec

from hooper.lab.boathouse import NAME, SERVICES
from hooper.lab.devices import secured, sends_on, web
from hooper.lab.fault import Fault, NothingToBreak, Undo
from hooper.lab.identity import Identity, TownAuthority, self_signed
from hooper.lab.mixed_up import with_other_key
from hooper.lab.things import StreamHandler
from hooper.lab.town import Town

HUB = "hub-page"


def _shows(make: Callable[[Town, str], Identity]) -> Callable[[Town, str], Undo]:
    """The device shows another certificate."""

    def apply(town: Town, service: str) -> Undo:
        host = SERVICES[service][0]
        identity = town.identities.get(host)
        if identity is None:
            raise NothingToBreak(f"{service} shows no certificate", remedy="Choose hub-page, film-page or a desktop.")
        old, new = identity.context, make(town, host).context
        identity.context = new

        def undo() -> None:
            if identity.context is new:  # else somebody has given it another one meanwhile
                identity.context = old

        return undo

    return apply


def _ended(town: Town, host: str) -> Identity:
    return town.acme.authority.identity([NAME], town.now() - timedelta(days=97), days=90)


def _other(town: Town, host: str) -> Identity:
    return town.acme.authority.identity(["regatta.heronquay.example"], town.now() - timedelta(days=7), days=90)


def _own(town: Town, host: str) -> Identity:
    if host != "hub":  # the others have shown certificates of their own making all along
        raise NothingToBreak(f"{host} shows a certificate of its own making already", remedy="Choose hub-page.")
    return self_signed(f"{host}.local", town.now() - timedelta(days=100))


def _not_yet(town: Town, host: str) -> Identity:
    return town.acme.authority.identity([NAME], town.now() + timedelta(days=2), days=90)


def _stranger(town: Town, host: str) -> Identity:
    """Of an authority that nobody here has heard of."""
    return TownAuthority(town.now()).identity([NAME], town.now() - timedelta(days=7), days=90)


def _serves(make: Callable[[Town, str], StreamHandler]) -> Callable[[Town, str], Undo]:
    """Something else answers at the service's own port."""

    def apply(town: Town, service: str) -> Undo:
        host, transport, port, _ = SERVICES[service]
        if transport != "tcp" or host not in town.identities:
            raise NothingToBreak(f"{service} has no page with encryption", remedy="Choose hub-page or film-page.")
        node = town.nodes[host]
        old, new = node.tcp[port], make(town, service)
        node.tcp[port] = new

        def undo() -> None:
            if node.tcp[port] is new:
                node.tcp[port] = old

        return undo

    return apply


def _in_clear(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    return web("Heating and doors", host)


def _port_lost(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    return secured(town.identities[host], sends_on(f"https://{NAME}/start", host))


def _other_key(town: Town, service: str) -> StreamHandler:
    host = SERVICES[service][0]
    start = town.now() - timedelta(days=2)
    chain = town.acme.authority.issue([NAME], ec.generate_private_key(ec.SECP256R1()).public_key(), start)
    return with_other_key(self_signed(f"{host}.local", start), chain.decode())


CERTIFICATE_FAULTS = (
    Fault("certificate-expired", _shows(_ended), HUB, touches="the device's certificate"),
    Fault("certificate-not-yet-valid", _shows(_not_yet), HUB, touches="the device's certificate"),
    Fault("certificate-other-name", _shows(_other), HUB, touches="the device's certificate"),
    Fault("certificate-untrusted", _shows(_stranger), HUB, touches="the device's certificate"),
    Fault("certificate-own", _shows(_own), HUB, touches="the device's certificate"),
    Fault("certificate-key-other", _serves(_other_key), HUB, touches="what answers at the port"),
    Fault("page-in-clear", _serves(_in_clear), HUB, touches="what answers at the port"),
    Fault("page-without-port", _serves(_port_lost), HUB, touches="what answers at the port"),
)
