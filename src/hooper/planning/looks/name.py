"""Findings on names and certificates: what leads elsewhere, what nobody keeps, what cannot be proven."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hooper.dnsnames import any_stands_for, is_wildcard
from hooper.planning.facts import Facts
from hooper.planning.findings import finding
from hooper.planning.typed import name_for, six_for
from hooper.planning.values import Finding
from hooper.ports import blocking, single
from hooper.site.references import name_entry

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
        do = f'Give {key} a name of its own (`name` in [services.{key}]), or take AAAA out of [names."{name}"]'
        if entry.host != service.host:
            wrong = f"to {entry.host}, and {key} is on {service.host}"
        elif six_for(facts.topology, key) is None:
            wrong = f"to {entry.host}, where {key} is not to be reached over IPv6"
            do += f"; or plan it over IPv6 too: `address6` of {entry.host}, and no `family`"
        else:
            continue
        yield finding("name-six-elsewhere", f"services.{key}", f"{name} leads over IPv6 {wrong}", f"{do}.")


def _names(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key in facts.public:
        name, line = site.services[key].name, facts.lines[key]
        if name is None:
            continue
        entry = name_entry(site, name)
        if entry is None:
            yield finding(
                "name-unkept",
                f"services.{key}",
                f"people are to use {name}, but nothing in this file keeps that name",
                f'Add [names."{name}"] with `line = "{line}"`.',
            )
        elif entry.line != line:
            yield finding(
                "name-of-other-line",
                f"services.{key}",
                f"{name} belongs to {entry.line}, but the service comes in by {line}",
                f'Use a name of {line}, or write `line = "{entry.line}"` at the service if that line can be used.',
            )
    named = {entry.line for entry in site.names.values()}
    for line in sorted(set(facts.lines.values())):
        if not site.lines[line].address and line not in named:
            yield finding(
                "name-missing",
                f"lines.{line}",
                "its address is dynamic, and no name follows it",
                f'Take a name from a provider of dynamic names and add it to [names] with `line = "{line}"`.',
            )


def _certificates(facts: Facts) -> Iterator[Finding]:
    site = facts.site
    for key, certificate in sorted(site.certificates.items()):
        for service in certificate.services:
            name = site.services[service].name
            if name is not None and not any_stands_for(certificate.names, name):
                yield finding(
                    "certificate-other-name",
                    f"certificates.{key}",
                    f"{service} is used as {name}, which the certificate does not cover:"
                    f" {', '.join(certificate.names)}",
                    f"Add {name} to its `names`, or correct the service's `name`.",
                )
        by_text = all(_sets_text(site, name) for name in certificate.names)
        if certificate.authority == "device" or certificate.challenge == "dns-01":
            continue
        if certificate.challenge == "auto" and by_text:
            continue
        wild = [name for name in certificate.names if is_wildcard(name)]
        if wild and certificate.challenge == "http-01":
            yield finding(
                "wildcard-needs-dns",
                f"certificates.{key}",
                f"{wild[0]} is to be proven over port {WEB}, which no authority accepts for a wildcard",
                'Write `challenge = "dns-01"`, or name each host.',
            )
        for name in certificate.names:
            entry = name_entry(site, name)
            if entry is None or is_wildcard(name):
                continue
            met = blocking(site.lines[entry.line].blocked, "tcp", single(WEB))
            why = f"the provider of {entry.line} blocks it" if met is not None else ""
            if not why and certificate.page_folder is None and not _comes_in(facts, entry.line):
                why = "no public service of the plan comes in there"
            if why:
                yield finding(
                    "validation-blocked",
                    f"certificates.{key}",
                    f"{name} is to be proven over port {WEB}, but {why}",
                    _instead(blocked=met is not None, by_text=by_text),
                )
                break


def _sets_text(site: Site, name: str) -> bool:
    """Whether the name can be proven by a TXT record (dns-01)."""
    entry = name_entry(site, name)
    return entry is not None and entry.updated_by in site.updaters and site.updaters[entry.updated_by].sets_text


def _instead(*, blocked: bool, by_text: bool) -> str:
    first = "Have an updater keep the name that can set TXT records (dns-01)"
    if by_text:
        first = 'Write `challenge = "dns-01"`'
    return first + ("." if blocked else ", or make a service public at outside port 80.")


def _comes_in(facts: Facts, line: str) -> bool:
    return any(
        way.line == line and way.ports and way.ports[0].has(WEB) and facts.site.services[key].used_transport != "udp"
        for key, way in facts.ways.items()
    )
