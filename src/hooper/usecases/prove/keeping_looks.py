"""What the use cases share that look at the network: what is kept of a look."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from datetime import datetime

from hooper.addresses import parse_address
from hooper.check.wish import Outcome
from hooper.clock import read_moment
from hooper.errors import UsageError
from hooper.evidence.observations import (
    ADDRESS,
    REACH,
    REACH_INSIDE,
    SURVEY,
    Observation,
    inside_aspect,
    service_subject,
    split_key,
)
from hooper.jsonform import kept
from hooper.line.facts import LineFacts
from hooper.line.sources import PublicAddress
from hooper.line.surveyed import worth_keeping
from hooper.places import HERE
from hooper.sourced import Sourced, SourcedAddress, as_told
from hooper.store.kept import Condition
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import how_all_stands, keep_conditions, of_addresses, of_clocks, of_results
from hooper.why.router_rules import leads_as_planned, rules_for
from hooper.words.said import say


def keep_look(
    run: Run,
    outcome: Outcome,
    causes: Mapping[str, str] | None = None,
    seen_at: datetime | None = None,
    bases: Mapping[str, str] = {},
) -> None:
    """Keep the results of a check, what of the inside is worth it, and the public addresses that it measured.

    causes: what broke services that answered before, where that was asked. seen_at: when it was seen; None: just now.
    bases: what the site file then said, by subject, where that may not be what it says now.
    """

    def basis(subject: str) -> str:
        return bases.get(subject) or run.basis(subject)

    place, outside = str(outcome.place), outcome.origin.proves_outside
    ports = {key for key, one in run.site.services.items() if one.reach == "public"}  # a tunnel says nothing of these
    results = [one for one in outcome.results if not (outcome.by_tunnel and one.service in ports)]
    seen = [
        Observation(
            service_subject(one.service), REACH if outside else REACH_INSIDE, kept(one), run.at, "measured", place,
            one.identity, basis(service_subject(one.service)),
        )
        for one in results
    ]  # fmt: skip
    seen += [
        Observation(
            service_subject(key[0]), inside_aspect(*key[1:]), [one.verdict, one.fingerprint, one.greeting],
            read_moment(one.at), "measured", str(HERE),
        )
        for key, one in outcome.inside.items()
        if one.verdict in ("answered", "connected") and key not in outcome.strangers
    ]  # fmt: skip
    told = {service_subject(r.service) for r in results if outside and r.expected == "reachable" and r.ok}
    with run.keeping() as state:
        if state is not None:
            outdated = [(subject, f"{what}@*") for subject in told for what in ("rule", "answer", "way")]
            state.ledger.write(seen, instead=outdated, until=run.at)
            keep_tables(run, outcome.rules)
            looks = [
                (r.service, str(outcome.place), r.ok, r.took_ms if r.expected == "reachable" else None)
                for r in results
                if r.provable and not r.untold
            ]
            state.history.looked(run.at, looks)
    now = run.here.clock.now()
    stand, lines = of_results(basis, outcome.place, results, causes), outcome.public.values()
    keep_conditions(run, (*stand, *of_clocks(run.site, outcome, now), *of_addresses(lines)), seen_at)
    for public in lines:
        keep_address(run, public.line, public.seen)


def keep_addresses(run: Run, lines: Collection[PublicAddress]) -> None:
    """Remember the public addresses that were measured: what is written can then be held against them."""
    keep_conditions(run, of_addresses(lines))
    for public in lines:
        keep_address(run, public.line, public.seen)


def keep_address(run: Run, line: str, address: SourcedAddress) -> None:
    """Remember the public address of a line, if it was measured."""
    with run.keeping() as state:
        if state is not None and address.measured and address.value is not None:
            source = address.source["source"] if address.source.code == "confirmed-by" else address.source
            value = [str(address.value), source.written()]
            state.ledger.write([Observation(f"lines.{line}", ADDRESS, value, run.at, "measured")])


def keep_survey(run: Run, facts: LineFacts) -> None:
    """Keep what else was measured of a line, for whoever asks within the hour."""
    with run.keeping() as state:
        if state is not None:
            value = kept(worth_keeping(facts))
            state.ledger.write([Observation(f"lines.{facts.line}", SURVEY, value, run.at, "measured")])


def keep_tables(run: Run, read: Mapping[str, str]) -> None:
    """Remember what routers' tables say now of the rules of services, by SUBJECT/rule@GATEWAY.

    What is known of an entry follows: one that a table does not have any more is not called entered.
    """
    with run.keeping() as state:
        if state is not None and read:
            state.ledger.tell(run.at, read, "read", run.basis)
            keep_conditions(run, list(_of_tables(run, read)))


def _of_tables(run: Run, read: Mapping[str, str]) -> Iterator[Condition]:
    stood = {(one.condition.subject, one.condition.aspect): one.condition for one in how_all_stands(run)
             if one.condition.kind == "rule"}  # fmt: skip
    for key, said in read.items():
        subject, aspect = split_key(key)
        service, gateway = subject.partition(".")[2], aspect.partition("@")[2]
        before = stood.get((service, gateway))
        right = said == "there" or leads_as_planned(rules_for(run.plan, gateway, service), said)
        if before is not None and before.level == "well" and not right:
            words = "missing" if said in ("missing", "lost") else "otherwise"
            yield Condition("rule", service, gateway, "missing", "wrong", say(f"its-table.{words}"), "rules-lost")
        elif before is not None and before.state == "missing" and right:
            yield Condition("rule", service, gateway, "entered", "well", say("its-table.there"))


TAKEN_BACK = ""  # as a value: what was told before is to be forgotten


def remember(run: Run, told: Mapping[str, str]) -> dict[str, Sourced[str]]:
    """Keep what is told now; returns all that is told. Raises: UsageError: it cannot be so; StateError."""
    for key, value in told.items():
        subject, aspect = split_key(key)
        if aspect == "wan" and value != TAKEN_BACK:
            _refuse(run, subject.partition(".")[2], value)
    known: dict[str, Sourced[str]] = run.told()
    with run.keeping() as state:
        if state is not None:
            state.ledger.forget([key for key, value in told.items() if value == TAKEN_BACK])
            given = {key: value for key, value in told.items() if value != TAKEN_BACK}
            state.ledger.tell(run.at, given, basis=run.basis)
    known.update({key: as_told(value, run.at) for key, value in told.items()})
    return {key: value for key, value in known.items() if value.value != TAKEN_BACK}


def _refuse(run: Run, gateway: str, value: str) -> None:
    """Raises: UsageError: a router does not have such an address on its outer side."""
    site, address = run.site, parse_address(value)
    entry = site.gateways[gateway]
    where = f"Read it once more on the status page of {gateway}: it may be called WAN, internet or external address."
    if address in entry.lan.network:
        raise UsageError(f"{value} is on {gateway}'s own LAN, so it is not its WAN address", remedy=where)
    outer = [site.gateways[key].lan.network for key in entry.behind]
    if outer and not entry.line and not any(address in network for network in outer):
        behind = ", ".join(f"{key} ({site.gateways[key].lan.network})" for key in entry.behind)
        raise UsageError(
            f"{value} is not of the network of {behind}, behind which {gateway} stands",
            remedy=f"{where} If it is right, {gateway} is not behind {behind}: correct `behind`.",
        )
