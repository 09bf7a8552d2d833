"""The lab: a simulated town in one process, behind one loopback port. Unprivileged, on every system."""

__all__ = ("boathouse", "browser", "documents", "faults", "lines", "serve")
