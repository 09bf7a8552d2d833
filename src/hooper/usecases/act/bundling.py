"""A certificate as files for a device's page, and what to press there in which order."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from hooper import deeds
from hooper.certs.bundles import Form, written
from hooper.certs.documents import BundleDocument
from hooper.certs.store import CertificateStore
from hooper.errors import HooperError, UsageError
from hooper.files import make_folder, write_output
from hooper.secret import Secret
from hooper.usecases.run import Run
from hooper.words.said import Said, say


def bundle(
    run: Run, key: str, form: Form, folder: Path, password: Secret | None, *, force: bool
) -> tuple[BundleDocument, list[HooperError]]:
    """Write the files into a folder, for their owner alone. Raises: UsageError; RefusedForSafety, MachineError."""
    store = CertificateStore(run.kept.certificates)
    if run.site.certificates[key].authority == "device" or store.kept(key) is None:
        raise UsageError(f"{key} is not kept here", remedy=f"`{deeds.ORDER(key)}` gets it.")
    make_folder(folder, private=True)
    paths = []
    for _, name, data in written(store.pair(key), form, password):
        path = folder / name
        write_output(path, data, keep=(run.path,), force=force, private=True)
        paths.append(path)
    steps = tuple(_steps(run, key, form, [path.name for path in paths]))
    return BundleDocument(key, form, tuple(map(str, paths)), steps), []


def _steps(run: Run, key: str, form: Form, names: list[str]) -> Iterator[Said]:
    site = run.site
    for service in site.certificates[key].services:
        entry = site.services[service]
        address, port = site.devices[entry.host].address, entry.used_ports.first
        yield say("bundle-open", host=entry.host, page=f"https://{address}:{port}/")
        yield say("bundle-import", files=names)
        if form == "pkcs12":
            yield say("bundle-password")
        yield say("bundle-assign")
        yield say("bundle-restart")
        yield say("bundle-look", command=str(deeds.LOOK_AT(service)))
