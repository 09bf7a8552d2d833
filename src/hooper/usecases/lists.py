"""What the plan exposes; hosts and services as lists."""

from __future__ import annotations

from hooper.errors import HooperError
from hooper.planning.audit import AuditDocument
from hooper.planning.documents import HostListDocument, ServiceListDocument
from hooper.planning.lists import host_rows, service_rows
from hooper.usecases.run import Run
from hooper.usecases.standing import standing


def audit(run: Run, request: None = None) -> tuple[AuditDocument, list[HooperError]]:
    """What the plan lets in, and what of ours stands on routers beside it. Asks nobody. Raises: StateError."""
    from hooper.planning.audit import audit as make_audit

    return make_audit(run.topology, run.plan, run.at.date(), standing(run)), []


def list_hosts(run: Run, request: str | None = None) -> tuple[HostListDocument, list[HooperError]]:
    """The hosts of the file. request: only this one."""
    rows = (row for row in host_rows(run.topology) if request in (None, row.host))
    return HostListDocument(tuple(rows)), []


def list_services(run: Run, request: None = None) -> tuple[ServiceListDocument, list[HooperError]]:
    """The services of the file."""
    return ServiceListDocument(tuple(service_rows(run.topology))), []
