"""What `hooper service secure` shows."""

from __future__ import annotations

from typing import TYPE_CHECKING

from hooper.chosen import chosen
from hooper.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence
    from pathlib import Path

    from hooper.cli.parts.render import Screen
    from hooper.cli.parts.session import Session
    from hooper.site.load import SiteFile
    from hooper.usecases.act.securing import SecureDocument

MARKS = {True: ("[x]", "well"), False: ("[ ]", "wrong"), None: ("[ ]", "")}


def show_secured(
    session: Session,
    file: SiteFile,
    services: Sequence[str],
    server: str | None,
    listen: int | None,
    behind: str | None,
    out: Path | None,
    *,
    force: bool,
    reload: bool,
) -> int:
    """Show the steps, and write the file; the exit code."""
    from hooper import deeds
    from hooper.cli.parts.spelling import spelled
    from hooper.planning.handed_on import WEB_SERVERS, distinct
    from hooper.usecases.act.securing import SecureRequest
    from hooper.usecases.act.securing import secure as look

    keys = distinct(chosen(services, file.site.services, "service"))
    (by,) = chosen((server,), WEB_SERVERS, "web server") if server is not None else (None,)
    if by is None and (out is not None or reload):
        raise UsageError("--out and --reload go with --by", remedy=f"Name a web server: {', '.join(WEB_SERVERS)}.")
    if reload and out is None:
        raise UsageError("--reload goes with --out", remedy="Name the file that the web server reads.")
    if listen is not None and not 1 <= listen <= 65535:
        raise UsageError(f"--listen {listen}: from 1 to 65535")
    request = SecureRequest(keys, by, listen, out, behind, force, reload)  # type: ignore[arg-type]
    done = session.do(lambda run: look(run, request), file, look=True)
    code = session.show(done.document, _render, errors=done.trouble)
    if out is not None and not session.out_taken:
        session.note(f"Written to {out}{', and read by it' if done.document.reloaded else ''}.")
    elif by is not None:
        path = {"nginx": "/etc/nginx/conf.d/hooper.conf", "apache": "/etc/apache2/sites-enabled/hooper.conf"}
        where = path.get(by, "/etc/lighttpd/conf-enabled/90-hooper.conf")
        session.next("write-the-file", f"service secure {' '.join(keys)} --by {by} --out {where} --reload")
    open_ = [row for row in done.document.services if any(step.code in ("tls", "base-url") and step.done is not True
             for step in row.steps)]  # fmt: skip
    alone = [key for key in keys if file.site.services[key].hands_to is None] if by is not None else []
    if alone:
        session.then("have-it-handed-on", spelled(deeds.HANDED_ON(alone[0])).removeprefix("hooper "))
    if open_:
        todo = [
            s.code.replace("-", "_") for s in open_[0].steps if s.code in ("tls", "base-url") and s.done is not True
        ]
        first = file.site.services[open_[0].service]
        host = file.site.services[first.hands_to or open_[0].service].host
        session.then("tick-what-is-done", f"host tick {host} {' '.join(todo)}")
    return code


def _render(document: SecureDocument, out: Screen) -> None:
    from hooper.cli.parts.render import heading, indented

    for number, row in enumerate(document.services):
        if number:
            out.print()
        heading(out, f"{row.service}: {row.url}")
        for step in row.steps:
            mark, _ = MARKS[step.done]
            indented(out, step.text, mark=f"{mark} ", left=3)
    if document.config is not None:
        if document.file is None:
            out.print()
            heading(out, f"The file for {document.server}")
            for line in document.config.splitlines():
                out.print(line)
        out.print()
        indented(out, document.tested, left=0)
