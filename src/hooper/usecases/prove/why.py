"""The first broken link of a service, with evidence and remedy."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from hooper.chosen import chosen
from hooper.errors import HooperError
from hooper.evidence.observations import service_subject
from hooper.usecases.prove.gathering import HEARD_FOR, WhyRequest, gathered
from hooper.usecases.run import Run
from hooper.why.case import AskedOnSite, Case, WhyDocument
from hooper.why.diagnosis import diagnose
from hooper.why.facts import ServiceFacts
from hooper.why.looks import footing
from hooper.why.questions import next_question, questions

QUESTIONS = 5  # at most, in one go
ANSWER = "/answer@"  # of a service, in the keys of what was answered


async def why(run: Run, request: WhyRequest) -> tuple[WhyDocument, list[HooperError]]:
    """Diagnose, and keep what was seen and told. Raises: NoNetwork, UsageError, MachineError, ProxyFailed."""
    if request.peer is not None:
        from hooper.usecases.prove.why_peer import why_peer

        return await why_peer(run, request, request.peer)
    facts, trouble = await gathered(run, request)
    document = diagnose(run.topology, run.plan, facts)
    if document.causes:  # which say why, so that it is no trouble of its own
        trouble = [problem for problem in trouble if problem.code != "public-address-unknown"]
    public = run.site.services[request.service].reach == "public"
    if request.answers is not None and public and document.ok is not True:
        document = asked_on_site(run, request, facts, request.answers)
    return document, trouble


def asked_on_site(run: Run, request: WhyRequest, facts: ServiceFacts, given: Mapping[str, str]) -> WhyDocument:
    """Put questions to somebody on site, each of which halves what is left. Raises: UsageError: no such question."""
    pool = tuple(questions(run.topology, run.plan, request.service))
    chosen(given, [question.key for question in pool], "question")
    before, mark = _answered(run, request.service), f"{service_subject(request.service)}{ANSWER}"
    answers, upcoming, count = {**before, **given}, None, 0
    on = footing(Case(run.topology, run.plan, facts), public=True)
    while True:
        document = diagnose(run.topology, run.plan, facts, answers)
        if any(cause.certainty == "certain" for cause in document.causes):
            break
        upcoming = next_question(on, pool, answers, {cause.code for cause in document.causes})
        said = request.ask(upcoming) if upcoming is not None and request.ask is not None and count < QUESTIONS else None
        if upcoming is None or said is None:
            break
        answers[upcoming.key], upcoming, count = said, None, count + 1
    with run.keeping() as state:
        if state is not None:
            new = {f"{mark}{key}": said for key, said in answers.items() if before.get(key) != said}
            state.ledger.tell(run.at, new, basis=run.basis)
    texts = {question.key: question.text for question in pool}
    rows = [AskedOnSite(key, texts[key], said) for key, said in answers.items() if key in texts]
    rows += [AskedOnSite(upcoming.key, upcoming.text, None)] if upcoming is not None else []
    return replace(document, asked=tuple(rows))


def _answered(run: Run, service: str) -> dict[str, str]:
    """What was answered within the hour. Raises: StateError."""
    mark = f"{service_subject(service)}{ANSWER}"
    told = {key: said for key, said in run.told().items() if key.startswith(mark)}
    return {
        key.removeprefix(mark): said.value
        for key, said in told.items()
        if said.at is not None and run.at - said.at <= HEARD_FOR
    }
