"""A router of the town that answers NAT-PMP and PCP on its one port. It tells; it maps for nobody."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from hooper.errors import WireError
from hooper.lab.streets import Streets
from hooper.lab.things import Box
from hooper.net.types import Endpoint
from hooper.wire import natpmp, pcp


@dataclass
class PortControl:
    """NAT-PMP (RFC 6886) and PCP (RFC 6887) of one box."""

    town: Streets
    box: Box
    started: datetime = field(init=False)

    def __post_init__(self) -> None:
        self.started = self.town.now()

    def answer(self, data: bytes, peer: Endpoint) -> bytes | None:
        """Which of the two it is, the first byte says (RFC 6887 section 9)."""
        epoch = round((self.town.now() - self.started).total_seconds())
        if data[:1] == bytes([natpmp.VERSION]):
            return self._natpmp(data, epoch)
        return self._pcp(data, peer, epoch)

    def _natpmp(self, data: bytes, epoch: int) -> bytes | None:
        try:
            asked = natpmp.NatPmpRequest.parse(data)
        except WireError:
            return None
        if asked.opcode != natpmp.ADDRESS:
            return natpmp.NatPmpResponse(asked.opcode, 2, epoch, None, asked.inside_port).serialize()
        result = natpmp.SUCCESS if int(self.box.wan) else natpmp.NETWORK_FAILURE
        return natpmp.NatPmpResponse(natpmp.ADDRESS, result, epoch, self.box.told_wan).serialize()

    def _pcp(self, data: bytes, peer: Endpoint, epoch: int) -> bytes | None:
        try:
            asked = pcp.PcpRequest.parse(data)
        except WireError as exc:
            if exc.field == "version" and len(data) >= 2 and not data[1] & pcp.ANSWER:
                return pcp.PcpResponse(data[1], pcp.UNSUPP_VERSION, 1800, epoch).serialize()
            return None
        result = pcp.SUCCESS if asked.opcode == pcp.ANNOUNCE else pcp.NOT_AUTHORIZED
        if asked.opcode not in (pcp.ANNOUNCE, pcp.MAP):
            result = pcp.UNSUPP_OPCODE
        if asked.client != peer.address:
            result = pcp.ADDRESS_MISMATCH
        return pcp.PcpResponse(asked.opcode, result, 0 if result == pcp.SUCCESS else 1800, epoch).serialize()
