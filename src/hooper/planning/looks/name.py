"""Findings on names and certificates: what leads elsewhere, what nobody keeps, what cannot be proven."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.dnsnames import any_stands_for, is_wildcard
from hooper.planning.facts import Facts
from hooper.planning.findings import finds
from hooper.planning.typed import name_for, six_for
from hooper.planning.values import Finding
from hooper.ports import blocking, single
from hooper.site.references import name_entry
from hooper.words.said import Said, say

if TYPE_CHECKING:
    from hooper.site.model import Site


WEB = 80  # http-01 looks there (RFC 8555 section 8.3)


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
        by_text = all(_sets_text(site, name) for name in certificate.names)
        if certificate.authority == "device" or certificate.challenge == "dns-01":
            continue
        if certificate.challenge == "auto" and by_text:
            continue
        wild = [name for name in certificate.names if is_wildcard(name)]
        if wild and certificate.challenge == "http-01":
            yield finds("wildcard-needs-dns", f"certificates.{key}", wild=wild[0], web=WEB)
        for name in certificate.names:
            entry = name_entry(site, name)
            if entry is None or is_wildcard(name):
                continue
            met = blocking(site.lines[entry.line].blocked, "tcp", single(WEB))
            why = say("the-provider-of-blocks", line=entry.line) if met is not None else ""
            if not why and certificate.page_folder is None and not _comes_in(facts, entry.line):
                why = say("no-public-service-of")
            if why:
                yield finds(
                    "validation-blocked",
                    f"certificates.{key}",
                    do=_instead(blocked=met is not None, by_text=by_text),
                    name=name,
                    web=WEB,
                    why=why,
                )
                break


def _sets_text(site: Site, name: str) -> bool:
    """Whether the name can be proven by a TXT record (dns-01)."""
    entry = name_entry(site, name)
    return entry is not None and entry.updated_by in site.updaters and site.updaters[entry.updated_by].sets_text


def _instead(*, blocked: bool, by_text: bool) -> Said:
    first = say("have-an-updater-keep")
    if by_text:
        first = say("write-challenge-dns-01")
    return first + ("." if blocked else say("or-make-a-service"))


def _comes_in(facts: Facts, line: str) -> bool:
    return any(
        way.line == line and way.ports and way.ports[0].has(WEB) and facts.site.services[key].used_transport != "udp"
        for key, way in facts.ways.items()
    )
