"""What this line is, and whether forwarding can work at all."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal

from hooper.addresses import IPAddress
from hooper.check.between import Between, look_between
from hooper.comparison import Comparison
from hooper.errors import CounterpartError, HooperError
from hooper.line.facts import LineFacts, Measured, NatBehaviour
from hooper.line.judging import Missing, compare, line_findings, missing_numbers, remarks, ways_for
from hooper.line.measure import measure_line
from hooper.line.situation import Situation, judge
from hooper.line.sources import Given
from hooper.planning.documents import ChangedKey
from hooper.planning.values import Finding
from hooper.planning.ways import WayIn
from hooper.site.model import Site
from hooper.sourced import FRESH, age_of, as_told
from hooper.usecases.prove.keeping_looks import TAKEN_BACK, keep_address, keep_survey, remember
from hooper.usecases.run import Run
from hooper.usecases.watch.conditions import keep_conditions, of_line
from hooper.words.said import Said


@dataclass(frozen=True, slots=True)
class Addresses:
    """An address of each family. ipv4: null where there is none. ipv6: null where there is none."""

    ipv4: str | None
    ipv6: str | None


@dataclass(frozen=True, slots=True)
class GatewayRow:
    """A gateway of the chain. control: the protocols by which it answers. source: whether it was seen, or told."""

    gateway: str
    address: str
    wan_address: str | None
    control: tuple[str, ...]
    source: Literal["measured", "told"]


@dataclass(frozen=True, slots=True)
class ResolverRow:
    """A resolver that was asked.

    told_by: this computer or the site file. addresses: what it has for the names. state: whether it answers as it
    should.
    """

    resolver: str
    told_by: Literal["machine", "site"]
    state: Literal["answers", "unusable", "silent", "failing"]
    addresses: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class WayMeasured:
    """The hops. seen: who revealed itself on the way to the public address, nearest first; null: nobody.

    nats: how many NATs stand before that address, at least and at most; null where it is not known.
    """

    seen: tuple[str | None, ...]
    nats: tuple[int | None, int | None]


@dataclass(frozen=True, slots=True)
class SurveyDocument:
    """`hooper survey`.

    can_forward: whether a rule on the routers can work; null: not known yet. evidence: what speaks for the situation.
    remarks: what else was noticed. missing: the numbers that would settle it. outstanding: what was still running when
    the time was over. tunnel: the interface of a tunnel that the way out of here leads through. ways: those that are
    left where rules cannot work. between: from a place between two boxes, what is seen of the inner one. saved: the
    keys that were written into the site file. nat: what the NAT does with UDP; null where it was not measured.
    own_address: of this place. public_address: of the line. resolvers: the DNS servers, one row each. situation: what
    the line is. way: the hops; null where they were not measured.
    """

    own_address: Addresses
    public_address: Addresses
    gateways: tuple[GatewayRow, ...]
    situation: Situation
    can_forward: bool | None
    comparisons: tuple[Comparison, ...]
    findings: tuple[Finding, ...]
    evidence: tuple[Said, ...]
    remarks: tuple[Said, ...]
    missing: tuple[Missing, ...]
    outstanding: tuple[Said, ...]
    nat: NatBehaviour | None
    way: WayMeasured | None
    resolvers: tuple[ResolverRow, ...]
    tunnel: str | None
    ways: tuple[WayIn, ...] = ()
    between: Between | None = None
    saved: tuple[ChangedKey, ...] = ()


def _way(facts: LineFacts) -> WayMeasured | None:
    measured = facts.measured
    if measured is None or measured.to_self is None or measured.nats is None:
        return None
    shown = [str(hop) if hop is not None else None for hop in measured.to_self.seen[: measured.to_self.last]]
    return WayMeasured(tuple(shown), measured.nats)


def document(site: Site, facts: LineFacts) -> SurveyDocument:
    """Everything that a survey says."""
    judged, measured = judge(facts), facts.measured or Measured()
    todo = (judged.do,) if judged.do else ()
    return SurveyDocument(
        own_address=Addresses(_text(facts.own.value), _text(facts.own6.value)),
        public_address=Addresses(_text(facts.public.value), _text(facts.public6.value)),
        gateways=tuple(_gateway_rows(site, facts)),
        situation=judged.kind,
        can_forward=judged.can_forward,
        comparisons=tuple(compare(site, facts)),
        findings=tuple(line_findings(facts)),
        evidence=judged.evidence,
        remarks=(*todo, *remarks(site, facts)),
        missing=tuple(missing_numbers(site, facts)),
        outstanding=measured.outstanding,
        nat=measured.nat,
        way=_way(facts),
        resolvers=tuple(
            ResolverRow(
                str(said.address) if said.port == 53 else f"{said.address}:{said.port}",
                said.told_by,
                said.state,
                tuple(str(answer) for answers in said.answers.values() for answer in answers),
            )
            for said in measured.resolvers
        ),
        tunnel=measured.tunnel,
        ways=ways_for(facts),
    )


def _text(address: IPAddress | None) -> str | None:
    return str(address) if address is not None else None


def _gateway_rows(site: Site, facts: LineFacts) -> Iterator[GatewayRow]:
    boxes = facts.measured.boxes if facts.measured is not None else {}
    for at, key in enumerate(facts.chain):
        gateway, told, said = site.gateways[key], facts.wan.get(key), boxes.get(key)
        wan = told.value if told is not None else _text(gateway.wan_behind(facts.chain[at - 1] if at else facts.line))
        seen = said is not None or facts.default_gateway.value == gateway.lan.ip
        control = said.control if said is not None else ()
        yield GatewayRow(key, str(gateway.lan.ip), wan, control, "measured" if seen else "told")


def _running(run: Run, running: tuple[Said, ...]) -> None:
    more = f", and {len(running) - 2} more" if len(running) > 2 else ""
    if running:
        run.progress(f"looking: {', '.join(map(str, running[:2]))}{more}")


async def survey(
    run: Run,
    told: Mapping[str, str] = {},
    public: Mapping[str, IPAddress] = {},
    deadline: float = 5.0,
    *,
    between: bool = False,
    save: bool = False,
    dry_run: bool = False,
    ask: Callable[[Missing], IPAddress | None] | None = None,
) -> tuple[SurveyDocument, list[HooperError]]:
    """Measure, and keep what was measured and told.

    public: addresses by line that were given; told: by the keys of the store, these included. deadline: seconds for all
    of it; as long again where it looks `between` two boxes. ask: is asked for a number that nobody here says, and gives
    None where it is not known. save: write what is clear into the site file. Raises: NoNetwork, UsageError,
    SiteFileError, MachineError.
    """
    answers = remember(run, told)
    facts = await measure_line(
        run.here, run.site, Given(public, answers), deadline, now=run.at, progress=partial(_running, run)
    )
    trouble = list(facts.measured.trouble) if facts.measured is not None else []
    if ask is not None:
        facts = _asked(run, facts, ask)
    if facts.stun_silent:
        names = ", ".join(map(str, facts.measured.silent)) if facts.measured is not None else ""
        remedy = "Check this computer's internet access, or name other servers in [measure]."
        trouble.append(CounterpartError(f"no STUN server answered ({names})", code="no-stun", remedy=remedy))
    keep_address(run, facts.line, facts.public)
    keep_survey(run, facts)
    withdrawn = TAKEN_BACK in told.values()  # what was known by it is not known any more
    stands = (one._replace(steady=one.steady and not withdrawn) for one in of_line(facts.line, judge(facts)))
    keep_conditions(run, stands)
    made = document(run.site, facts)
    if between:
        made = replace(made, between=await _between(run, facts, deadline))
    if save:
        made = replace(made, saved=_saved(run, facts, made, dry_run=dry_run))
    return made, trouble


def _asked(run: Run, facts: LineFacts, ask: Callable[[Missing], IPAddress | None]) -> LineFacts:
    """What a person says, for exactly what is missing."""
    asked: set[str] = set()
    while (missing := next((m for m in missing_numbers(run.site, facts) if m.gateway not in asked), None)) is not None:
        asked.add(missing.gateway)
        address = ask(missing)
        if address is not None:
            remember(run, {f"gateways.{missing.gateway}/wan": str(address)})
            facts = replace(facts, wan={**facts.wan, missing.gateway: as_told(str(address), run.at)})
    return facts


async def _between(run: Run, facts: LineFacts, deadline: float) -> Between:
    failed: dict[str, Said] = {}
    for service, entry in run.site.services.items():
        looks = run.seen_outside(service, FRESH) if entry.reach == "public" else []
        if looks and looks[0].value.get("verdict") in ("silent", "refused"):  # what was not proven says nothing
            failed[service] = age_of(looks[0].at, run.at)
    own = facts.own.value
    return await look_between(run.here, run.topology, run.plan, facts.at, own, deadline, failed=failed)


def _saved(run: Run, facts: LineFacts, made: SurveyDocument, *, dry_run: bool) -> tuple[ChangedKey, ...]:
    """Write what is clear into the site file; returns the keys that it changes."""
    from hooper.planning.edits import measured
    from hooper.site.load import parse_site
    from hooper.store.sitefile import save_site

    situation = made.situation if made.can_forward is not None else None
    if situation == "one-nat" and any(facts.chain[-1] in gateway.behind for gateway in run.site.gateways.values()):
        situation = "several-nats"  # seen from between two boxes; the line has both
    inner = zip(facts.chain, facts.chain[1:], strict=False)
    wans = {key: (outer, facts.wan[key].value) for outer, key in inner if key in facts.wan}
    edited = measured(run.file, facts.line, situation, wans)
    parse_site(edited.text.encode(), run.file.name)
    if edited.text != run.file.text and not dry_run:
        run.use(save_site(run.path, run.file, edited.text))
    return edited.changes
