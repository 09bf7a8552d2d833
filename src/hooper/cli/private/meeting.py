"""hooper meeting ..."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.cli.parts.command import EDIT_DRY_RUN, command
from hooper.cli.parts.entity import group_of
from hooper.cli.parts.session import Session
from hooper.errors import EXIT_NEEDS_A_PERSON, UsageError, worst

if TYPE_CHECKING:
    from hooper.cli.parts.render import Screen
    from hooper.usecases.private.ends_meet import MetDocument

app = group_of("meetings", "Tunnels of other sites that end on this computer, and meet their other end directly.")


@command(app, "meeting take", site=True, dry_run=EDIT_DRY_RUN)
def take(session: Session, profile: Path, witness: str | None = None, entry: str | None = None) -> int:
    """Take the profile that another site has handed, WireGuard's own file: its other end is then met directly.

    Both ends need a keeper, and the same witness. Its file stays where it is; no key is taken from it.
    """
    from hooper.cli.parts.editing import finish
    from hooper.files import read_text
    from hooper.planning.meetings import take_profile

    file = session.read_site()
    known = file.site.witnesses
    if not known:
        raise UsageError(
            "this site has no witness", remedy="Have the same one invite this site, then `witness join CODE`."
        )
    (by,) = chosen([witness or next(iter(known))], known, "witness")
    text = read_text(profile)
    key = entry or profile.stem
    code = finish(session, file, lambda file: take_profile(file, key, by, profile.name, text), ahead=False)
    session.next("meet-now", "meeting now")
    session.then("keep-meeting", "keep")
    return code


@command(app, "meeting now", site=True, state=True, mask=True)
def now(session: Session, entry: list[str] | None = None, wait: int = 20) -> int:
    """Have tunnels meet their other ends now.

    The other end has to do so within the same seconds, as keepers do. It is told where each is seen from outside, what
    kind of NAT that makes, whether two such can be opened to each other, and the delay and the loss of each way that
    answers.
    """
    from hooper.clock import SystemClock
    from hooper.planning.meetings import meeting_ends
    from hooper.usecases.private.ends_meet import meet_all

    file = session.read_site()
    ends = meeting_ends(file.site, SystemClock().now().date())
    if not ends:
        raise UsageError(
            "nothing meets here",
            remedy="At the server's site: `tunnel change TUNNEL --meet WITNESS`; at the other: `meeting take PROFILE`.",
        )
    if not 0 <= wait <= 25:
        raise UsageError(f"--wait {wait}: from 0 to 25 seconds")
    keys = chosen(entry, ends, "tunnel that meets") if entry else tuple(ends)
    done = session.look(lambda run: meet_all(run, keys, wait), file)
    code = session.show(done.document, _render, errors=done.trouble)
    if done.document.ends:
        session.next("keep-meeting", "keep")
    return worst([code, 0 if all(row.way != "none" for row in done.document.ends) else EXIT_NEEDS_A_PERSON])


def _render(document: MetDocument, out: Screen) -> None:
    from rich.text import Text

    from hooper.cli.parts.render import heading, indented

    for row in document.ends:
        heading(out, f"{row.end}: by the witness {row.witness}")
        style = {"direct": "well", "relay": "doubtful", "none": "wrong"}[row.way]
        mark = {"direct": "✓", "relay": "~", "none": "✗"}[row.way]
        words = {"direct": "goes directly", "relay": "goes by the relay", "none": "goes nowhere"}[row.way]
        out.print(Text.assemble(" ", (mark, style), f" {words}: {row.detail}"))
        indented(out, f"seen from outside at {row.seen_at}: {row.nat or 'its NAT is not known'}", left=3)
        if row.came:
            indented(out, f"the other end: {row.other_nat or 'its NAT is not known'}", left=3)
        for way in row.ways:
            words = f"{way.by} to {way.to}: {way.delay_ms:g} ms there and back, {100 * way.loss:.0f} % lost"
            indented(out, words, left=3)
