"""Why a rule is not entered or taken away: by the plan, by the router, by what stands there, by this computer."""

from __future__ import annotations

from hooper import deeds
from hooper.errors import CounterpartError, MachineError, NeedsAPerson, RefusedForSafety, StateError


class PlanForbids(RefusedForSafety):
    """The plan has an error for this service, such as sources that no box would keep: it is not entered."""

    code = "plan-error"
    remedy = f"See `{deeds.PLAN}`."


class RouterStrict(CounterpartError):
    """The router lets a device open ports for itself only."""

    code = "router-strict"
    remedy = (
        f"Enter these rules by hand (`{deeds.SHEET}`), let the device itself ask for its ports,"
        " or allow in the router's pages that one device opens ports for others."
    )


class RouterPrivate(CounterpartError):
    """The router has no public address itself and therefore opens nothing."""

    code = "router-behind-another"
    remedy = f"Enter these rules by hand on its pages (`{deeds.SHEET}`); those do not mind."


class PortTaken(CounterpartError):
    """Somebody else has the outside port."""

    code = "port-taken"
    remedy = (
        f"Look at `{deeds.TABLES}`; choose another outside port, or give {deeds.TAKE_OVER} to replace what is there."
    )


class PortLent(MachineError):
    """A test that is running on this computer has a port that is to be closed."""

    code = "port-lent"
    remedy = "End the test, or wait until it has ended, then run the command again."


class LabelledUnknown(NeedsAPerson):
    """Entries carry Hooper's label, and the journal does not have them: its state was lost, or is another one."""

    code = "labelled-unknown"
    remedy = f"Give the state that has them with {deeds.STATE_FOLDER}, or take them away: `{deeds.CLOSE_LABELLED}`."


class NotRemembered(StateError):
    """A rule would be entered that the state cannot remember."""

    code = "not-remembered"
    remedy = "Set the state right first; rules that stand and carry Hooper's label are renewed meanwhile."
