"""Telling people what changed: what, whom, and when not. The text is pure; a program of its own carries it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from hooper.errors import HooperError, MachineError
from hooper.keep.sending import NoticeText, is_quiet, send
from hooper.masking import Mask
from hooper.secret import redact
from hooper.site.private import private_words
from hooper.store.kept import Happening, Subject
from hooper.usecases.run import Run
from hooper.usecases.watch.condition_kinds import aspect_words
from hooper.usecases.watch.noticing import NoticesDocument, NoticesRequest, notice_row
from hooper.visible import shown
from hooper.words.said import state_words

if TYPE_CHECKING:
    from hooper.site.model import NoticeTo

MOST = 40  # changes in one notice; what is more is counted
THINGS = {
    "service": "", "name": "the name ", "certificate": "the certificate ", "rule": "the rule for ",
    "line": "the line ", "router": "the router ", "clock": "the clock of ", "risk": "the accepted risk of ",
    "tunnel": "the tunnel ", "peer": "the peer ", "keeper": "Hooper's own ",
    "authority": "the root of ", "witness": "the witness ", "meeting": "the tunnel ",
}  # fmt: skip


def worth_telling(events: Sequence[Happening], about: Sequence[str]) -> list[Happening]:
    """What of these a person wants to know: the last change of each thing, if it is another state than before the
    first. What came to be so for the first time is told only where it is wrong.
    """
    first: dict[tuple[Subject, str, str], Happening] = {}
    last: dict[tuple[Subject, str, str], Happening] = {}
    for event in events:
        key = event.kind, event.subject, event.aspect
        first.setdefault(key, event)
        last[key] = event
    out = []
    for key, event in last.items():
        was = first[key].before
        kind = _kind(event)
        if kind is None or kind not in about or was == event.after:
            continue
        if was is None and event.level != "wrong":
            continue
        out.append(event)
    return sorted(out, key=lambda event: (event.level != "wrong", event.number))


def _kind(event: Happening) -> str | None:
    """Which of a notice's kinds a change belongs to."""
    if event.kind == "address":
        return "address"
    if event.after in ("ends-soon", "over"):
        return "ends-soon"
    if event.level == "wrong":
        return "broken"
    if event.level == "well":
        return "mended"
    return None


def worded(events: Sequence[Happening], title: str, mask: Mask | None) -> NoticeText:
    """A notice about these changes. title: what the site is called."""
    broken = sum(event.level == "wrong" for event in events)
    mended = sum(event.level == "well" for event in events)
    counts = [f"{broken} out of order" if broken else "", f"{mended} mended" if mended else ""]
    summary = ", ".join(filter(None, counts)) or "changed"
    lines = [shown(line) for line in _lines(events[:MOST])]
    if len(events) > MOST:
        lines.append(f"and {len(events) - MOST} more")
    text = "\n".join(lines)
    head = shown(f"{title}: {summary}")
    return NoticeText(redact(mask.text(head) if mask else head), redact(mask.text(text) if mask else text))


def _lines(events: Sequence[Happening]) -> Iterator[str]:
    for event in events:
        at = event.at.astimezone().strftime("%Y-%m-%d %H:%M")
        if event.kind == "address":
            was = f", before {event.before}" if event.before else ""
            yield f"{at}  the public address of {event.subject} is {event.after}{was}"
            continue
        side = aspect_words(event.kind, event.aspect)
        what = THINGS.get(event.kind, "") + event.subject + (f" ({side})" if side else "")
        why = f" [{event.cause}]" if event.cause else ""
        detail = f": {event.detail}" if event.detail and event.level == "wrong" else ""
        yield f"{at}  {what}: {state_words(event.after)}{why}{detail}"


async def tell_all(run: Run) -> tuple[list[str], list[HooperError]]:
    """Send what each of [notices] has not been told of yet; who was told, and what went wrong. Raises: StateError."""
    told: list[str] = []
    trouble: list[HooperError] = []
    if run.state is None:
        return told, trouble
    history, now = run.state.history, run.here.clock.now()
    newest = history.last_event()
    for key, notice in run.site.notices.items():
        until = history.told_until(key)
        if until is None:  # what was before it was asked for is not told
            history.told(key, newest, now)
            continue
        waiting = worth_telling(history.events(after=until), notice.about)
        if not waiting:
            if newest > until:
                history.told(key, newest, history.last_told(key) or now)
            continue
        if is_quiet(notice.quiet, now.astimezone()) or _collecting(run, key, notice, now):
            continue
        try:
            address = notice.to.read(run.base).reveal()
            await send(run.here, _notice(run, notice, waiting), address)
        except (HooperError, MachineError) as exc:
            trouble.append(exc.about(key))
            continue
        history.told(key, newest, now)
        told.append(key)
    return told, trouble


def _collecting(run: Run, key: str, notice: NoticeTo, now: datetime) -> bool:
    """Whether it is too soon for the next digest."""
    last = run.kept.history.last_told(key)
    return notice.digest is not None and last is not None and now - last < timedelta(seconds=notice.digest)


def _notice(run: Run, notice: NoticeTo, events: Sequence[Happening]) -> NoticeText:
    return worded(events, _title(run), Mask(private_words(run.site)) if notice.masked else None)


def _title(run: Run) -> str:
    """What the site is called; what happens in a lab must not be taken for real."""
    title = run.site.site.title or run.path.stem
    return f"[lab] {title}" if run.here.world == "lab" else title


async def test_notices(run: Run, request: NoticesRequest) -> tuple[NoticesDocument, list[HooperError]]:
    """Send each a notice that says that it is a test; what is waiting is not touched. Raises: StateError."""
    rows, trouble = [], []
    text = "This is a test. When something is out of order, it is told here."
    for key in request.notices:
        try:
            address = run.site.notices[key].to.read(run.base).reveal()
            await send(run.here, NoticeText(f"{_title(run)}: a test", text), address)
        except HooperError as exc:
            trouble.append(exc.about(key))
            rows.append(notice_row(run, key, "the test was not sent"))
        else:
            rows.append(notice_row(run, key, "the test was sent"))
    return NoticesDocument(tuple(rows)), trouble
