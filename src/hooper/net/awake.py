"""How long this computer has been up, and how long of it asleep: by two clocks of its system, of which one stands still
while it sleeps (clock_gettime(2) on Linux and macOS, QueryUnbiasedInterruptTime on Windows).
"""

from __future__ import annotations

import sys
import time

from hooper.clock import Awake


def awake() -> Awake | None:
    """Since it was started; None: this system does not tell."""
    if sys.platform == "win32":
        import ctypes

        unbiased = ctypes.c_ulonglong()
        ctypes.windll.kernel32.QueryUnbiasedInterruptTime(ctypes.byref(unbiased))
        ctypes.windll.kernel32.GetTickCount64.restype = ctypes.c_ulonglong
        up, on = ctypes.windll.kernel32.GetTickCount64() / 1000, unbiased.value / 10_000_000
    elif sys.platform == "darwin":
        up, on = time.clock_gettime(time.CLOCK_MONOTONIC), time.clock_gettime(time.CLOCK_UPTIME_RAW)
    elif sys.platform.startswith("linux"):
        up, on = time.clock_gettime(time.CLOCK_BOOTTIME), time.clock_gettime(time.CLOCK_MONOTONIC)
    else:
        return None
    return Awake(up, max(up - on, 0.0))
