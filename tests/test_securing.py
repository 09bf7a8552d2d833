"""https of services: the steps, and the files of web servers, which those servers themselves test, read and follow."""

from __future__ import annotations

import http.client
import os
import socket
import ssl
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest

from hooper.certs.issuing import certify, key_text, new_ec_key, pem_text
from hooper.certs.own_authority import make_root
from hooper.errors import UsageError
from hooper.planning.handed_on import HandedOn, config_for
from hooper.usecases.act.securing import _whole
from support.namespaces import needs
from support.program import town_here, valid

NOW = datetime.now(UTC).replace(microsecond=0)
NAMES = ("films.home.arpa", "hub.home.arpa")


@contextmanager
def device(title: str, folder: Path, *, tls: bool) -> Iterator[tuple[int, list[dict[str, str]]]]:
    """A device's page on loopback, with a certificate of its own making; what it was asked."""
    asked: list[dict[str, str]] = []

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append({name.lower(): value for name, value in self.headers.items()})
            self.send_response(200)
            self.send_header("Set-Cookie", "session=1; Path=/")
            self.send_header("Content-Length", str(len(title)))
            self.end_headers()
            self.wfile.write(title.encode())

        def log_message(self, *_: object) -> None: ...

    server = HTTPServer(("127.0.0.1", 0), Page)
    if tls:
        from datetime import timedelta

        key = new_ec_key()
        own = certify("device", key.public_key(), None, key, NOW, timedelta(days=9), "server", names=["device.local"])
        (folder / f"{title}.pem").write_text(pem_text(own) + key_text(key))
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(folder / f"{title}.pem")
        server.socket = context.wrap_socket(server.socket, server_side=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield server.server_port, asked
    finally:
        server.shutdown()
        server.server_close()
        thread.join()


def free_port() -> int:
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])


@pytest.fixture
def root(tmp_path: Path) -> Path:
    """A root, and for each name a certificate of it."""
    from hooper.certs.own_authority import OwnAuthority

    text = make_root(tmp_path, "house", ["home.arpa"], NOW)
    (tmp_path / "root.pem").write_text(text)
    own = OwnAuthority(tmp_path, "house", text)
    for name in NAMES:
        key = new_ec_key()
        (tmp_path / f"{name}.pem").write_text(pem_text(own.issue([name], key.public_key(), NOW)))
        (tmp_path / f"{name}.key").write_text(key_text(key))
    return tmp_path


def fetch(port: int, name: str, root: Path) -> tuple[int, str, str]:
    """Its page by that name, over TLS that is verified. Raises: ssl.SSLError, OSError."""
    context = ssl.create_default_context(cafile=root / "root.pem")
    raw = socket.create_connection(("127.0.0.1", port), 5)
    with context.wrap_socket(raw, server_hostname=name) as stream:
        connection = http.client.HTTPConnection(name, port)
        connection.sock = stream
        connection.request("GET", "/", headers={"X-Forwarded-For": "6.6.6.6", "X-Forwarded-Proto": "http"})
        answer = connection.getresponse()
        return answer.status, answer.read().decode(), answer.headers.get("Set-Cookie") or ""


@contextmanager
def running(server: Any, folder: Path, config: str, port: int) -> Iterator[None]:
    (folder / "handed-on.conf").write_text(config)
    whole = _whole(server, folder)
    if server == "apache":
        whole = f"Listen 127.0.0.1:{port}\n{whole}"
    elif server == "lighttpd":
        whole = whole.replace("server.port = 1", f"server.port = {free_port()}")
    (folder / "whole.conf").write_text(whole)
    words = {
        "nginx": ["nginx", "-g", "daemon off; user root;", "-c"], "apache": ["apache2", "-X", "-f"],
        "lighttpd": ["lighttpd", "-D", "-f"],
    }[server]  # fmt: skip
    with (folder / "said").open("wb") as said:
        process = subprocess.Popen([*words, str(folder / "whole.conf")], stdout=said, stderr=said)
        try:
            until = time.monotonic() + 10
            while time.monotonic() < until:
                with suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                    break
                assert process.poll() is None, (folder / "said").read_text()
                time.sleep(0.02)
            yield
        finally:
            process.terminate()
            process.wait(10)


@pytest.mark.real
@pytest.mark.parametrize(("server", "tls"), [("nginx", True), ("nginx", False), ("apache", True), ("lighttpd", False)])
def test_two_names_behind_one_port(root: Path, server: Any, tls: bool) -> None:
    """Each name gets its device over verified TLS, another name gets nothing, and no visitor says who he is."""
    needs({"nginx": "nginx", "apache": "apache2", "lighttpd": "lighttpd"}[server])
    port = free_port()
    with device("Race films", root, tls=tls) as (one, asked), device("Heating", root, tls=tls) as (two, _):
        scheme = "https" if tls else "http"
        handed = [
            HandedOn(name, name, 443, f"{scheme}://127.0.0.1:{inner}", "127.0.0.1", inner, f"{root}/{name}.pem",
                     f"{root}/{name}.key")
            for name, inner in zip(NAMES, (one, two), strict=True)
        ]  # fmt: skip
        with running(server, root, config_for(server, handed, port), port):
            found = [fetch(port, name, root) for name in NAMES]
            assert [(status, text) for status, text, _ in found] == [(200, "Race films"), (200, "Heating")]
            if server != "lighttpd":
                assert all("secure" in cookie.lower() for _, _, cookie in found)
            with pytest.raises((ssl.SSLError, OSError)):
                fetch(port, "other.home.arpa", root)
            seen = asked[-1]
            assert (seen["x-forwarded-proto"], seen["x-forwarded-port"]) == ("https", "443")
            assert seen["host"].startswith(NAMES[0])
            if server != "lighttpd":
                assert seen["x-forwarded-for"] == "127.0.0.1"


def test_what_lighttpd_cannot_is_said() -> None:
    with pytest.raises(UsageError, match="by TLS"):
        config_for(
            "lighttpd", [HandedOn("a", "a.example", 443, "https://10.0.0.1:443", "10.0.0.1", 443, "c", "k")], 443
        )


def test_the_steps_and_a_server_that_refuses(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In the town: each step in its order; a web server whose own test fails is told nothing, and keeps its file."""
    with town_here(tmp_path / "lab") as lab:
        document = valid("service-secure", lab.run("service", "secure", "hub-page", "--json").document)
        (row,) = document["services"]
        steps = {step["code"]: step["done"] for step in row["steps"]}
        assert list(steps) == ["certificate", "tls", "base-url", "cookies", "redirect", "hsts", "app"]
        assert (steps["certificate"], row["url"]) == (False, "https://boathouse.heronquay.example:8443/")
        lab.run("cert", "order", "--quiet")
        lab.run("host", "tick", "hub", "base_url")
        document = lab.run("service", "secure", "hub-page", "--by", "nginx", "--json").document
        (row,) = document["services"]
        steps = {step["code"]: step["done"] for step in row["steps"]}
        assert (steps["certificate"], steps["base-url"], row["url"]) == (
            True,
            True,
            "https://boathouse.heronquay.example/",
        )
        assert "proxy_pass https://10.44.7.50:8443;" in document["config"]
        both = lab.run("service", "secure", "hub-page", "film-page", "--by", "nginx")
        assert (both.code, "have the same name" in both.err) == (2, True)
        programs, said = tmp_path / "bin", tmp_path / "asked"
        programs.mkdir()
        (programs / "nginx").write_text(
            f'#!/bin/sh\necho "$*" >> {said}\ncase "$*" in "-t -q") echo "emerg: no such thing"; exit 1;; esac\n'
        )
        (programs / "nginx").chmod(0o755)
        monkeypatch.setenv("PATH", f"{programs}:{os.environ['PATH']}")
        out = tmp_path / "hooper.conf"
        assert lab.run("service", "secure", "hub-page", "--by", "nginx", "--out", str(out)).code == 0
        before = out.read_text()
        out.write_text(before + "# as it was\n")
        ran = lab.run("service", "secure", "hub-page", "--by", "nginx", "--out", str(out), "--reload")
        assert (ran.code, "no such thing" in ran.err) == (6, True)
        assert out.read_text() == before + "# as it was\n"
        assert "reload" not in said.read_text()
