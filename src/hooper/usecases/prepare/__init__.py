"""What is wanted: the site file, the line, the devices, the plan and its sheets."""

__all__ = (
    "drafting", "edits", "hosts", "lists", "page_reading", "plan", "ports_in", "profiles", "starting", "survey",
    "undoing", "worksheet", "written",
)  # fmt: skip
