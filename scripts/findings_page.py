"""`docs/findings.md`, made from the catalogue: `python -m scripts.findings_page FILE`."""

from __future__ import annotations

from hooper.cli.parts.spelling import spelled
from hooper.words.catalogue import codes, groups, meaning


def as_markdown() -> str:
    """The catalogue as a page of the docs."""
    lines = [
        "# Findings",
        "",
        "What `hooper plan` and its siblings can say. An **error** means that it cannot work as planned, a **warning**",
        "that it will hurt, a **note** that it is worth knowing. Made from the code; do not edit by hand.",
        "",
        "Marked ⛔: `hooper router open` and the router's sheet leave the service out while it stands; `--accept",
        "REASON` overrules that until a day. Marked ✎: the risk can be accepted in `[services.KEY.accepted]`.",
    ]
    for group, title in groups().items():
        lines += ["", f"## {title} ({group})", "", "| code | severity | what | why | do |", "|---|---|---|---|---|"]
        for entry in (meaning("finding", code) for code in codes("finding")):
            if entry.group == group:
                marks = (" ⛔" if entry.gate else "") + (" ✎" if entry.acceptable else "")
                lines.append(f"| `{entry.code}`{marks} | {entry.severity} | {entry.what} | {entry.why} | {entry.do} |")
    lines += [
        "",
        "## What `hooper why` and `hooper check` can name",
        "",
        "Why a service is not reached, and what can be wrong with what answers. `why` gives the evidence for each, and",
        "the look that decides where it is not certain.",
        "",
        "| code | what | why | do |",
        "|---|---|---|---|",
        *(
            f"| `{one.code}` | {one.what} | {one.why} | {one.do} |"
            for one in (meaning("cause", c) for c in codes("cause"))
        ),
    ]
    return spelled("\n".join(lines) + "\n")


if __name__ == "__main__":
    import sys
    from pathlib import Path

    Path(sys.argv[1]).write_text(as_markdown(), encoding="utf-8")
