"""How everything stands, as OpenMetrics text: for a collector's folder, or at a loopback address."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Literal

from hooper.errors import UsageError
from hooper.files import write_atomically
from hooper.net.serving import HttpAsked, HttpSaid, serve_http
from hooper.net.system import SystemDoor
from hooper.net.types import Endpoint
from hooper.site.model import Site
from hooper.store.kept import Stood, Turn
from hooper.usecases.watch.condition_kinds import level_of, of_services

KIND = "application/openmetrics-text; version=1.0.0; charset=utf-8"


@dataclass(frozen=True)
class Outlet:
    """Where metrics go. to: a file, or an address of this computer's own."""

    kind: Literal["file", "address"]
    file: Path | None = None
    address: Endpoint | None = None


def parse_outlet(text: str, base: Path) -> Outlet:
    """[keep] metrics. base: the site file's folder. Raises: UsageError: neither file: nor a loopback address."""
    if text.startswith("file:") and len(text) > 5:
        return Outlet("file", base / Path(text[5:]).expanduser())
    host, _, port = text.rpartition(":")
    with suppress(ValueError):
        address = ip_address(host.strip("[]"))
        if port.isascii() and port.isdigit() and 0 < int(port) < 65536:
            if not address.is_loopback:
                raise UsageError(
                    f"metrics = {text!r}: they tell names and addresses, so they are shown on this computer alone",
                    remedy="Write 127.0.0.1:PORT, or file:PATH.",
                )
            return Outlet("address", None, Endpoint(address, int(port)))
    raise UsageError(f"metrics = {text!r} is not understood", remedy="Write file:PATH or 127.0.0.1:PORT.")


def exposition(site: Site, called: str, stood: Sequence[Stood], turns: dict[str, Turn], now: datetime) -> bytes:
    """The text of all metrics (OpenMetrics 1.0). called: what the site is called. What they say is what `status` says;
    a service has a sum over its places too, with no aspect.
    """
    from prometheus_client import CollectorRegistry, Gauge
    from prometheus_client.openmetrics.exposition import generate_latest

    registry = CollectorRegistry()
    labels = ["site", "kind", "subject", "aspect"]
    well = Gauge("hooper_well", "1: ok, 0: not; what is not known is left out.", labels, registry=registry)
    seen = Gauge("hooper_seen_age_seconds", "How long ago it was last looked at.", labels, registry=registry)
    since = Gauge("hooper_unchanged_seconds", "How long it has been so.", labels, registry=registry)
    levels = [("service", key, "", judged.level) for key, judged in of_services(site, stood, now).items()]
    levels += [(one.condition.kind, one.condition.subject, one.condition.aspect, level_of(one, now)) for one in stood]
    for kind, subject, aspect, level in levels:
        if level in ("well", "wrong"):
            well.labels(called, kind, subject, aspect).set(level == "well")
    for one in stood:
        what = one.condition
        values = (called, what.kind, what.subject, what.aspect)
        if what.aspect != "given":
            seen.labels(*values).set(max((now - one.at).total_seconds(), 0))
            since.labels(*values).set(max((now - one.since).total_seconds(), 0))
    failures = Gauge("hooper_task_failures", "Failures of a task in a row.", ["site", "task"], registry=registry)
    due = Gauge("hooper_task_due_seconds", "Seconds until a task is due again.", ["site", "task"], registry=registry)
    for task, turn in turns.items():
        failures.labels(called, task).set(turn.failures)
        if turn.due is not None:
            due.labels(called, task).set((turn.due - now).total_seconds())
    text: bytes = generate_latest(registry)  # type: ignore[no-untyped-call]
    return text


def write(outlet: Outlet, text: bytes) -> None:
    """Into the file of a collector. Raises: MachineError."""
    if outlet.file is not None:
        write_atomically(outlet.file, text, mode=0o644)


@dataclass
class MetricsPage:
    """What is shown at an address: the newest text."""

    text: bytes = b"# EOF\n"

    async def serve(self, at: Endpoint) -> None:
        """Until cancelled. Raises: MachineError: the port is taken."""
        async with await SystemDoor().listen(at) as listener:
            await serve_http(listener, self._answer)

    async def _answer(self, asked: HttpAsked) -> HttpSaid:
        if not is_own_name(asked.fields.get("host", "")):
            return HttpSaid(421, b"this page is for this computer alone, by its address\n")
        right = asked.method in ("GET", "HEAD") and asked.target.partition("?")[0] == "/metrics"
        return HttpSaid(200, self.text, KIND) if right else HttpSaid(404, b"see /metrics\n")


def is_own_name(host: str) -> bool:
    """Whether a Host field names a loopback address by itself: a name may be anybody's that leads here (RFC 9110
    section 7.2), and a browser would then show the page to theirs.
    """
    name = host.rpartition(":")[0] if host.rpartition(":")[2].isdigit() and not host.endswith("]") else host
    with suppress(ValueError):
        return ip_address(name.strip("[]")).is_loopback
    return name.lower() in ("", "localhost")
