"""Programs of their own, forked from one that has loaded all of hooper: a start costs a fork, not half a second of CPU.

Each is a process as any other: a child of this one, with its own streams, folder, environment, signals and network
namespace. What a real start is itself about (Python's own options, encodings) starts anew instead, and so does all on
a kernel other than Linux.
"""

from __future__ import annotations

import ast
import ctypes
import fcntl
import gc
import io
import json
import os
import pkgutil
import signal
import socket
import subprocess
import sys
import termios
import threading
import time
import traceback
from collections.abc import Mapping, Sequence
from contextlib import suppress
from importlib import import_module
from pathlib import Path
from typing import Any

from support.namespaces import CLONE_NEWNET

PR_SET_CHILD_SUBREAPER = 36  # prctl(2): whose parent has ended becomes a child of the nearest such ancestor
CLONE_NEWNS = 0x20000  # linux/sched.h
PATIENCE = 120.0  # seconds, until everything is loaded on a busy computer
MS_BIND, MS_REC, MS_SLAVE, MNT_DETACH = 0x1000, 0x4000, 0x80000, 2
OF_THE_START = ("PYTHON", "LC_", "LANG", "TZ", "COV_", "COVERAGE")  # variables that Python reads as it starts
ENTER = ("ip", "netns", "exec")


def start(words: Sequence[str], *, wrap: Sequence[str] = (), **more: Any) -> subprocess.Popen[Any]:
    """Start hooper. words: after its name. wrap: a command to run it inside of. more: as `subprocess.Popen` has it;
    in a session of its own a terminal at its stdin is its own too.
    """
    env = more.get("env") or os.environ
    namespace = wrap[3] if len(wrap) == 4 and tuple(wrap[:3]) == ENTER else None
    if sys.platform != "linux" or _starts_otherwise(env) or (wrap and namespace is None):
        return subprocess.Popen([*wrap, sys.executable, "-m", "hooper", *words], **more)
    return _Forked([namespace or "", *words], **more)


def _starts_otherwise(env: Mapping[str, str]) -> bool:
    """Whether Python itself would start in another way: what is loaded is loaded, and all of it speaks UTF-8."""
    told = {key for key in {*env, *os.environ} if key.startswith(OF_THE_START)}
    same = ("UTF-8", str(Path(__file__).parents[2] / "src"))
    return any(env.get(key) != os.environ.get(key) and not env.get(key, "").endswith(same) for key in told)


def run(
    words: Sequence[str], *, wrap: Sequence[str] = (), stdin: str = "", timeout: float = 60, **more: Any
) -> subprocess.CompletedProcess[str]:
    """As `start`, and wait for its end."""
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    process = start(words, wrap=wrap, text=True, encoding="utf-8", **pipes, **more)
    try:
        out, err = process.communicate(stdin, timeout)
    except BaseException:
        process.kill()
        process.communicate()
        raise
    return subprocess.CompletedProcess(words, process.returncode, out, err)


class _Forked(subprocess.Popen[Any]):
    """A child that another process has made for this one."""

    def _execute_child(self, args: Any, _1: Any, _2: Any, _3: Any, _4: Any, cwd: Any, env: Any, *rest: Any) -> None:
        streams = rest[3:9]
        of_child = [end if end != -1 else number for number, end in enumerate(streams[i] for i in (0, 3, 5))]
        self.pid = _Warm.here().fork(list(map(str, args)), cwd, env or os.environ, of_child, session=rest[14])
        self._child_created = True
        self._close_pipe_fds(*streams)  # type: ignore[attr-defined]


class _Warm:
    """The process that forks."""

    one: _Warm | None = None
    lock = threading.Lock()

    def __init__(self) -> None:
        self.owner = os.getpid()
        self.line, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self.line.settimeout(PATIENCE)
        with theirs:
            self.process = subprocess.Popen(
                [sys.executable, "-m", "support.warm", str(theirs.fileno())], pass_fds=[theirs.fileno()],
                stdin=subprocess.DEVNULL, env={**os.environ, "PYTHONPATH": str(Path(__file__).parents[1])}, cwd="/",
            )  # fmt: skip

    @classmethod
    def here(cls) -> _Warm:
        with cls.lock:
            if cls.one is None or cls.one.owner != os.getpid():
                cls.one = _Warm()
            return cls.one

    def fork(self, words: list[str], cwd: Any, env: Mapping[str, str], streams: list[int], *, session: bool) -> int:
        umask = os.umask(0o077)
        os.umask(umask)
        asked = {
            "words": words, "cwd": str(cwd or os.getcwd()), "env": dict(env), "umask": umask, "session": session
        }  # fmt: skip
        prctl = ctypes.CDLL(None, use_errno=True).prctl
        with self.lock:
            prctl(PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
            try:
                socket.send_fds(self.line, [json.dumps(asked).encode()], streams)
                return int(self.line.recv(64))
            finally:
                prctl(PR_SET_CHILD_SUBREAPER, 0, 0, 0, 0)


def _load() -> None:
    """All of hooper, and all that any function of it imports."""
    import hooper

    source = Path(hooper.__file__).parent
    for module in pkgutil.walk_packages([str(source)], "hooper."):
        if not module.name.endswith("__main__"):
            with suppress(ImportError):
                import_module(module.name)
    wanted = set()
    for path in source.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_bytes())):
            if isinstance(node, ast.Import):
                wanted |= {one.name for one in node.names}
            elif isinstance(node, ast.ImportFrom) and node.module and not node.level:
                wanted.add(node.module)
    for name in sorted(wanted):
        with suppress(ImportError):
            import_module(name)
    import_module("anyio._backends._asyncio")


def _serve(line: socket.socket) -> None:
    """Fork whatever is asked for, until nobody can ask any more."""
    while True:
        asked, streams, _, _ = socket.recv_fds(line, 1 << 20, 3)
        if not asked:
            return
        told, tell = os.pipe()
        if (between := os.fork()) == 0:  # it ends at once, so that its child is a child of who asked
            if child := os.fork():
                os.write(tell, str(child).encode())
                os._exit(0)
            _become(json.loads(asked), streams)
        os.waitpid(between, 0)
        line.send(os.read(told, 64))
        for number in (told, tell, *streams):
            os.close(number)


def _become(asked: dict[str, Any], streams: list[int]) -> None:
    """The program that was asked for, as Python starts it."""
    code = 70
    try:
        for number, stream in enumerate(streams):
            os.dup2(stream, number)
        os.closerange(3, 256)
        os.umask(asked["umask"])
        if asked["session"]:
            os.setsid()
            if os.isatty(0):
                fcntl.ioctl(0, termios.TIOCSCTTY, 0)
        os.environ.clear()
        os.environ.update(asked["env"])
        namespace, *words = asked["words"]
        if namespace:
            _enter(namespace)
        os.chdir(asked["cwd"])
        sys.stdin = sys.__stdin__ = _stream(0)  # type: ignore[misc]
        sys.stdout = sys.__stdout__ = _stream(1)  # type: ignore[misc]
        sys.stderr = sys.__stderr__ = _stream(2)  # type: ignore[misc]
        from hooper import __file__ as package
        from hooper.cli.main import run

        sys.argv = [str(Path(package).with_name("__main__.py")), *words]
        gc.enable()
        run()
    except SystemExit as left:
        code = left.code if isinstance(left.code, int) else 1
    except BaseException:
        traceback.print_exc()
    finally:
        os._exit(code)


def _stream(number: int) -> io.TextIOWrapper:
    raw = io.FileIO(number, "w" if number else "r", closefd=False)
    return io.TextIOWrapper(
        io.BufferedWriter(raw) if number else io.BufferedReader(raw),
        encoding="utf-8", errors="backslashreplace" if number == 2 else "strict",
        line_buffering=number == 2 or raw.isatty(),
    )  # fmt: skip


def _enter(namespace: str) -> None:
    """As `ip netns exec` does (ip-netns(8)): its network, its /sys and its files of /etc."""
    libc = ctypes.CDLL(None, use_errno=True)

    def done(failed: int) -> None:
        if failed:
            raise OSError(ctypes.get_errno(), f"cannot enter {namespace}")

    with open(f"/run/netns/{namespace}") as there:
        done(libc.setns(there.fileno(), CLONE_NEWNET))
    done(libc.unshare(CLONE_NEWNS))
    done(libc.mount(b"", b"/", b"none", MS_SLAVE | MS_REC, None))
    libc.umount2(b"/sys", MNT_DETACH)
    done(libc.mount(namespace.encode(), b"/sys", b"sysfs", 0, None))
    own = Path("/etc/netns", namespace)
    for path in own.iterdir() if own.is_dir() else ():
        done(libc.mount(os.fsencode(path), os.fsencode(Path("/etc", path.name)), b"none", MS_BIND, None))


if __name__ == "__main__":
    for _number in (signal.SIGINT, signal.SIGHUP, signal.SIGTERM):
        signal.signal(_number, signal.default_int_handler if _number == signal.SIGINT else signal.SIG_DFL)
    sys.dont_write_bytecode = False
    _load()
    gc.collect()
    gc.freeze()
    time.tzset()
    with socket.socket(fileno=int(sys.argv[1])) as _line:
        _serve(_line)
