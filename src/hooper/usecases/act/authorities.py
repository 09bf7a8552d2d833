"""Making an authority of one's own, and how each system and browser takes its root. Nothing is trusted by itself."""

from __future__ import annotations

import plistlib
import uuid
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import anyio

from hooper import deeds
from hooper.certs.documents import OwnAuthorityDocument, TrustDocument, TrustStep
from hooper.certs.inspect import fingerprint_of, load_pem
from hooper.certs.issuing import NAME_LENGTH
from hooper.certs.own_authority import NoRoot, OwnAuthority, make_root, said_to_sign
from hooper.clock import rfc3339
from hooper.errors import HooperError, RefusedForSafety, UsageError
from hooper.files import make_folder, read_text, write_atomically, write_output
from hooper.net.serving import NOT_THERE, HttpAsked, HttpSaid, serve_http
from hooper.net.types import Endpoint
from hooper.planning.edits import Edited, add, change
from hooper.report.trusting import as_page
from hooper.site.load import SiteFile
from hooper.usecases.act.temporary import own_place
from hooper.usecases.prepare.edits import edit
from hooper.usecases.run import Run
from hooper.words.said import say

if TYPE_CHECKING:
    from cryptography import x509

HOME = "home.arpa"  # RFC 8375: names of homes
MEDIA = {
    ".pem": "application/x-pem-file",
    ".cer": "application/x-x509-ca-cert",
    ".html": "text/html; charset=utf-8",
    ".mobileconfig": "application/x-apple-aspen-config",
}
LINES = {"windows": 2, "macos": 2, "debian": 2, "fedora": 2, "iphone": 3, "android": 3, "firefox": 1, "chromium": 2}


@dataclass(frozen=True)
class AuthorityRequest:
    """authority: its key in the site file. signs: what it may sign; empty: as the site file has it, else the names of
    homes and the site's own networks. again: another in its place.
    """

    authority: str
    signs: tuple[str, ...] = ()
    again: bool = False
    dry_run: bool = False


def make_authority(run: Run, request: AuthorityRequest) -> tuple[OwnAuthorityDocument, list[HooperError]]:
    """Make it, keep its key, lay its root beside the site file, and write that down there.

    Raises: UsageError: it is none of one's own; RefusedForSafety: there is one; MachineError; what an edit raises.
    """
    key, there = request.authority, run.site.authorities.get(request.authority)
    if there is not None and there.kind != "own":
        raise UsageError(f"{key} speaks ACME: it is not yours", remedy="Name another, such as `house`.")
    name = f"{key}-root.pem"
    path = (run.path.parent / name) if there is None or there.trust is None else run.base / there.trust.place
    if there is not None and there.trust is not None and not request.again:
        raise RefusedForSafety(
            f"{key} is made already; another one would have to be given to all devices anew",
            code="own-authority-there",
            remedy=f"`{deeds.TRUST(key)}` says how they take it; {deeds.ASK_AGAIN} makes another in its place.",
        )
    signs = request.signs or (there.signs if there is not None else ()) or _usual(run, key)
    subject = _called(key, run.site.site.title or "", run.at)
    rows = {"kind": "own", "signs": list(signs), "trust": f"file:{name}"}
    if there is not None:
        rows = {**rows, "trust": str(there.trust) if there.trust is not None else rows["trust"]}

    def written(file: SiteFile) -> Edited:
        if there is None:
            return add(file, "authorities", key, rows)
        return change(file, "authorities", key, rows)

    written(run.file)  # what is wrong with it is said before anything is made
    root = ""
    if not request.dry_run:
        root = make_root(run.kept.certificates, subject, signs, run.at)
        if path.exists() and not request.again and not _ours(run, path):
            raise RefusedForSafety(f"{path} is there already", code="not-overwritten", remedy="Move it away.")
        write_atomically(path, root.encode())
    document, trouble = edit(run, written, dry_run=request.dry_run)
    shown = load_pem(root.encode())[0] if root else None
    return OwnAuthorityDocument(
        key, subject, str(path), tuple(signs), fingerprint_of(shown) if shown is not None else None,
        rfc3339(shown.not_valid_after_utc) if shown is not None else None, document.dry_run,
    ), trouble  # fmt: skip


def _called(key: str, title: str, at: datetime) -> str:
    """The name of a root: by the day, since two roots of one name would be taken for each other."""
    whole = f"{key[:20]} {at:%Y-%m-%d}" + (f" {title}" if title else "")
    return whole if len(whole) <= NAME_LENGTH else whole[:NAME_LENGTH].rpartition(" ")[0]


def _ours(run: Run, path: Path) -> bool:
    """Whether a root that lies there is one whose key is kept: of a run that was killed before it was written down."""
    try:
        OwnAuthority(run.kept.certificates, "", read_text(path))
    except HooperError:
        return False
    return True


def _usual(run: Run, key: str) -> tuple[str, ...]:
    """The names of homes, those that it is to sign for by the site file, and the site's own networks."""
    names = [name.removeprefix("*.") for one in run.site.certificates.values() if one.authority == key
             for name in one.names]  # fmt: skip
    beyond = [name for name in names if not name.endswith(f".{HOME}")]
    networks = [str(gateway.lan.network) for gateway in run.site.gateways.values()]
    return tuple(dict.fromkeys([HOME, *beyond, *networks]))


def _root_of(run: Run, key: str) -> x509.Certificate:
    authority = run.site.authorities[key]
    if authority.kind != "own" and authority.trust is None:
        raise UsageError(
            f"{key} is known to all systems already: nobody has to be told to trust it",
            remedy="Only an authority of your own, or one for tests, has to be taken by each device.",
        )
    if authority.trust is None:
        raise NoRoot(f"{key} has not been made yet", remedy=f"Make it with `{deeds.MAKE_AUTHORITY(key)}`.")
    try:
        return load_pem(read_text(run.base / authority.trust.place).encode())[0]
    except ValueError:
        raise UsageError(f"{authority.trust.place} holds no certificate", remedy="Correct `trust`.") from None


def how_to_trust(run: Run, key: str, file: str = "") -> tuple[TrustDocument, list[HooperError]]:
    """What each system and browser has to be told. file: what the root's file is called there; empty: as it is here.

    Raises: UsageError, NoRoot, MachineError.
    """
    root, authority = _root_of(run, key), run.site.authorities[key]
    assert authority.trust is not None
    path = str(run.base / authority.trust.place)
    common = root.subject.rfc4514_string()
    values = {"file": file or path, "name": key, "common": common.partition("CN=")[2]}
    steps = tuple(
        TrustStep(system, tuple(say(f"trust.{system}.{number}", **values) for number in range(1, count + 1)))
        for system, count in LINES.items()
    )
    signs = authority.signs if authority.kind == "own" else ()
    warning = say("trust-bound", signs=said_to_sign(signs)) if signs else say("trust-unbound")
    return TrustDocument(
        key, common, path, fingerprint_of(root), rfc3339(root.not_valid_after_utc), signs, warning, steps, None
    ), []


def files_of(root: x509.Certificate, key: str, page: bytes) -> dict[str, bytes]:
    """The root in each form that a system takes, and the page that says how."""
    from cryptography.hazmat.primitives.serialization import Encoding

    der = root.public_bytes(Encoding.DER)
    return {
        f"{key}-root.pem": root.public_bytes(Encoding.PEM),
        f"{key}-root.cer": der,
        f"{key}-root.mobileconfig": mobile_profile(der, key),
        "index.html": page,
    }


def mobile_profile(der: bytes, key: str) -> bytes:
    """A configuration profile with the root, as phones and tablets of one maker take it (an XML property list)."""
    seed = uuid.uuid5(uuid.NAMESPACE_OID, der.hex())
    inner = {
        "PayloadType": "com.apple.security.root", "PayloadVersion": 1, "PayloadContent": der,
        "PayloadIdentifier": f"hooper.{seed}.root", "PayloadUUID": str(seed).upper(), "PayloadDisplayName": key,
        "PayloadCertificateFileName": f"{key}-root.cer",
    }  # fmt: skip
    outer = {
        "PayloadType": "Configuration", "PayloadVersion": 1, "PayloadContent": [inner], "PayloadDisplayName": key,
        "PayloadIdentifier": f"hooper.{seed}", "PayloadUUID": str(uuid.uuid5(seed, "profile")).upper(),
        "PayloadRemovalDisallowed": False,
    }  # fmt: skip
    return plistlib.dumps(outer)


def write_files(run: Run, key: str, folder: Path, *, lab: bool) -> list[Path]:
    """Lay the files and the page into a folder. Raises: MachineError, RefusedForSafety."""
    make_folder(folder)
    root, (document, _) = _root_of(run, key), how_to_trust(run, key, f"{key}-root.pem")
    written = []
    page = as_page(document, f"{key}-root", lab=lab)
    for name, data in files_of(root, key, page).items():
        path = folder / name
        write_output(path, data, keep=(run.path,), force=name != "index.html")
        written.append(path)
    return written


async def show_page(
    run: Run, key: str, hold: float, ready: Callable[[str], None], heard: Callable[[str], None], *, lab: bool
) -> tuple[TrustDocument, list[HooperError]]:
    """Show the page on the LAN for a while, for phones there. hold: seconds. ready: told its address; heard: told of
    what is fetched. Raises: NoNetwork, NotAtTheSite; as `how_to_trust`.
    """
    document, _ = how_to_trust(run, key)
    there, _ = how_to_trust(run, key, f"{key}-root.pem")
    files: dict[str, bytes] = {}
    _, own = await own_place(run)

    async def answer(asked: HttpAsked) -> HttpSaid:
        name = asked.target.partition("?")[0].strip("/") or "index.html"
        if name not in files or asked.method not in ("GET", "HEAD"):
            return NOT_THERE
        heard(f"{asked.peer.address}: {name}")
        return HttpSaid(200, files[name], MEDIA[Path(name).suffix])

    async with await run.here.listen(Endpoint(own, 0)) as listener:
        address = f"http://{own}:{listener.local.port}/"
        files |= files_of(_root_of(run, key), key, as_page(there, f"{key}-root", lab=lab, address=address))
        ready(address)
        with anyio.move_on_after(hold):
            await serve_http(listener, answer)
    return document, []


def own_authorities(run: Run) -> Sequence[str]:
    """The authorities of one's own, by their keys."""
    return [key for key, one in run.site.authorities.items() if one.kind == "own"]
