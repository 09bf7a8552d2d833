"""Carries one notice, as a program of its own: what it imports and where it connects is no matter of the keeper's.

It is given a JSON object on its input: addresses, title, body, and the relay by which alone it connects. Exit code 0:
it was taken; 1: it was not; 2: an address is none.
"""

from __future__ import annotations

import json
import logging
import sys
from typing import Any

from hooper.net.relayed import go_by

NO_ADDRESS = 2


def carry(asked: dict[str, Any]) -> int:
    """Send it; the exit code."""
    import apprise

    logging.getLogger("apprise").setLevel(logging.CRITICAL)  # what it says holds addresses, which are secret
    carrier = apprise.Apprise()
    if not all(carrier.add(one) for one in asked["addresses"]):
        return NO_ADDRESS
    go_by(asked["port"], asked["word"])
    return 0 if carrier.notify(title=asked["title"], body=asked["body"]) else 1


if __name__ == "__main__":
    sys.exit(carry(json.load(sys.stdin)))
