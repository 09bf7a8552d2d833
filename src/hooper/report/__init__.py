"""Pages and figures: what is printed or kept."""

__all__ = ("arrival", "chain", "figures", "handover", "page", "qr", "sheet_words", "sheets", "units")
