"""What makes things be as a keeper finds them, beside the causes of a diagnosis: the words for each code. Pure."""

from __future__ import annotations

OF_NAMES = {  # by what became of the update
    "needed": "name-stale", "pending": "name-lags", "waiting": "updater-waits", "refused": "updater-said-no",
    "failed": "updater-failed", "watched": "name-stale", "updated": "name-lags", "unknown": None, "current": None,
}  # fmt: skip
OF_RULES = {"refused": "rule-refused", "failed": "rule-failed"}
