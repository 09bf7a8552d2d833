"""A day in the lab, told as JSON: each command, its exit code, and what it printed that is the same on each day.

Run as a program, so that it can be run where there is no network at all.
"""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

from support.program import town_here

STORY = """
survey
plan
worksheet
host list
router open
router list
name list
name update
cert order
cert list
check
check --from interface
tunnel add oars --kind wireguard --service gate --subnet 10.88.44.0/24
peer add cox-phone --tunnel oars --person cox
tunnel make oars --out FOLDER/files
tunnel seen oars
lab load FOLDER/files/oars.conf
peer hand cox-phone --out FOLDER/cox.conf
lab load FOLDER/cox.conf --on phone
tunnel prove cox-phone
lab dump
lab break name-stale
why film-page --from interface
lab mend name-stale
keep --once
keep notice --test
status
history
audit
card film-page
explain host-off
"""
DIFFERENT = (  # from one day to the next, whatever the network
    (r"[A-Za-z0-9+/]{40,}=*|sha256:[0-9a-f]+|\b[0-9a-f]{12,}\b", "<key>"),  # first: a key can have "9d" within
    (r"\bfd[0-9a-f]{2}:[0-9a-f:]+", "<private>"),
    (r"\b([0-9A-F]{2}:){7}[0-9A-F]{2}\b", "<print>"),
    (r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(:\d\d)?(\.\d+)?(Z|[+-]\d\d:\d\d)?", "<moment>"),
    (r"\d{4}-\d\d-\d\d|\b\d\d:\d\d(:\d\d)?\b", "<day>"),
    (r"\b\d+([.,]\d+)? ?(ms|s|min|m|h|d)\b|\bnow\b", "<time>"),
    (r"(port |:)\d{5}\b", r"\1<port>"),
    (r"[ ─]{2,}", "  "),
    (r"\b\d+(\.\d+)?$", "<number>"),
)


def told(folder: Path) -> list[tuple[str, int, str]]:
    """All of the story, in a lab of its own."""
    out = []
    with town_here(folder / "lab") as lab:
        site = Path(lab.env["HOOPER_SITE"])
        site.write_text(site.read_text() + '\n[notices.cox]\nto = "file:secrets/cox"\n', encoding="utf-8")
        (site.parent / "secrets" / "cox").write_text("json://hub.heronquay.example:8123/told\n")
        (site.parent / "secrets" / "cox").chmod(0o600)
        for line in STORY.strip().splitlines():
            run = lab.start if "notice" in line else lab.run  # its carrier takes real time
            ran = run(*line.replace("FOLDER", str(folder)).split(), COLUMNS="140", XDG_STATE_HOME=str(folder))
            text = (ran.out + ran.err).replace(str(folder), "")
            for pattern, instead in DIFFERENT:
                text = re.sub(pattern, instead, text, flags=re.MULTILINE)
            out.append((line, ran.code, text))
    return out


if __name__ == "__main__":
    print(json.dumps(told(Path(sys.argv[1]))))
