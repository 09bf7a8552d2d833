"""The path of a value in a site file: its keys from the outermost table on, and the numbers of list entries."""

from __future__ import annotations

Path = tuple[str | int, ...]
DEPTH_LIMIT = 64  # nested brackets, or parts of one dotted key; a site file needs 5
