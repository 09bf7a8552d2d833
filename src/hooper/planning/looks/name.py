"""Findings on names and certificates: what leads elsewhere, what nobody keeps, what cannot be proven."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.dnsnames import any_stands_for, is_wildcard
from hooper.planning.facts import Facts
from hooper.planning.findings import finds
from hooper.planning.openers import not_driven
from hooper.planning.typed import name_for, six_for
from hooper.planning.values import Finding
from hooper.ports import blocking, single
from hooper.site.references import PROOF_PORTS, chains_to, name_entry, text_updater
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.site.model import Site
    from hooper.site.references import Chain


WEB = PROOF_PORTS["http-01"]


def find(facts: Facts) -> Iterator[Finding]:
    """All findings on names and certificates."""
    yield from _names(facts)
    yield from _over_six(facts)
    yield from _certificates(facts)


def _over_six(facts: Facts) -> Iterator[Finding]:
    """Names with an IPv6 address, which is that of one host."""
    site = facts.site
    for key in facts.public:
        name, service = name_for(facts.topology, key), site.services[key]
        entry = name_entry(site, name) if name is not None else None
        if entry is None or "AAAA" not in entry.types or entry.host is None:
            continue
        do = say("give-a-name-of", key=key, name=name)
        if entry.host != service.host:
            wrong = say("to-and-is-on", host=entry.host, key=key, service_host=service.host)
        elif six_for(facts.topology, key) is None:
            wrong = say("to-where-is-not", host=entry.host, key=key)
            do += say("or-plan-it-over", host=entry.host)
        else:
            continue
        yield finds("name-six-elsewhere", f"services.{key}", do=do + ".", name=name, wrong=wrong)


def _names(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key in facts.public:
        name, line = site.services[key].name, facts.lines[key]
        if name is None:
            continue
        entry = name_entry(site, name)
        if entry is None:
            yield finds("name-unkept", f"services.{key}", name=name, line=line)
        elif entry.line != line:
            yield finds(
                "name-of-other-line",
                f"services.{key}",
                do=say("name-of-other-line.do", line=line, entry_line=entry.line),
                name=name,
                line=entry.line,
                line2_line=line,
            )
    named = {entry.line for entry in site.names.values()}
    for line in sorted(set(facts.lines.values())):
        if not site.lines[line].address and line not in named:
            yield finds("name-missing.names", f"lines.{line}", line=line)


def _certificates(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key, certificate in sorted(site.certificates.items()):
        for service in certificate.services:
            name = site.services[service].name
            if name is not None and not any_stands_for(certificate.names, name):
                yield finds(
                    "certificate-other-name", f"certificates.{key}", service=service, name=name, names=certificate.names
                )
        by_text = all(text_updater(site, certificate, name) for name in certificate.names)
        by = site.authorities.get(certificate.authority)
        if by is None or by.kind == "own" or certificate.challenge == "dns-01":
            continue
        if certificate.challenge == "auto" and by_text:
            continue
        wild = [name for name in certificate.names if is_wildcard(name)]
        if wild and certificate.challenge != "auto":
            yield finds(
                "wildcard-needs-dns", f"certificates.{key}", wild=wild[0], web=PROOF_PORTS[certificate.challenge]
            )
        ports = [port for kind, port in PROOF_PORTS.items() if certificate.challenge in ("auto", kind)]
        for name in certificate.names:
            entry = name_entry(site, name)
            if entry is None or is_wildcard(name):
                continue
            blocks = [
                port for port in ports if blocking(site.lines[entry.line].blocked, "tcp", single(port)) is not None
            ]
            open_ = [port for port in ports if port not in blocks]
            if any((port == WEB and certificate.page_folder) or _comes_in(facts, entry.line, port) for port in open_):
                continue
            if open_ and any(_all_driven(site, chain) for chain in _chains(site, entry.line)):
                continue
            why = say("no-public-service-of") if open_ else say("the-provider-of-blocks", line=entry.line)
            yield finds(
                "validation-blocked",
                f"certificates.{key}",
                do=_instead(blocked=not open_, by_text=by_text, port=ports[0]),
                name=name,
                web=" or ".join(map(str, ports)),
                why=why,
            )
            break


def _chains(site: Site, line: str) -> list[Chain]:
    return [chain for key in site.gateways for chain in chains_to(site, key) if chain.line == line]


def _all_driven(site: Site, chain: Chain) -> bool:
    """Whether a port can be let in for the proof alone."""
    return all(not_driven(site, key) is None for key in chain.gateways)


def _instead(*, blocked: bool, by_text: bool, port: int) -> Said:
    first = say("have-an-updater-keep")
    if by_text:
        first = say("write-challenge-dns-01")
    return first + ("." if blocked else say("or-make-a-service", port=port))


def _comes_in(facts: Facts, line: str, port: int) -> bool:
    return any(
        way.line == line and way.ports and way.ports[0].has(port) and facts.site.services[key].used_transport != "udp"
        for key, way in facts.ways.items()
    )
