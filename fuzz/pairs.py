"""`python -m fuzz.pairs [COUNT]`: that many pairs of commands at once of each kind, in the lab (default 100).

After each pair the codes are documented ones and nothing is lost: what was said to be written is there, what was opened
can be closed, names and certificates are as they should be.
"""

from __future__ import annotations

import os
import random
import re
import subprocess
import sys
import tempfile
from pathlib import Path

KINDS: dict[str, tuple[str, ...]] = {
    "router": ("router open", "router close", "router open film-page", "router close film-page", "router list"),
    "name": ("name update", "name update --again", "name list"),
    "cert": ("cert order --again", "cert list", "cert order"),
    "tunnel": (
        "peer renew cox-phone",
        "peer revoke cox-phone",
        "peer revoke cox-phone --done",
        "tunnel make oars --out files",
        "peer list",
        "peer hand cox-phone --out cox-phone.conf",
        "move --out whole --passphrase env:PHRASE",
        "tunnel seen",
    ),
    "look": ("check --from interface:usb0", "why film-page --from interface:usb0", "survey", "router open gate"),
}


def main() -> int:
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
    from support.program import start_lab

    count, chance = int(sys.argv[1]) if len(sys.argv) > 1 else 100, random.Random(1)
    with tempfile.TemporaryDirectory() as place, start_lab(Path(place)) as lab:
        folder = Path(place)
        env = {**os.environ, **lab.env, "PHRASE": "four herons on a quay"}
        worksheet = subprocess.run([*HOOPER, "worksheet", "--json"], env=env, capture_output=True, check=False)
        subprocess.run([*HOOPER, "lab", "type", "-"], input=worksheet.stdout, env=env, stdout=subprocess.DEVNULL)
        for number in range(count):
            _edits(folder, env, number)
        print(f"edits: {count} pairs, nothing lost", flush=True)
        for first in ("tunnel add oars --host hub", "peer add cox-phone --into hub-page"):
            _at_once(folder, env, [first], (0,))
        for kind, commands in KINDS.items():
            codes = (0, 1, 2, 4, 5, 6) if kind == "tunnel" else (0, 1, 4, 6)
            for _ in range(count):
                _at_once(folder, env, [chance.choice(commands), chance.choice(commands)], codes)
            print(f"{kind}: {count} pairs, codes as documented", flush=True)
        _at_once(folder, env, ["router close"], (0,))
        (listed,) = _at_once(folder, env, ["router list"], (0,))
        assert " ours" not in listed, listed
        _at_once(folder, env, ["name update"], (0,))
        _at_once(folder, env, ["cert list"], (0,))
        for last in ("peer renew cox-phone", "tunnel make oars --out files"):
            _at_once(folder, env, [last], (0,))
        (key,) = re.findall(r'(?ms)^\[peers\.cox-phone\].*?^public_key = "(.*?)"', Path(env["HOOPER_SITE"]).read_text())
        assert key in (folder / "files" / "oars.conf").read_text()
        print("closed, published and certified in the end")
    return 0


HOOPER = (sys.executable, "-m", "hooper")


def _at_once(folder: Path, env: dict[str, str], commands: list[str], codes: tuple[int, ...]) -> list[str]:
    running = [
        subprocess.Popen(
            [*HOOPER, *command.split(), *(() if command.startswith("host") else ("--state", "state"))],
            cwd=folder, env=env, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )
        for command in commands
    ]  # fmt: skip
    texts = []
    for command, process in zip(commands, running, strict=True):
        out, err = process.communicate(timeout=300)
        assert process.returncode in codes, (command, process.returncode, out, err)
        texts.append(f"{process.returncode}\n{out}")
    return texts


def _edits(folder: Path, env: dict[str, str], number: int) -> None:
    path = Path(env["HOOPER_SITE"])
    keys = [f"h{number}{letter}" for letter in "ab"]
    changes = [f"host add {key} --address 10.44.7.{61 + n + 2 * (number % 15)}" for n, key in enumerate(keys)]
    texts = _at_once(folder, env, changes, (0, 1, 5, 6))
    for key, text in zip(keys, texts, strict=True):
        assert (f"[hosts.{key}]" in path.read_text()) == (text.split("\n")[0] in "01"), text
    _at_once(folder, env, [f"host remove {key}" for key in keys if f"[hosts.{key}]" in path.read_text()], (0, 6))
    for key in keys:
        if f"[hosts.{key}]" in path.read_text():
            _at_once(folder, env, [f"host remove {key}"], (0,))


if __name__ == "__main__":
    sys.exit(main())
