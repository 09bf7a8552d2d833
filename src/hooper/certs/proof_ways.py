"""Which way to prove a name can work by the plan, and why the others cannot (RFC 8555 section 8, RFC 8737).

The order in which they are taken: a record needs no port; a port that leads here by the plan needs no change; a port
that is lent is entered at the routers for the proof alone, port 80 before 443 since services stand at 443 more often.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Literal, NamedTuple

from hooper.addresses import IPAddress
from hooper.dnsnames import is_wildcard
from hooper.net.types import Endpoint
from hooper.planning.topology import Topology
from hooper.ports import blocking, single
from hooper.site.references import PROOF_PORTS, name_entry, text_updater
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.site.certificate_tables import Certificate
    from hooper.site.model import Site

Kind = Literal["dns-01", "http-01", "tls-alpn-01"]
KINDS: tuple[Kind, ...] = ("dns-01", "http-01", "tls-alpn-01")


class ProofWay(NamedTuple):
    """One way. how: record: a TXT record; folder: a file of a web server here; port: a port that leads here by the
    plan; lent: a port that is let in for the proof alone. updater: who sets the record. listen: where this computer
    answers; of a port that is lent, where it does not matter. folder: of the web server.
    """

    kind: Kind
    how: Literal["record", "folder", "port", "lent"]
    updater: str = ""
    listen: Endpoint | None = None
    folder: Path | None = None

    @property
    def why(self) -> Said:
        """Why it can work, for people."""
        if self.how == "record":
            return say("proof-by-record", updater=self.updater)
        if self.how == "folder":
            return say("proof-by-folder", folder=str(self.folder))
        return say("proof-by-port" if self.how == "port" else "proof-by-lent-port", port=PROOF_PORTS[self.kind])


def proof_ways(
    site: Site,
    certificate: Certificate,
    name: str,
    own: set[IPAddress],
    base: Path,
    unlendable: Mapping[int, str],
) -> tuple[list[ProofWay], dict[Kind, str]]:
    """The ways that can work for a name, the best first, and of each other kind why it cannot.

    own: this computer's addresses. base: the site file's folder. unlendable: why a port cannot be let in to this
    computer for a while; empty: it can.
    """
    ways: list[ProofWay] = []
    against: dict[Kind, str] = {}
    if (updater := text_updater(site, certificate, name)) is not None:
        ways.append(ProofWay("dns-01", "record", updater))
    else:
        against["dns-01"] = "its updater sets no TXT records"
    lent: list[ProofWay] = []
    by_port: list[tuple[Kind, int]] = [(kind, PROOF_PORTS[kind]) for kind in KINDS if kind in PROOF_PORTS]
    for kind, port in by_port:
        found = _by_port(site, certificate, name, kind, own, base)
        if isinstance(found, ProofWay):
            ways.append(found)
            continue
        why = unlendable.get(port, "no router lets a port in here")
        final = is_wildcard(name) or _blocked(site, name, port) is not None
        if final or why:
            against[kind] = found if final or why == found else f"{found}, and {why}"
        else:
            lent.append(ProofWay(kind, "lent"))
    ways += lent
    wanted = certificate.challenge
    if wanted != "auto":
        ways = [way for way in ways if way.kind == wanted]
        against = {kind: text for kind, text in against.items() if kind == wanted}
    return ways, against


def _blocked(site: Site, name: str, port: int) -> str | None:
    entry = name_entry(site, name)
    if entry is None or blocking(site.lines[entry.line].blocked, "tcp", single(port)) is None:
        return None
    return f"the provider of {entry.line} blocks port {port}"


def _by_port(
    site: Site, certificate: Certificate, name: str, kind: Kind, own: set[IPAddress], base: Path
) -> ProofWay | str:
    """How a port proves a name as the plan stands, or why it cannot."""
    entry, wanted = name_entry(site, name), PROOF_PORTS[kind]
    if is_wildcard(name):
        return "a wildcard is proven by a TXT record only"
    assert entry is not None
    if (blocked := _blocked(site, name, wanted)) is not None:
        return blocked
    if kind == "http-01" and certificate.page_folder is not None:
        return ProofWay(kind, "folder", folder=base / Path(certificate.page_folder).expanduser())
    topology = Topology(site)
    for key, ports in topology.outside_ports.items():
        service = site.services[key]
        if topology.lines[key] == entry.line and service.used_transport != "udp" and ports.has(wanted):
            address = site.devices[service.host].address
            if address not in own:
                return f"port {wanted} leads to {service.host} (the service {key}), which is not this computer"
            return ProofWay(kind, "port", listen=Endpoint(address, service.used_ports.first + wanted - ports.first))
    return f"no public service of the plan comes in at port {wanted}"
