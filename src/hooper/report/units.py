"""What a system needs to run the keeper by itself: text, for the person to install. Pure."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from html import escape
from typing import Literal

System = Literal["systemd", "timer", "launchd", "windows", "cron"]
SYSTEMS: tuple[System, ...] = ("systemd", "timer", "launchd", "windows", "cron")
MINUTES = 5  # between two rounds of --once
NAME = "hooper-keep"
HARDENED = """\
NoNewPrivileges=yes
ProtectSystem=strict
ProtectHome=read-only
PrivateTmp=yes
PrivateDevices=yes
ProtectKernelTunables=yes
ProtectKernelModules=yes
ProtectKernelLogs=yes
ProtectControlGroups=yes
ProtectClock=yes
ProtectHostname=yes
RestrictAddressFamilies=AF_INET AF_INET6 AF_NETLINK AF_UNIX
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
CapabilityBoundingSet=
SystemCallArchitectures=native
SystemCallFilter=@system-service
UMask=0077
MemoryMax=300M
"""


@dataclass(frozen=True)
class UnitAsked:
    """command: the program, word by word; once: for one round. user: who it runs as. writes: the folders that it writes
    to. name: of the unit. does: what it is for. reloads: SIGHUP has it read its files again. rights: beyond those of a
    user, as capabilities(7) names them.
    """

    command: tuple[str, ...]
    once: tuple[str, ...]
    user: str
    writes: tuple[str, ...]
    name: str = NAME
    does: str = "keeps names, router rules and certificates"
    reloads: bool = True
    rights: tuple[str, ...] = ()


def unit(system: System, asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    """The text, and what the person does with it, step by step."""
    return {"systemd": _systemd, "timer": _timer, "launchd": _launchd, "windows": _windows, "cron": _cron}[system](
        asked
    )


def _quoted(words: Sequence[str]) -> str:
    """As systemd reads a command line (systemd.syntax): quoted, with % and $ for themselves."""
    out = []
    for word in words:
        text = word.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
        out.append(f'"{text}"' if text != word or not word or any(sign in word for sign in " \t;'") else word)
    return " ".join(out)


def _path(text: str) -> str:
    return _quoted([text])


def _service(asked: UnitAsked, *, once: bool) -> str:
    kind = "Type=oneshot" if once else "Type=exec"
    again = "ExecReload=/bin/kill -HUP $MAINPID\n" if asked.reloads else ""
    ends = "" if once else f"{again}Restart=on-failure\nRestartSec=10\nTimeoutStopSec=30\n"
    writes = "".join(f"ReadWritePaths={_path(folder)}\n" for folder in asked.writes)
    install = "" if once else "\n[Install]\nWantedBy=multi-user.target\n"
    command = asked.once if once else asked.command
    rights = " ".join(asked.rights)
    hardened = HARDENED.replace("Set=\n", f"Set={rights}\nAmbientCapabilities={rights}\n") if rights else HARDENED
    return (
        f"# Made by Hooper\n[Unit]\nDescription=Hooper {asked.does}\n"
        "Wants=network-online.target\nAfter=network-online.target\n\n"
        f"[Service]\n{kind}\nUser={asked.user}\nExecStart={_quoted(command)}\n{ends}{writes}{hardened}{install}"
    )


def _folders(asked: UnitAsked) -> list[str]:
    """What it writes to has to be there."""
    return [f"sudo install -d -m 700 -o {shlex.quote(asked.user)} {shlex.quote(asked.writes[0])}"]


def _systemd(asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    place = f"/etc/systemd/system/{asked.name}.service"
    return _service(asked, once=False), (
        *_folders(asked),
        f"Put it into {place}.",
        f"sudo systemctl daemon-reload && sudo systemctl enable --now {asked.name}",
        f"journalctl -u {asked.name} -f",
    )


def _timer(asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    timer = (
        f"# Made by Hooper\n[Unit]\nDescription=Hooper looks every {MINUTES} minutes\n\n[Timer]\nOnBootSec=1min\n"
        f"OnUnitActiveSec={MINUTES}min\nRandomizedDelaySec=20\n\n[Install]\nWantedBy=timers.target\n"
    )
    text = f"# {asked.name}.service\n{_service(asked, once=True)}\n# {asked.name}.timer\n{timer}"
    return text, (
        *_folders(asked),
        f"Put the first part into /etc/systemd/system/{asked.name}.service,"
        f" the second into {asked.name}.timer beside it.",
        f"sudo systemctl daemon-reload && sudo systemctl enable --now {asked.name}.timer",
    )


def _launchd(asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    words = "".join(f"    <string>{escape(word, quote=False)}</string>\n" for word in asked.command)
    text = (
        '<?xml version="1.0" encoding="UTF-8"?>\n<!-- Made by Hooper -->\n'
        '<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">\n'
        '<plist version="1.0">\n<dict>\n  <key>Label</key>\n'
        f"  <string>{asked.name}</string>\n  <key>ProgramArguments</key>\n  <array>\n{words}  </array>\n"
        "  <key>RunAtLoad</key>\n  <true/>\n  <key>KeepAlive</key>\n  <dict>\n    <key>SuccessfulExit</key>\n"
        "    <false/>\n  </dict>\n  <key>ProcessType</key>\n  <string>Background</string>\n"
        "  <key>Umask</key>\n  <integer>63</integer>\n</dict>\n</plist>\n"
    )
    place = f"~/Library/LaunchAgents/{asked.name}.plist"
    return text, (f"Put it into {place}.", f"launchctl bootstrap gui/$(id -u) {place}")


def _windows(asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    program, *rest = asked.command
    arguments = " ".join(f'"{word}"' if " " in word or not word else word for word in rest)
    text = (
        '<?xml version="1.0" encoding="UTF-8"?>\n<!-- Made by Hooper -->\n'
        '<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">\n'
        f"  <RegistrationInfo><Description>Hooper {asked.does}</Description>"
        "</RegistrationInfo>\n  <Triggers><BootTrigger><Enabled>true</Enabled></BootTrigger></Triggers>\n"
        '  <Principals><Principal id="Author"><LogonType>S4U</LogonType><RunLevel>LeastPrivilege</RunLevel>'
        "</Principal></Principals>\n  <Settings>\n    <MultipleInstancesPolicy>IgnoreNew</MultipleInstancesPolicy>\n"
        "    <DisallowStartIfOnBatteries>false</DisallowStartIfOnBatteries>\n"
        "    <StopIfGoingOnBatteries>false</StopIfGoingOnBatteries>\n"
        "    <ExecutionTimeLimit>PT0S</ExecutionTimeLimit>\n"
        "    <RestartOnFailure><Interval>PT1M</Interval><Count>999</Count></RestartOnFailure>\n  </Settings>\n"
        f'  <Actions Context="Author"><Exec><Command>{escape(program, quote=False)}</Command>'
        f"<Arguments>{escape(arguments, quote=False)}</Arguments></Exec></Actions>\n</Task>\n"
    )
    return text, (f"Save it as {asked.name}.xml, in UTF-8.", f"schtasks /Create /TN {asked.name} /XML {asked.name}.xml")


def _cron(asked: UnitAsked) -> tuple[str, tuple[str, ...]]:
    command = shlex.join(asked.once).replace("%", "\\%")  # crontab(5)
    text = f"# Made by Hooper\n*/{MINUTES} * * * * {command} >/dev/null\n"
    return text, ("crontab -e, and add the line; a mail tells what went wrong.",)
