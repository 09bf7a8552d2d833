"""What the use cases share that look at the network: what is kept of a look."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from hooper.check.wish import Outcome
from hooper.jsonform import kept
from hooper.line.facts import LineFacts
from hooper.line.sources import PublicAddress
from hooper.line.surveyed import worth_keeping
from hooper.sourced import SourcedAddress
from hooper.store.checks import Looked, StoredInside
from hooper.usecases.conditions import keep_conditions, of_addresses, of_clocks, of_results
from hooper.usecases.run import Run


def keep_look(run: Run, outcome: Outcome, causes: Mapping[str, str] | None = None) -> None:
    """Keep the results of a check, what of the inside is worth it, and the public addresses that it measured.

    causes: what broke services that answered before, where that was asked.
    """
    origin = outcome.origin
    rows = [
        Looked(
            service=result.service,
            transport=result.transport,
            port=result.port,
            verdict=result.verdict,
            ok=result.ok,
            reached=origin.proves_outside and result.expected == "reachable" and result.ok,
            document=kept(result),
        )
        for result in outcome.results
    ]
    inside = {
        key: StoredInside(one.verdict, one.fingerprint, one.greeting, one.at)
        for key, one in outcome.inside.items()
        if one.verdict in ("answered", "connected") and key not in outcome.strangers
    }
    with run.keeping() as state:
        if state is not None:
            state.checks.save(run.at, (origin.kind, origin.name, origin.proves_outside), rows, inside)
            looks = [
                (r.service, str(outcome.place), r.ok, r.took_ms if r.expected == "reachable" else None)
                for r in outcome.results
                if r.provable and not r.untold
            ]
            state.history.looked(run.at, looks)
    now = run.here.clock.now()
    seen, lines = of_results(outcome.place, outcome.results, causes), outcome.public.values()
    keep_conditions(run, (*seen, *of_clocks(run.site, outcome, now), *of_addresses(lines)))
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
            state.values.saw(
                run.at,
                line,
                address.value,
                address.source["source"] if address.source.code == "confirmed-by" else address.source,
            )


def keep_survey(run: Run, facts: LineFacts) -> None:
    """Keep what else was measured of a line, for whoever asks within the hour."""
    with run.keeping() as state:
        if state is not None:
            state.values.surveyed(run.at, facts.line, kept(worth_keeping(facts)))
