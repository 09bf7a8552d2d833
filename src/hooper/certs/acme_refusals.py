"""What an authority that speaks ACME has against a request: its words, what helps, and until when to wait.

Kinds are those of RFC 8555 section 6.7, RFC 9773 section 7.4, and of certificate profiles.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.clock import read_moment
from hooper.errors import CounterpartError
from hooper.net.http import retry_after

if TYPE_CHECKING:
    from hooper.certs.acmeform import AcmeProblem
    from hooper.net.http import HttpAnswer

WAIT_AT_MOST = timedelta(days=31)  # no authority means longer
MOMENT = re.compile(r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?(\.\d+)?")
REMEDIES = {
    "accountDoesNotExist": "Run the command again: another account is made.",
    "alreadyRevoked": "Nothing is left to do: it is worth nothing any more.",
    "badCSR": "Choose another `key_type` in [certificates], such as p-256.",
    "badPublicKey": "Choose another `key_type` in [certificates], such as p-256.",
    "caa": "The zone's CAA record names other authorities (RFC 8659): add this one to it, or take the record away.",
    "connection": f"It did not come in from outside: `{deeds.WHY}` says where such a packet ends. A TXT record needs no"
    " port: give the name an updater that sets one.",
    "dns": f"The name's own servers do not answer it as they should: `{deeds.NAMES}` shows how they stand.",
    "externalAccountRequired": "Take the key that the authority's page gives its customers into [authorities]:"
    " `binding_id` and `binding_key`.",
    "incorrectResponse": "Something else answered in this computer's place: another device or web server has the port.",
    "invalidContact": "Correct `contact` in [authorities]: mailto: and an address that takes mail.",
    "invalidProfile": "Correct `profile` in [certificates], or leave it out.",
    "rejectedIdentifier": "It issues nothing for this name, whoever asks: take a name of your own, or another"
    " authority.",
    "tls": "Something else answered TLS at the port: look which device has port 443.",
    "unauthorized": f"What it found was not this proof: `{deeds.NAMES}` shows where the name leads, `{deeds.WHY}` who"
    " answers there.",
    "unsupportedContact": "Write `contact` in [authorities] as mailto: and an address.",
    "unsupportedIdentifier": "It issues nothing for such names: take another authority.",
    "userActionRequired": "Open the authority's page, read and agree to its new terms, then run the command again.",
}


class AcmeRefused(CounterpartError):
    """The authority says no. kind: the last part of its error's type (RFC 8555 section 6.7)."""

    code = "ca-refused"
    remedy = f"Correct what it names; `{deeds.WHY}` and `{deeds.NAMES}` show how the name stands."

    def __init__(self, message: str, kind: str) -> None:
        super().__init__(message, remedy=REMEDIES.get(kind))
        self.kind = kind


class AcmeBusy(CounterpartError):
    """The authority asks to wait. until: as long as it says; None: it does not say."""

    code = "ca-busy"
    remedy = "Run the command again later; it goes on where it stopped."

    def __init__(self, message: str, until: datetime | None = None) -> None:
        super().__init__(message)
        self.until = until


class AcmeFailed(CounterpartError):
    """The authority cannot be reached, or fails."""

    code = "ca-failed"
    remedy = "Run the command again later; it goes on where it stopped."


def refusal(answer: HttpAnswer, problem: AcmeProblem | None, now: datetime) -> CounterpartError:
    """The error for an answer that is none. problem: what it says; None: nothing of use. now: in UTC."""
    words = problem.words() if problem is not None else f"status {answer.status}"
    kind = problem.kind if problem is not None else ""
    if kind == "rateLimited" or answer.status == 429:
        until = _until(answer.header("Retry-After"), problem.detail if problem is not None else "", now)
        said = f" until {until:%Y-%m-%d %H:%M} UTC" if until is not None else ""
        return AcmeBusy(f"the authority asks to wait{said}: {words}", until)
    if answer.status >= 500:
        return AcmeFailed(f"the authority fails: {words}")
    return AcmeRefused(f"the authority refuses: {words}{f' ({kind})' if kind else ''}", kind)


def _until(said: str | None, detail: str, now: datetime) -> datetime | None:
    """When it may be asked again: by its Retry-After (RFC 9110 section 10.2.3), else by a moment in its words."""
    if said is not None:
        return now + timedelta(seconds=retry_after(said, now, WAIT_AT_MOST.total_seconds()))
    if (found := MOMENT.search(detail)) is None:
        return None
    text = found[0].replace(" ", "T")
    try:
        moment = read_moment((text if found[1] else f"{text}:00").partition(".")[0] + "Z").astimezone(UTC)
    except ValueError:
        return None
    return min(moment, now + WAIT_AT_MOST) if moment > now else None
