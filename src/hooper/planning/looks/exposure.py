"""Findings on what is open that should not be, and what of it a person has accepted."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from hooper.planning.facts import Facts
from hooper.planning.findings import entry_of, finding, finds
from hooper.planning.unfolded import side_doors
from hooper.planning.values import Finding
from hooper.words.said import say

if TYPE_CHECKING:
    from hooper.site.model import Accepted


def find_unmeant(facts: Facts) -> Iterator[Finding]:
    """What is reached otherwise than its reach says. Nobody can accept that: the site file says the contrary."""
    for door in side_doors(facts.topology, facts.forwards):
        service = facts.site.services[door.service]
        meant = say("its-reach-is", reach=service.reach) if service.reach != "public" else say("that-one-is-for")
        yield finds(
            "open-by-another",
            f"services.{door.by}",
            service=door.service,
            words=door.words(),
            meant=meant,
            by=door.by,
            host=service.host,
        )
    ends = any(entry.reach == "public" and entry.speech.tunnel for entry in facts.site.services.values())
    for key, service in facts.site.services.items():
        if service.reach == "tunnel" and not facts.site.tunnels and not ends:
            yield finds("tunnel-missing", f"services.{key}")


def find(facts: Facts) -> Iterator[Finding]:
    """What is exposed, before anything is accepted. One finding a service, the gravest."""
    pages = {gateway.lan.ip for gateway in facts.site.gateways.values()}
    pages |= {wan for gateway in facts.site.gateways.values() for wan in gateway.wan}
    for key in facts.public:
        service, subject = facts.site.services[key], f"services.{key}"
        speech = service.speech
        who = say("to-sources", sources=service.sources) if service.sources else say("to-the-whole-world")
        safer = say("make-it-reach-tunnel")
        encrypted = say("use-instead", safer=speech.safer) if speech.safer else say("use-the-encrypted-kind")
        if facts.site.devices[service.host].address in pages and not speech.tunnel:
            message = say("a-routers-own-page", who=who)
            yield finding("router-page-open", subject, message, say("router-page-open.do", safer=safer))
        elif speech.desktop or speech.sharing:
            code = "desktop-open" if speech.desktop else "sharing-open"
            limit = say("which-is-safer-still") if service.sources else say("or-at-least-limit")
            yield finding(code, subject, say("is-open", title=speech.title, who=who), safer + limit)
        elif speech.lan_only:
            message = say("is-open-it-is", title=speech.title, who=who)
            yield finding("lan-protocol-open", subject, message, safer + ".")
        elif speech.clear_text:
            yield finding(
                "clear-text-open",
                subject,
                say("clear-text-open.says", title=speech.title, who=who)
                + ("" if "without" in speech.title else say("clear-text-open.find.says")),
                say("clear-text-open.do", safer=safer, encrypted=encrypted, key=key),
            )
        elif service.speaks == "unknown":
            yield finds("unknown-protocol-open", subject, title=speech.title, who=who, safer=safer)


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
                say("acceptance-ended.says", code=item.code, until=accepted.until, reason=accepted.reason),
                say("acceptance-ended.do"),
            )
        else:
            message = say("accepted-until", message=item.message, until=accepted.until, reason=accepted.reason)
            yield Finding(item.code, "note", item.subject, message, say("look-at-it-again", until=accepted.until))
    for (subject, code), _ in sorted(unused.items(), key=lambda row: row[0]):
        yield finding(
            "acceptance-unused",
            f"{subject}.accepted",
            say("acceptance-unused.says", code=code),
            say("acceptance-unused.accept.do") + subject + say("acceptance-unused.do"),
        )
