"""One diagnosis in the making: its steps and causes, and the documents that they become. Pure."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from hooper.comparison import Comparison
from hooper.planning.topology import Topology
from hooper.planning.values import Finding, Plan
from hooper.site.model import Site
from hooper.why.facts import ServiceFacts
from hooper.words.catalogue import meaning
from hooper.words.said import NOTHING, Said, Value, told_of

State = Literal["ok", "broken", "unknown", "skipped"]
Certainty = Literal["certain", "likely", "possible"]
ORDER = {"certain": 0, "likely": 1, "possible": 2}
THERE = ("answered", "connected")
# What is wrong with the look, and not with the service.
ASKER = (
    "asker-inside",
    "asker-no-way",
    "asker-tunnel",
    "own-tunnel",
    "own-line",
)


@dataclass(frozen=True, slots=True)
class WhyStep:
    """One link of the chain, with what speaks for its state.

    step: the link's name. state: what it comes to. evidence: what speaks for that, one line each.
    """

    step: str
    state: State
    evidence: tuple[Said, ...]


@dataclass(frozen=True, slots=True)
class Cause:
    """What may be wrong. would_make_certain: the look, number or move that would decide; null: nothing is needed."""

    code: str
    certainty: Certainty
    message: Said
    remedy: Said
    would_make_certain: Said | None


@dataclass(frozen=True, slots=True)
class AskedOnSite:
    """A question for somebody on site. key: what its answer is kept by. text: in plain words. answer: yes, no, unknown;
    null: it is the next to be asked.
    """

    key: str
    text: Said
    answer: str | None


@dataclass(frozen=True, slots=True)
class LookSeen:
    """One look that the causes were weighed by. look: such as outside, inside, mac, rule@GATEWAY. outcome: a word."""

    look: str
    outcome: str


@dataclass(frozen=True, slots=True)
class WhyDocument:
    """`hooper why`.

    ok: null where nobody looked from outside. causes: the likeliest first. findings: where what is written or told of
    the line contradicts what was looked at. steps: the links of the chain, from the site file to the outside. asked:
    the questions that were answered, and the next one where there is one. seen: the looks that were made, each with its
    outcome: no cause is certain while another one would have looked the same. rare: the codes of causes that are not
    ruled out either, and far less likely than those.
    """

    service: str
    ok: bool | None
    steps: tuple[WhyStep, ...]
    causes: tuple[Cause, ...]
    comparisons: tuple[Comparison, ...]
    findings: tuple[Finding, ...] = ()
    asked: tuple[AskedOnSite, ...] = ()
    seen: tuple[LookSeen, ...] = ()
    rare: tuple[str, ...] = ()


@dataclass
class Case:
    """One diagnosis in the making. unsure: what an answer told that may be somebody else's."""

    topology: Topology
    plan: Plan
    facts: ServiceFacts
    steps: dict[str, WhyStep] = field(default_factory=dict)
    causes: list[Cause] = field(default_factory=list)
    unsure: set[str] = field(default_factory=set)

    @property
    def site(self) -> Site:
        return self.topology.site

    @property
    def by(self) -> str:
        """The service whose rules it is reached by."""
        return self.topology.bearer(self.facts.service)

    @property
    def ruled(self) -> tuple[str, ...]:
        """The gateways that need a rule for the service, outermost first: the one that offers it itself needs none."""
        host = self.site.services[self.facts.service].host
        return tuple(key for key in self.facts.line.chain if key != host)

    def step(self, name: str, state: State, *evidence: Said) -> None:
        self.steps[name] = WhyStep(name, state, evidence)

    def caused(
        self, code: str, certainty: Certainty, do: Said = NOTHING, sure: Said | None = NOTHING, **values: Value
    ) -> None:
        """Add a cause in the words that said.json has for it: CODE.says, .do, .sure, or of a variant, CODE.VARIANT.

        do, sure: others than these. values: all that the words name.
        """
        more = told_of(code, "sure", values) or None if sure is NOTHING else sure
        remedy = do or told_of(code, "do", values)
        self.cause(code.partition(".")[0], certainty, told_of(code, "says", values), remedy, more)

    def cause(self, code: str, certainty: Certainty, message: Said, remedy: Said, decide: Said | None = None) -> None:
        """Add a cause, unless the same is there already with better evidence."""
        meaning("cause", code)
        if any(known.code == code and ORDER[known.certainty] <= ORDER[certainty] for known in self.causes):
            return
        self.causes.append(Cause(code, certainty, message, remedy, None if certainty == "certain" else decide))
