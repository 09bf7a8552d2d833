"""Findings on what is open that should not be, and what of it a person has accepted."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.facts import Facts
from hooper.planning.findings import entry_of, finding
from hooper.planning.unfolded import side_doors
from hooper.planning.values import Finding

if TYPE_CHECKING:
    from hooper.site.model import Accepted


def find_unmeant(facts: Facts) -> Iterator[Finding]:
    """What is reached otherwise than its reach says. Nobody can accept that: the site file says the contrary."""
    for door in side_doors(facts.topology, facts.forwards):
        service = facts.site.services[door.service]
        meant = f'its reach is "{service.reach}"' if service.reach != "public" else "that one is for its sources only"
        yield finding(
            "open-by-another",
            f"services.{door.by}",
            f"its rule lets in {door.service} too, at {door.words()}, though {meant}",
            f"Narrow the ports of {door.by}, or make {door.service} listen on another port of {service.host}.",
        )
    ends = any(entry.reach == "public" and entry.speech.tunnel for entry in facts.site.services.values())
    for key, service in facts.site.services.items():
        if service.reach == "tunnel" and not facts.site.tunnels and not ends:
            yield finding(
                "tunnel-missing",
                f"services.{key}",
                "it is to be reached through a tunnel, and the site file has none",
                f"`{deeds.ADD_TUNNEL}` makes one, {deeds.TUNNEL_HOST} names what ends it; until then `reach` is lan.",
            )


def find(facts: Facts) -> Iterator[Finding]:
    """What is exposed, before anything is accepted. One finding a service, the gravest."""
    pages = {gateway.lan.ip for gateway in facts.site.gateways.values()}
    pages |= {wan for gateway in facts.site.gateways.values() for wan in gateway.wan}
    for key in facts.public:
        service, subject = facts.site.services[key], f"services.{key}"
        speech = service.speech
        who = f"to {', '.join(map(str, service.sources))}" if service.sources else "to the whole world"
        safer = 'Make it `reach = "tunnel"`'
        encrypted = f"use {speech.safer} instead" if speech.safer else "use the encrypted kind"
        if facts.site.devices[service.host].address in pages and not speech.tunnel:
            message = f"a router's own page is open {who}"
            yield finding("router-page-open", subject, message, f"{safer}; a router is managed from inside.")
        elif speech.desktop or speech.sharing:
            code = "desktop-open" if speech.desktop else "sharing-open"
            limit = ", which is safer still." if service.sources else ", or at least limit it by `sources`."
            yield finding(code, subject, f"{speech.title} is open {who}", safer + limit)
        elif speech.lan_only:
            message = f"{speech.title} is open {who}; it is made for networks where everyone is trusted"
            yield finding("lan-protocol-open", subject, message, f"{safer}.")
        elif speech.clear_text:
            yield finding(
                "clear-text-open",
                subject,
                f"{speech.title} is open {who}" + ("" if "without" in speech.title else ", in clear text"),
                f"{safer}, {encrypted}, or accept the risk in [services.{key}.accepted].",
            )
        elif service.speaks == "unknown":
            yield finding(
                "unknown-protocol-open",
                subject,
                f"{speech.title} is open {who}",
                f"{safer} if its app can use one; keep the device's firmware current.",
            )


def accept(facts: Facts, found: Iterable[Finding]) -> Iterator[Finding]:
    """The findings, those that a person has accepted turned into notes."""
    unused: dict[tuple[str, str], Accepted] = {
        (f"services.{key}", accepted.finding): accepted
        for key, service in facts.site.services.items()
        for accepted in service.accepted
    }
    for item in found:
        accepted = unused.get((item.subject, item.code))
        if accepted is None or not entry_of(item.code).acceptable:
            yield item
            continue
        del unused[item.subject, item.code]
        if facts.today > accepted.until:
            yield item
            yield finding(
                "acceptance-ended",
                item.subject,
                f"the risk {item.code} was accepted until {accepted.until} ({accepted.reason})",
                "Look again: remove the risk, or accept it until a new day.",
            )
        else:
            message = f"{item.message}; accepted until {accepted.until}: {accepted.reason}"
            yield Finding(item.code, "note", item.subject, message, f"Look at it again by {accepted.until}.")
    for (subject, code), _ in sorted(unused.items(), key=lambda row: row[0]):
        yield finding(
            "acceptance-unused",
            f"{subject}.accepted",
            f"{code!r} is accepted, but no finding of that code that can be accepted is raised here",
            "Remove [" + subject + ".accepted], or correct its `finding`.",
        )
