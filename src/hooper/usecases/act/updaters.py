"""The updaters of names: which there are, what they would send, what an answer would mean."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from hooper import deeds
from hooper.errors import HooperError, UsageError
from hooper.names.publish import Setting, UpdaterBusy, UpdaterRefuses, UpdaterSaid, UpdaterUnclear, fill, understand
from hooper.secret import Secret
from hooper.site.fields import UPDATER_KINDS
from hooper.store.updates import LastUpdate
from hooper.usecases.run import Run

if TYPE_CHECKING:
    from hooper.site.model import Updater

HIDDEN = "[secret]"
EXAMPLE = "203.0.113.44"
Means = Literal["done", "unchanged", "wait", "never", "unclear"]
MEANINGS: dict[Means, str] = {
    "done": "it was updated",
    "unchanged": "it was so already",
    "wait": "leave it alone for a while, then ask again",
    "never": "no, and asking again does not help before something is corrected",
    "unclear": "not understood: it is asked again later; compare it with `answers` in the site file",
}


@dataclass(frozen=True, slots=True)
class UpdaterRow:
    """One of [updaters].

    updater: its key. kind: http, dns-update or command. where: the server, the host of its URL, or the program. form:
    the shared form of its request; null: it has one of its own, or none. names: those that it keeps. last: the newest
    update: what came of it; null: there was none. at: when that was, RFC 3339; null: never.
    """

    updater: str
    kind: str
    where: str
    form: str | None
    names: tuple[str, ...]
    last: str | None
    at: str | None


@dataclass(frozen=True, slots=True)
class UpdatersDocument:
    """`hooper updater list`. updaters: one row each."""

    updaters: tuple[UpdaterRow, ...]


@dataclass(frozen=True, slots=True)
class Meant:
    """What an answer would mean. when: which answer. means: in one word. words: in a sentence."""

    when: str
    means: Means
    words: str


@dataclass(frozen=True, slots=True)
class TryDocument:
    """`hooper name try`.

    name: the DNS name. updater: who would be told. sent: what would be sent, line by line, without its secret.
    meanings: what answers would mean, the first that fits counts. judged: what the answer that was given means; null:
    none was.
    """

    name: str
    updater: str
    sent: tuple[str, ...]
    meanings: tuple[Meant, ...]
    judged: Meant | None


@dataclass(frozen=True)
class TryRequest:
    """name: of [names]. address: that it would get; None: an example. status, answer: of a provider, to be judged."""

    name: str
    address: str | None = None
    status: int | None = None
    answer: str | None = None


def list_updaters(run: Run) -> tuple[UpdatersDocument, list[HooperError]]:
    """Raises: StateError."""
    from hooper.clock import rfc3339

    rows = []
    for key, updater in run.site.updaters.items():
        names = tuple(name for name, entry in run.site.names.items() if entry.updated_by == key)
        last = _newest(run, names)
        said = f"{last.outcome}: {last.said}" if last is not None else None
        at = rfc3339(last.at) if last is not None else None
        rows.append(UpdaterRow(key, updater.kind, _where(updater), updater.form, names, said, at))
    return UpdatersDocument(tuple(rows)), []


def _newest(run: Run, names: tuple[str, ...]) -> LastUpdate | None:
    if run.state is None:
        return None
    found = (run.state.updates.last_update(n, kind, run.at) for n in names for kind in run.site.names[n].types)
    return max((one for one in found if one is not None), key=lambda one: one.at, default=None)


def _where(updater: Updater) -> str:
    if updater.kind == "command":
        return updater.command[0] if updater.command else "?"
    if updater.kind == "dns-update":
        return str(updater.server[0]) if updater.server is not None else "the zone's primary"
    request = updater.used_set
    if updater.kind not in UPDATER_KINDS:
        return updater.url or "where its package says"
    return request.url.split("/")[2].rpartition("@")[2] if request is not None else "?"


def try_name(run: Run, request: TryRequest) -> tuple[TryDocument, list[HooperError]]:
    """What would be sent, and what answers would mean; nothing is sent. Raises: UsageError."""
    entry = run.site.names[request.name]
    updater = run.site.updaters.get(entry.updated_by)
    if updater is None:
        raise UsageError(
            f"{request.name} is kept by the {entry.updated_by}, so that Hooper sends nothing",
            remedy="Write `updated_by` with one of [updaters].",
        )
    if updater.kind not in UPDATER_KINDS:
        raise UsageError(
            f"what {entry.updated_by} sends is known to the package that adds {updater.kind!r} alone",
            remedy=f"`{deeds.PUBLISH}` sends it.",
        )
    setting = Setting(request.name, entry.types[0], request.address or EXAMPLE)
    judged = None
    if request.status is not None or request.answer is not None:
        if updater.kind == "dns-update":
            raise UsageError("the answers of dynamic update are those of RFC 2136", remedy="Judge it by those.")
        judged = _judged(updater, request)
    return TryDocument(
        request.name, entry.updated_by, tuple(_sent(updater, setting)), tuple(_meanings(updater)), judged
    ), []


def _sent(updater: Updater, one: Setting) -> list[str]:
    """What would be sent, with a word in place of the secret."""
    token = Secret(HIDDEN, "hidden") if updater.token is not None else None
    if updater.kind == "dns-update":
        zone = updater.zone or "the zone that the server names"
        return [
            f"to {_where(updater)}: an update of {zone}, signed by {updater.key} with {updater.algorithm}",
            f"if {one.name} is no alias, and its {one.kind} records are what was just read:",
            f"replace {one.name} {updater.ttl} {one.kind} {one.value}",
        ]
    if updater.kind == "command":
        words = {"HOOPER_DO": "set", "HOOPER_NAME": one.name, "HOOPER_TYPE": one.kind, "HOOPER_VALUE": one.value}
        words |= {"HOOPER_TOKEN": HIDDEN} if token is not None else {}
        return [" ".join(updater.command), *(f"{key}={value}" for key, value in words.items())]
    request = updater.used_set
    assert request is not None
    shown = request.model_copy(
        update={
            "headers": {name: value.replace("{basic}", HIDDEN) for name, value in request.headers.items()},
            "url": request.url.replace("{token}", HIDDEN).replace("{basic}", HIDDEN),
            "body": request.body.replace("{token}", HIDDEN) if request.body is not None else None,
        }
    )
    filled = fill(updater, token, shown, one)
    lines = [f"{filled.method} {filled.url}", *(f"{name}: {value}" for name, value in filled.headers.items())]
    return [*lines, "", *filled.body.decode("utf-8", "replace").splitlines()] if filled.body else lines


def _meanings(updater: Updater) -> list[Meant]:
    if updater.kind == "dns-update":
        return [
            Meant("NOERROR, signed by the same key", "done", "it was updated, and is read back"),
            Meant("NXRRSET, YXRRSET", "wait", "somebody else was faster; nothing was changed"),
            Meant("NOTAUTH, REFUSED, NOTZONE", "never", "the key, its secret, or what it may change is not right"),
        ]
    out = []
    for rule in updater.used_answers:
        status = f"status {', '.join(map(str, rule.status))}" if rule.status is not None else ""
        says = f"text like {rule.says.pattern.removeprefix('(?i)')}" if rule.says is not None else ""
        out.append(Meant(" and ".join(filter(None, (status, says))) or "anything", rule.means, MEANINGS[rule.means]))
    if updater.kind == "command":
        return [
            *out,
            Meant("it ends with code 0", "done", MEANINGS["done"]),
            Meant("another code", "unclear", "it failed"),
        ]
    out.append(Meant("status 429, or 500 and above", "wait", MEANINGS["wait"]))
    out.append(Meant("status 401 or 403", "never", MEANINGS["never"]))
    if not any(rule.means == "done" for rule in updater.used_answers):
        out.append(Meant("any other status from 200 to 299", "done", MEANINGS["done"]))
    return [*out, Meant("anything else", "unclear", MEANINGS["unclear"])]


def _judged(updater: Updater, request: TryRequest) -> Meant:
    """What an answer means."""
    from hooper.clock import SystemClock
    from hooper.net.http import HttpAnswer

    status, text = request.status or 200, request.answer or ""
    answer = HttpAnswer(status, content=text.encode("utf-8", "replace"))
    means: Means = "unclear"
    try:
        said: UpdaterSaid = understand(updater.used_answers, answer, SystemClock().now())
        means = said.means
    except UpdaterBusy:
        means = "wait"
    except UpdaterRefuses:
        means = "never"
    except UpdaterUnclear:
        pass
    return Meant(f"status {status}" + (f", {text!r}" if text else ""), means, MEANINGS[means])
