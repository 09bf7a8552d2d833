"""How many connections this process may have open."""

from __future__ import annotations

from contextlib import suppress

SPARE = 200  # descriptors for everything else


def allow_connections(count: int) -> None:
    """Let so many be open at once, as far as the system lets this process have them; where it does not, it stays."""
    try:
        import resource
    except ImportError:  # Windows has no such limit
        return
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = count + SPARE
    most = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
    if soft != resource.RLIM_INFINITY and soft < most:
        with suppress(ValueError, OSError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (most, hard))
