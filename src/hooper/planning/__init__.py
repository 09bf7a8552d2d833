"""The planner: facts and a date in, decisions out. No socket, file or clock of its own."""

__all__ = (
    "access", "accounts", "adopting", "against", "answers", "audit", "card", "device_sheets", "documents", "edits",
    "findings", "free_addresses", "free_ports", "guide_values", "guide_wishes", "guiding", "handed_on", "kept_back",
    "lasting", "letter", "lists", "local_ports", "meetings", "nftables", "openers", "page_tree", "pages", "paths",
    "plan", "rented", "routes", "saved_page", "server_lists", "starting", "steps_ahead", "temporary", "topology",
    "tunnel_edits", "typed", "unfolded", "values", "ways", "worksheet",
)  # fmt: skip
