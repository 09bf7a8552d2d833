"""What is kept of an entry of the site file, under its new name."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from hooper.files import machine_error

if TYPE_CHECKING:
    from hooper.store.state import State

SUBJECT = "UPDATE observations SET subject = {table!r} || '.' || :new WHERE subject = {table!r} || '.' || :old"
OF_KINDS = (
    "UPDATE OR REPLACE states SET subject = :new WHERE subject = :old AND kind IN ({kinds})",
    "UPDATE events SET subject = :new WHERE subject = :old AND kind IN ({kinds})",
)
KINDS = {
    "services": ("service", "rule"), "names": ("name",), "certificates": ("certificate",), "gateways": ("router",),
    "lines": ("address", "line"), "hosts": ("clock",), "authorities": ("authority",), "witnesses": ("witness",),
    "tunnels": ("tunnel",), "peers": ("peer",),
}  # fmt: skip
MORE = {
    "services": (
        "UPDATE OR REPLACE states SET subject = 'services.' || :new WHERE subject = 'services.' || :old",  # a risk
        "UPDATE events SET subject = 'services.' || :new WHERE subject = 'services.' || :old",
        "UPDATE OR REPLACE states SET aspect = 'service:' || :new WHERE aspect = 'service:' || :old",
        "UPDATE events SET aspect = 'service:' || :new WHERE aspect = 'service:' || :old",
        "UPDATE observations SET value = json_set(value, '$.service', :new) WHERE subject = 'services.' || :new"
        " AND json_valid(value) AND json_type(value, '$.service') = 'text'",
        "UPDATE OR REPLACE days SET service = :new WHERE service = :old",
        "UPDATE rules SET service = :new WHERE service = :old",
    ),
    "gateways": (
        "UPDATE observations SET aspect = substr(aspect, 1, instr(aspect, '@')) || :new"
        " WHERE subject LIKE 'services.%' AND substr(aspect, instr(aspect, '@') + 1) = :old",
        "UPDATE OR REPLACE states SET aspect = :new WHERE kind = 'rule' AND aspect = :old",
        "UPDATE events SET aspect = :new WHERE kind = 'rule' AND aspect = :old",
        "UPDATE OR REPLACE rules SET gateway = :new WHERE gateway = :old",
        "UPDATE OR REPLACE lent SET gateway = :new WHERE gateway = :old",
    ),
    "names": ("UPDATE OR REPLACE updates SET name = :new WHERE name = :old",),
    "certificates": ("UPDATE OR REPLACE orders SET certificate = :new WHERE certificate = :old",),
    "tunnels": (
        "UPDATE OR REPLACE made SET tunnel = :new WHERE tunnel = :old",
        "UPDATE revoked SET tunnel = :new WHERE tunnel = :old",
    ),
    "peers": (
        "UPDATE OR REPLACE states SET aspect = 'peer:' || :new WHERE aspect = 'peer:' || :old",
        "UPDATE events SET aspect = 'peer:' || :new WHERE aspect = 'peer:' || :old",
        "UPDATE OR REPLACE handed SET peer = :new WHERE peer = :old",
        "UPDATE OR REPLACE revoked SET peer = :new WHERE peer = :old",
    ),
    "notices": ("UPDATE OR REPLACE notices SET notice = :new WHERE notice = :old",),
}


def rename_kept(state: State, table: str, old: str, new: str, bases: Iterable[tuple[str, str, str]]) -> None:
    """All that is kept of an entry, under another name. bases: of each service, by its name as it then is, how it was
    reached by the site file, and how it is by the new one: the same. Raises: StateError, MachineError.
    """
    kinds = KINDS.get(table, ())
    changes = [SUBJECT.format(table=table)] if table != "notices" else []
    changes += [one.format(kinds=", ".join(map(repr, kinds))) for one in OF_KINDS if kinds]
    state.rename([*changes, *MORE.get(table, ())], {"old": old, "new": new}, list(bases))
    try:
        if table == "certificates" and (state.certificates / old).is_dir():
            (state.certificates / old).rename(state.certificates / new)
        for path in state.tunnels.glob("*") if table in ("tunnels", "peers") else ():
            renamed = _secret_of(path.name, table, old, new)
            if renamed != path.name:
                path.rename(path.with_name(renamed))
    except OSError as exc:
        raise machine_error(exc, f"what is kept of {old} cannot be renamed") from None


def _secret_of(file: str, table: str, old: str, new: str) -> str:
    """The file of a proposed secret, TUNNEL.secret or TUNNEL.PEER.password, under the new name."""
    parts = file.split(".")
    at = 0 if table == "tunnels" else 1
    if parts[-1] in ("secret", "password") and len(parts) > at + 1 and parts[at] == old:
        parts[at] = new
    return ".".join(parts)
