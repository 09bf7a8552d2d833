"""All documents that commands print, gathered; `docs/schemas/` is generated from them.

Each is a dataclass beside what it is made of, so that a command loads no other's.
"""

from __future__ import annotations

from dataclasses import dataclass

from hooper.certs.documents import CertificatesDocument
from hooper.check.results import CheckDocument
from hooper.gateways.documents import RouterChangesDocument, RouterListDocument
from hooper.lab.browser import Browsed
from hooper.lab.documents import (
    DemoDocument,
    LabDocument,
    LabFaultsDocument,
    LabLedgerDocument,
    LabLineDocument,
    LabReadDocument,
    LabRunDocument,
    LabTypeDocument,
)
from hooper.line.neighbours import FindDocument
from hooper.names.documents import NamesDocument
from hooper.planning.audit import AuditDocument
from hooper.planning.card import CardDocument
from hooper.planning.documents import (
    EditDocument,
    HostListDocument,
    ServiceListDocument,
    SuggestDocument,
    WorksheetDocument,
)
from hooper.planning.values import PlanDocument
from hooper.tunnels.documents import (
    HandedDocument,
    MadeDocument,
    MendedDocument,
    PeersDocument,
    ProfilesDocument,
    SeenDocument,
    TunnelDocument,
    TunnelsDocument,
)
from hooper.usecases.act.updaters import TryDocument, UpdatersDocument
from hooper.usecases.explaining import ExplainDocument
from hooper.usecases.moving import MovedDocument
from hooper.usecases.prepare.hosts import KnownDocument
from hooper.usecases.prepare.ports_in import PortsInDocument
from hooper.usecases.prepare.survey import SurveyDocument
from hooper.usecases.prove.arrival import ArrivalLine
from hooper.usecases.prove.brought import ReportedDocument
from hooper.usecases.prove.stand_in import StandInLine
from hooper.usecases.prove.tunnel_proof import ProofsDocument
from hooper.usecases.prove.until import UntilLine
from hooper.usecases.prove.visit import PackedDocument
from hooper.usecases.watch.history import HistoryDocument
from hooper.usecases.watch.keeplines import KeepLine
from hooper.usecases.watch.noticing import NoticesDocument, UnitDocument
from hooper.usecases.watch.reporting import ReportDocument
from hooper.usecases.watch.status import StatusDocument
from hooper.why.case import WhyDocument


@dataclass(frozen=True, slots=True)
class ErrorsDocument:
    """What any command prints that fails before it has data: nothing but `errors`."""


DOCUMENTS: dict[str, type] = {
    "plan": PlanDocument,
    "worksheet": WorksheetDocument,
    "audit": AuditDocument,
    "tunnel-list": TunnelsDocument,
    "tunnel-show": TunnelDocument,
    "tunnel-make": MadeDocument,
    "tunnel-seen": SeenDocument,
    "tunnel-prove": ProofsDocument,
    "peer-list": PeersDocument,
    "peer-hand": HandedDocument,
    "profile-check": ProfilesDocument,
    "profile-mend": MendedDocument,
    "edit": EditDocument,
    "host-list": HostListDocument,
    "host-find": FindDocument,
    "host-know": KnownDocument,
    "host-suggest": SuggestDocument,
    "service-list": ServiceListDocument,
    "survey": SurveyDocument,
    "router-list": RouterListDocument,
    "router-changes": RouterChangesDocument,
    "name": NamesDocument,
    "name-try": TryDocument,
    "updater-list": UpdatersDocument,
    "cert": CertificatesDocument,
    "check": CheckDocument,
    "arrival": ArrivalLine,
    "stand-in": StandInLine,
    "pack": PackedDocument,
    "reported": ReportedDocument,
    "until": UntilLine,
    "ports-in": PortsInDocument,
    "why": WhyDocument,
    "card": CardDocument,
    "move": MovedDocument,
    "explain": ExplainDocument,
    "keep": KeepLine,
    "keep-notice": NoticesDocument,
    "keep-unit": UnitDocument,
    "status": StatusDocument,
    "history": HistoryDocument,
    "report": ReportDocument,
    "lab": LabDocument,
    "lab-run": LabRunDocument,
    "lab-faults": LabFaultsDocument,
    "lab-type": LabTypeDocument,
    "lab-read": LabReadDocument,
    "lab-line": LabLineDocument,
    "lab-browse": Browsed,
    "lab-ledger": LabLedgerDocument,
    "demo": DemoDocument,
    "errors": ErrorsDocument,
}
