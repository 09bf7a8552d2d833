"""https of services: its steps, and a web server's file that is checked by that server before anybody reads it."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

from hooper import deeds
from hooper.certs.store import CertificateStore
from hooper.errors import HooperError, MachineError, UsageError
from hooper.files import read_whole, write_atomically, write_output
from hooper.planning.handed_on import HTTPS, HandedOn, SecureStep, WebServer, config_for, handed_on, steps_for, url_of
from hooper.site.handed import sharing
from hooper.site.references import planned_for
from hooper.usecases.run import Run
from hooper.visible import Lines
from hooper.words.said import NOTHING, Said, say

LIMIT_S = 30.0  # seconds for a web server's own test
# the program, how it tests a file, how it tests all that it has, how it reads that anew
PROGRAMS: dict[WebServer, tuple[str, tuple[str, ...], tuple[str, ...], tuple[str, ...]]] = {
    "nginx": ("nginx", ("nginx", "-t", "-q", "-c"), ("nginx", "-t", "-q"), ("nginx", "-s", "reload")),
    "apache": ("apachectl", ("apachectl", "-t", "-f"), ("apachectl", "configtest"), ("apachectl", "graceful")),
    "lighttpd": ("lighttpd", ("lighttpd", "-tt", "-f"), ("lighttpd", "-tt", "-f", "/etc/lighttpd/lighttpd.conf"),
                 ("systemctl", "reload", "lighttpd")),
}  # fmt: skip
MODULES = ("mpm_event", "authz_core", "authz_host", "ssl", "socache_shmcb", "proxy", "proxy_http", "headers")
MODULE_FOLDERS = ("/usr/lib/apache2/modules", "/usr/lib64/httpd/modules", "/etc/httpd/modules")


class ServerRefuses(MachineError):
    """A web server's own test refuses the file."""

    code = "server-refuses"
    remedy = "Nothing was changed, and it was told to read nothing. Look at what it says."


@dataclass(frozen=True, slots=True)
class SecureRow:
    """One service. url: what is typed. steps: what https needs, in their order."""

    service: str
    url: str
    steps: tuple[SecureStep, ...]


@dataclass(frozen=True, slots=True)
class SecureDocument:
    """`hooper service secure`. services: one row each. server: the web server that hands them on; null: none.

    config: its file. file: where it was written; null: nowhere. tested: what came of its own test. reloaded: it was
    told to read it.
    """

    services: tuple[SecureRow, ...]
    server: str | None
    config: str | None
    file: str | None
    tested: Said
    reloaded: bool


@dataclass(frozen=True)
class SecureRequest:
    """services: which. server: that hands them on by name; None: none. listen: its port; None: by the site file, else
    443. out: where its file goes. behind: its address, as the devices see it; None: by the site file. reload: have it
    read the file, once its own test has passed.
    """

    services: tuple[str, ...]
    server: WebServer | None = None
    listen: int | None = None
    out: Path | None = None
    behind: str | None = None
    force: bool = False
    reload: bool = False


def secure(run: Run, request: SecureRequest) -> tuple[SecureDocument, list[HooperError]]:
    """The steps, and the file. Raises: UsageError; ServerRefuses: then what was there is there; RefusedForSafety."""
    services, port = _together(run, request)
    files = _files(run, services)
    planned = any(run.site.services[key].hands_to is not None for key in services)
    to_be = request.server is not None and not planned  # by the web server that is asked about
    behind = (request.behind or "the web server's address") if to_be else None
    listen = port if to_be else None
    rows = tuple(
        SecureRow(
            key,
            url_of(run.topology, key, listen)[0],
            tuple(steps_for(run.topology, key, kept=key in files, behind=behind, listen=listen)),
        )
        for key in services
    )
    if request.server is None:
        return SecureDocument(rows, None, None, None, NOTHING, reloaded=False), []
    handed = handed_on(run.topology, services, files, port)
    config = config_for(request.server, handed, port)
    tested = _tested(request.server, config, handed, files)
    reloaded = False
    if request.out is not None:
        reloaded = _written(run, request, config)
    file = str(request.out) if request.out is not None else None
    return SecureDocument(rows, request.server, Lines(config), file, tested, reloaded), []


def _together(run: Run, request: SecureRequest) -> tuple[tuple[str, ...], int]:
    """The services of one file, and the port at which the web server listens: those that the site file has handed on at
    one port stand in it together, else one of them would be lost. Raises: UsageError.
    """
    entries, asked = run.site.services, request.services
    if request.server is None:
        return asked, HTTPS
    by = {run.topology.bearer(key) for key in asked if entries[key].hands_to is not None}
    if not by:
        return asked, request.listen or HTTPS
    other = [key for key in asked if entries[key].hands_to is None]
    if other or len(by) > 1:
        raise UsageError(
            f"{', '.join(asked)} are not handed on at one port by the site file",
            remedy="Ask for those of one web server's port together.",
        )
    (bearer,) = by
    port = entries[bearer].used_ports.first
    if request.listen not in (None, port):
        raise UsageError(
            f"by the site file {', '.join(asked)} is handed on at port {port}",
            remedy="Leave the port out, or change it in the site file.",
        )
    alike = sharing(run.site).get(bearer, (bearer,))
    return tuple(key for key in alike if entries[key].hands_to is not None), port


def _files(run: Run, services: tuple[str, ...]) -> dict[str, tuple[str, str]]:
    """The files of the certificates that are kept, by service."""
    if run.state is None:
        return {}
    store, found = CertificateStore(run.state.certificates), {}
    for key in services:
        planned = planned_for(run.site, key)
        if planned is not None and run.site.certificates[planned].authority != "device" and store.kept(planned):
            found[key] = str(store.chain_path(planned)), str(store.key_path(planned))
    return found


def _tested(server: WebServer, config: str, handed: list[HandedOn], files: dict[str, tuple[str, str]]) -> Said:
    """What the server's own test says of the file by itself. Raises: ServerRefuses."""
    program, alone, _, _ = PROGRAMS[server]
    if missing := [one.service for one in handed if one.service not in files]:
        return say("secure-untested-certificate", services=missing, order=str(deeds.ORDER))
    if shutil.which(program) is None:
        return say("secure-untested-server", server=server)
    with tempfile.TemporaryDirectory(prefix="hooper-") as folder:
        at = Path(folder)
        write_atomically(at / "handed-on.conf", config.encode(), private=True)
        write_atomically(at / "whole.conf", _whole(server, at).encode(), private=True)
        _run((*alone, str(at / "whole.conf")), server)
    return say("secure-tested", server=server)


def _whole(server: WebServer, at: Path) -> str:
    """A whole configuration around the file, for the test alone."""
    snippet = at / "handed-on.conf"
    if server == "nginx":
        temp = " ".join(f"{kind}_temp_path {at}/{kind};" for kind in
                        ("client_body", "proxy", "fastcgi", "uwsgi", "scgi"))  # fmt: skip
        return f"error_log stderr; pid {at}/pid;\nevents {{}}\nhttp {{ access_log off; {temp}\n include {snippet}; }}\n"
    if server == "apache":
        modules = next((Path(one) for one in MODULE_FOLDERS if Path(one).is_dir()), Path(MODULE_FOLDERS[0]))
        loads = [f"LoadModule {one}_module {modules}/mod_{one}.so" for one in MODULES
                 if (modules / f"mod_{one}.so").is_file()]  # fmt: skip
        head = [f'ServerRoot "{at}"', "ServerName localhost", f'PidFile "{at}/pid"', f'ErrorLog "{at}/log"', *loads]
        return "\n".join([*head, f'DefaultRuntimeDir "{at}"', f'Include "{snippet}"', ""])
    return f'server.document-root = "{at}"\nserver.port = 1\ninclude "{snippet}"\n'


def _written(run: Run, request: SecureRequest, config: str) -> bool:
    """Write the file; whether the server was told to read it. Raises: ServerRefuses: the former file is there again."""
    assert request.out is not None
    assert request.server is not None
    try:
        before = read_whole(request.out)
    except OSError:
        before = None
    write_output(request.out, config.encode(), keep=(run.path,), force=request.force)
    if not request.reload:
        return False
    program, _, whole, again = PROGRAMS[request.server]
    if shutil.which(program) is None:
        raise UsageError(f"{request.server} is not installed here", remedy="Let the file be written alone.")
    try:
        _run(whole, request.server)
    except ServerRefuses:
        if before is None:
            request.out.unlink(missing_ok=True)
        else:
            write_atomically(request.out, before, mode=0o644)
        raise
    _run(again, request.server)
    return True


def _run(words: tuple[str, ...], server: str) -> None:
    """Raises: ServerRefuses."""
    try:
        done = subprocess.run(  # noqa: S603 - the words are ours
            words, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, timeout=LIMIT_S,
            check=False,
        )  # fmt: skip
    except (OSError, subprocess.TimeoutExpired) as exc:
        raise ServerRefuses(f"{words[0]} cannot be run: {exc}") from None
    if done.returncode:
        lines = done.stdout.decode("utf-8", "replace").strip().splitlines()
        raise ServerRefuses(f"{server} refuses it: {lines[0][:300] if lines else f'code {done.returncode}'}")
