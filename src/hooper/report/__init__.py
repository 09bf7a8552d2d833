"""Pages and figures: what is printed or kept."""

__all__ = (
    "arrival", "chain", "companion", "expiry", "figures", "handover", "journey", "page", "qr", "sheet_words", "sheets",
    "trusting", "units",
)  # fmt: skip
