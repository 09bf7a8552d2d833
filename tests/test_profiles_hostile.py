"""Profiles that a stranger wrote: whatever in them runs, loads, writes or reads something else is named, and no mended
copy holds it. What the copies do is judged by the real software too, beside a library that tells of all it runs.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from hooper.planning.topology import Topology
from hooper.site.load import parse_site
from hooper.tunnels.exported import look_at, mended
from hooper.tunnels.openvpn_profiles import look_at_openvpn
from support import exported_openvpn, profiles
from support.program import hooper, program

OPENVPN = Topology(parse_site(exported_openvpn.SITE.encode(), "site.toml").site)
WIREGUARD = Topology(parse_site(profiles.SITE.encode(), "site.toml").site)
MARK = "planted-by-a-stranger"
# what openvpn(8) has that runs a program, loads one, writes a file, reads another as its own, or lets others steer it
DEEDS = (
    "up {}", "down {}", "route-up {}", "route-pre-down {}", "ipchange {}", "tls-verify {}", "iproute {}",
    "auth-user-pass-verify {} via-env", "learn-address {}", "client-connect {}", "client-disconnect {}",
    "tls-crypt-v2-verify {}", "dns-updown {}", "plugin {}", "engine {}", "providers {}", "pkcs11-providers {}",
    "config {}", "log {}", "log-append {}", "status {} 1", "writepid {}", "replay-persist {}", "tls-export-cert {}",
    "tmp-dir {}", "management {} unix", "management 127.0.0.1 7505 {}", "management-client", "cd {}", "chroot {}",
    "setenv LD_PRELOAD {}", "setenv PATH {}", "script-security 2 {}", "capath {}", "ifconfig-pool-persist {}",
    "auth-user-pass {}", "askpass {}", "crl-verify {}", "http-proxy 192.0.2.1 8080 {} basic",
    "socks-proxy 192.0.2.1 1080 {}", "http-proxy-user-pass {}", "an-option-of-tomorrow {}",
)  # fmt: skip
DISGUISES = ("{}", "--{}", "setenv opt {}", "setenv opt --{}", "\t {}", "{} # nothing", "setenv opt setenv opt {}")
WORDS = (f"/tmp/{MARK}", f'"/tmp/{MARK}"', f"../{MARK}", f"'/bin/touch /tmp/{MARK}'")


def strange_openvpn(seed: int) -> tuple[str, list[int]]:
    """A profile with directives planted among its lines, and the numbers of those."""
    dice = random.Random(seed)
    lines = exported_openvpn.profile(more=dice.choice(("", "tls-server", "comp-lzo", "mode p2p"))).splitlines()
    end = next(number for number, line in enumerate(lines) if line.startswith("<"))
    planted = []
    for deed in dice.sample(DEEDS, dice.randint(1, 6)):
        quoted = deed.format(dice.choice(WORDS))
        first, _, rest = quoted.partition(" ")
        quoted = f'"{first}" {rest}' if dice.random() < 0.2 and not first.startswith("setenv") else quoted
        planted.append(dice.choice(DISGUISES).format(quoted))
    for line in planted:
        lines.insert(dice.randint(0, end), line)
        end += 1
    newline = dice.choice(("\n", "\r\n"))
    return newline.join(lines) + newline, [number for number, line in enumerate(lines, 1) if line in planted]


def mend_openvpn(text: str) -> str:
    return mended(lambda given: look_at_openvpn(OPENVPN, given, {}, {}, exported_openvpn.NOW), text)[0]


@pytest.mark.parametrize("seed", range(100))
def test_what_is_planted_in_openvpns_format_is_named_and_left_out(seed: int) -> None:
    text, planted = strange_openvpn(seed)
    told = {fault.line for fault in look_at_openvpn(OPENVPN, text, {}, {}, exported_openvpn.NOW).faults}
    assert set(planted) <= told, [text.splitlines()[number - 1] for number in set(planted) - told]
    left = [line for line in mend_openvpn(text).splitlines() if MARK in line or "tomorrow" in line]
    assert all(line.split()[-2].removeprefix("--") == "crl-verify" or "crl-verify" in line for line in left), left


HOOKS = ("PreUp", "PostUp", "PreDown", "PostDown", "postup", "POSTUP ", " PreUp\t", "Post\0Up", "SaveConfig")


def strange_wireguard(seed: int) -> tuple[str, list[int]]:
    dice = random.Random(seed)
    more = dice.choice(("", "ListenPort = 51820", "[Interface] = x", "[ Interface ]", "[Peer]"))
    lines = (more + "\n" + profiles.phone(endpoint=dice.choice((None, profiles.ENDPOINT)))).splitlines()
    planted = [f"{name} = touch /tmp/{MARK}-too" for name in dice.sample(HOOKS, dice.randint(1, 3))]
    for line in planted:
        lines.insert(dice.randint(0, len(lines)), line)
    newline = dice.choice(("\n", "\r\n"))
    return newline.join(lines) + newline, [number for number, line in enumerate(lines, 1) if line in planted]


def mend_wireguard(text: str) -> str:
    return mended(lambda given: look_at(WIREGUARD, given, {}), text)[0]


@pytest.mark.parametrize("seed", range(100))
def test_what_is_planted_in_wireguards_format_is_named_and_left_out(seed: int) -> None:
    text, planted = strange_wireguard(seed)
    told = {fault.line for fault in look_at(WIREGUARD, text, {}).faults}
    assert set(planted) <= told
    left = [line for line in mend_wireguard(text).splitlines() if MARK in line]
    assert all("\0" in line for line in left), left


def test_a_path_is_never_followed(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(exported_openvpn.SITE)
    (tmp_path / "inner").mkdir()
    secret = exported_openvpn.STATIC
    (tmp_path / "elsewhere").write_text(secret)
    (tmp_path / "inner" / "link").symlink_to(tmp_path / "elsewhere")
    os.mkfifo(tmp_path / "inner" / "pipe")
    site = ("--site", str(tmp_path / "site.toml"))
    for name in ("../elsewhere", str(tmp_path / "elsewhere"), "link", "pipe", "/dev/zero", "inner/../../elsewhere"):
        path = tmp_path / "inner" / "x.ovpn"
        path.write_text(exported_openvpn.profile(guard=f"tls-crypt {name}"))
        ran = hooper("profile", "mend", str(path), "--out", str(tmp_path / "new.ovpn"), "--force", *site)
        assert ran.code == 1, ran.err
        assert secret.splitlines()[3] not in ran.out + ran.err
        assert not (tmp_path / "new.ovpn").exists() or secret.splitlines()[3] not in (tmp_path / "new.ovpn").read_text()
        ran = hooper("profile", "mend", str(path), "--out", str(tmp_path / "new.ovpn"), "--take-in", name, *site)
        assert ran.code == 2, name
        assert not (tmp_path / "new.ovpn").exists()


def test_what_is_no_key_is_not_taken_in_and_of_a_file_only_what_is_needed(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(exported_openvpn.SITE)
    ca, other = exported_openvpn.pem(exported_openvpn.CA), exported_openvpn.key_pem(exported_openvpn.COX_KEY)
    (tmp_path / "ca.crt").write_text(f"token = hidden-word\n{other}{ca}</ca>\nup /bin/true\n")
    (tmp_path / "key").write_text(other)  # a key, but not of the certificate in the file
    taking = ("profile", "mend", str(tmp_path / "x.ovpn"), "--out", str(tmp_path / "new.ovpn"))
    (tmp_path / "x.ovpn").write_text(exported_openvpn.profile(ca=None, key=None, files="ca ca.crt\nkey key"))
    site = ("--site", str(tmp_path / "site.toml"))
    assert hooper(*taking, "--take-in", "key", *site).code == 2
    assert hooper(*taking, "--take-in", "never-named", *site).code == 2
    ran = hooper(*taking, "--take-in", "ca.crt", *site)
    assert ran.code == 1, ran.err
    new = (tmp_path / "new.ovpn").read_text()
    assert ca.strip() in new
    assert "hidden-word" not in new
    assert "PRIVATE" not in new
    assert "up /bin/true" not in new


def test_a_line_is_kept_that_a_person_names(tmp_path: Path) -> None:
    (tmp_path / "site.toml").write_text(profiles.SITE)
    (tmp_path / "x.conf").write_text(profiles.phone(more="PostUp = logger up", alive=None))
    site = ("--site", str(tmp_path / "site.toml"))
    line = next(n for n, text in enumerate((tmp_path / "x.conf").read_text().splitlines(), 1) if "PostUp" in text)
    run = ("profile", "mend", str(tmp_path / "x.conf"), "--out", str(tmp_path / "new.conf"), *site)
    assert hooper(*run, "--keep", "1").code == 2
    assert hooper(*run, "--keep", "4000").code == 2
    ran = hooper(*run, "--keep", str(line))
    assert ran.code == 1
    assert "PostUp = logger up" in (tmp_path / "new.conf").read_text()
    assert "PersistentKeepalive" in (tmp_path / "new.conf").read_text()


@pytest.mark.parametrize("kind", ["pipe", "device", "folder"])
def test_readers_wait_for_nothing(tmp_path: Path, kind: str) -> None:
    """Every file that a person names is read by one reader: a pipe ends it in words, at once."""
    (tmp_path / "site.toml").write_text(exported_openvpn.SITE)
    path = {"pipe": tmp_path / "pipe", "device": Path("/dev/zero"), "folder": tmp_path}[kind]
    if kind == "pipe":
        os.mkfifo(path)
    named = [
        ("profile", "check", str(path)),
        ("profile", "mend", str(path), "--out", str(tmp_path / "new")),
        ("visit", "take", str(path)),
        ("plan", "--against", f"club-router={path}"),
        ("survey", "--page", f"club-router={path}"),
        ("tunnel", "seen", "box", "--dump", str(path)),
        ("plan", "--site", str(path)),
    ]
    for words in named:
        site = () if "--site" in words else ("--site", str(tmp_path / "site.toml"))
        start = time.monotonic()
        ran = program(*words, *site, timeout=20)
        assert ran.code in (2, 3, 6), (words, ran.err)
        assert time.monotonic() - start < 15


# --- the real software

TELLS = r"""
#define _GNU_SOURCE
#include <dlfcn.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>
static void tell(const char *what, const char *path) {
    int file = (int)syscall(SYS_openat, -100, getenv("TELLS"), O_WRONLY | O_CREAT | O_APPEND, 0600);
    if (file >= 0) { dprintf(file, "%s %s\n", what, path ? path : "?"); close(file); }
}
int execve(const char *path, char *const a[], char *const e[]) { tell("execve", path); return -1; }
int execv(const char *path, char *const a[]) { tell("execv", path); return -1; }
int system(const char *command) { tell("system", command); return -1; }
void *dlopen(const char *path, int flags) {
    if (path && strstr(path, "MARK")) tell("dlopen", path);
    return ((void *(*)(const char *, int))dlsym(RTLD_NEXT, "dlopen"))(path, flags);
}
int open(const char *path, int flags, ...) {
    va_list more; va_start(more, flags); int mode = va_arg(more, int); va_end(more);
    if (strstr(path, "MARK")) tell("open", path);
    return ((int (*)(const char *, int, ...))dlsym(RTLD_NEXT, "open"))(path, flags, mode);
}
FILE *fopen(const char *path, const char *mode) {
    if (strstr(path, "MARK")) tell("fopen", path);
    return ((FILE *(*)(const char *, const char *))dlsym(RTLD_NEXT, "fopen"))(path, mode);
}
""".replace("MARK", MARK)


@pytest.mark.real
@pytest.mark.skipif(not shutil.which("openvpn") or not shutil.which("cc"), reason="no OpenVPN or no C compiler here")
def test_no_mended_copy_has_openvpn_run_or_write_anything(tmp_path: Path) -> None:
    (tmp_path / "tells.c").write_text(TELLS)
    library = tmp_path / "tells.so"
    subprocess.run(["cc", "-shared", "-fPIC", "-o", str(library), str(tmp_path / "tells.c"), "-ldl"], check=True)

    def load(name: str, text: str) -> tuple[str, str]:
        path, tells = tmp_path / f"{name}.ovpn", tmp_path / f"{name}.tells"
        path.write_text(text.replace(exported_openvpn.ENDPOINT.split()[0], "127.0.0.1"))
        command = [
            *("unshare", "-n", "env", f"LD_PRELOAD={library}", f"TELLS={tells}", "openvpn", "--config", str(path)),
            *("--dev", "null", "--dev-type", "tun", "--connect-retry-max", "1", "--connect-timeout", "1"),
            *("--script-security", "2"),
        ]
        try:
            ran = subprocess.run(command, cwd=tmp_path, capture_output=True, timeout=20, check=False)
            said = ran.stdout.decode(errors="replace")
        except subprocess.TimeoutExpired as exc:
            said = (exc.stdout or b"").decode(errors="replace")
        return said, tells.read_text() if tells.exists() else ""

    for line in (f"plugin /tmp/{MARK}", f"log /tmp/{MARK}"):  # the library does tell
        assert MARK in load("unmended", exported_openvpn.profile(more=line))[1]
    Path(f"/tmp/{MARK}").unlink(missing_ok=True)
    seeds = [seed for seed in range(100) if "crl-verify" not in strange_openvpn(seed)[0]]
    with ThreadPoolExecutor(8) as pool:
        made = pool.map(lambda seed: (seed, *load(str(seed), mend_openvpn(strange_openvpn(seed)[0]))), seeds)
        for seed, said, told in made:
            assert not told, (seed, told)
            assert "Options error" not in said, (seed, said)
    assert not Path(f"/tmp/{MARK}").exists()


@pytest.mark.real
@pytest.mark.skipif(not shutil.which("wg-quick") or not shutil.which("wireguard-go"), reason="no WireGuard here")
def test_no_mended_copy_has_wireguard_run_anything(tmp_path: Path) -> None:
    mark = Path(f"/tmp/{MARK}-too")

    def up(number: int, text: str) -> str:
        path = tmp_path / f"hp{number}.conf"
        path.write_text(text.replace("boathouse.heronquay.example", "203.0.113.44").replace("DNS", "# DNS"))
        script = f"ip link set lo up; wg-quick up {path}; wg-quick down {path}"
        environment = {**os.environ, "WG_QUICK_USERSPACE_IMPLEMENTATION": "wireguard-go"}
        ran = subprocess.run(
            ["unshare", "-n", "sh", "-c", script],
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        return ran.stderr

    up(0, profiles.phone(more=f"PreUp = touch {mark}"))
    assert mark.exists()  # so the software does run it
    mark.unlink()
    for seed in range(0, 100, 4):
        up(seed + 1, mend_wireguard(strange_wireguard(seed)[0]))
        assert not mark.exists(), seed
