"""Certificates that devices keep themselves: looked at where their services show them."""

from __future__ import annotations

from hooper.certs.inspect import judge, load_chain, names_of, well_known_roots
from hooper.certs.rows import CertificateRow
from hooper.check.probes import probe
from hooper.check.targets import inner_targets
from hooper.clock import rfc3339
from hooper.net.types import Door
from hooper.planning.topology import Topology
from hooper.words.said import NOTHING, say


async def watched(here: Door, topology: Topology, certificate: str, deadline: float) -> CertificateRow:
    """How the certificate stands at the first of its services that shows one. Never raises for the network."""
    planned = topology.site.certificates[certificate]
    now = here.clock.now()
    detail = say("no-service-asked") if not planned.services else NOTHING
    for target in inner_targets(topology, planned.services):
        seen = await probe(here, target, deadline)
        chain = load_chain(seen.chain)
        if not chain:
            detail = say("shows-no-certificate", service=target.service, why=seen.detail)
            continue
        leaf, roots = chain[0], well_known_roots()
        problems = {p for name in planned.names for p in judge(chain, name, roots, now, planned=True).problems}
        return CertificateRow(
            certificate=certificate,
            names=planned.names,
            authority="device",
            services=planned.services,
            state="watched",
            issuer=leaf.issuer.rfc4514_string(),
            not_after=rfc3339(leaf.not_valid_after_utc),
            days_left=(leaf.not_valid_after_utc - now).days,
            chain=None,
            key=None,
            ok=not problems,
            detail=say("shows-certificate-for", service=target.service, names=names_of(leaf))
            + (say("with-problems", problems=sorted(problems)) if problems else NOTHING),
        )
    return CertificateRow(
        certificate, planned.names, "device", planned.services, "unknown", None, None, None, None, None, False, detail
    )
