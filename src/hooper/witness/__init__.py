"""The outside helper: it looks back at the site that asks, tells people when that is silent, and tells the time."""

__all__ = ("client", "looking_back", "pinned_keys", "register", "silence")
