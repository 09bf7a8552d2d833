"""The files of both sides of a way in by SSH, from the site file and the kept keys.

The server takes the line of a peer in authorized_keys(5), which permits the planned targets and nothing else; the peer
has its key, the server's host key, and a block for ssh_config(5).
"""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.planning.access import grants, interface_name, into_for
from hooper.planning.local_ports import LocalForward, dynamic_port, forwards_of
from hooper.planning.tunnel_edits import LOGIN
from hooper.tunnels.common import KeyMissing, Profile, ServerFiles, at, found_at, keys_of, let_in, mark_of, title_of

if TYPE_CHECKING:
    from hooper.addresses import IPAddress
    from hooper.planning.topology import Topology
    from hooper.site.model import Site
    from hooper.tunnels.keys import KeyRing

FOLDER = "/etc/ssh/hooper"
ALIVE_S = 30  # seconds: NATs forget a silent TCP connection late, people notice a dead one soon


@dataclass(frozen=True)
class SshProfile(Profile):
    """login: the user on the server. forwards: ports here that lead to services. proxy: the port of a proxy to
    everything; 0: none.
    """

    host: str
    port: int
    login: str
    forwards: tuple[LocalForward, ...]
    proxy: int
    ending = ".zip"

    @property
    def name(self) -> str:
        """What it is called on the peer's device, and so its files there."""
        return interface_name(self.tunnel)


def profile_of(topology: Topology, key: str, public: Mapping[str, IPAddress] | None = None) -> SshProfile:
    """What the files of a peer are to say. public: the lines' addresses, as far as known.

    Raises: NoEndpoint, KeyMissing.
    """
    site, peer = topology.site, topology.site.peers[key]
    tunnel = site.tunnels[peer.tunnel]
    where = found_at(topology, key, tunnel.service, public)
    if tunnel.public_key is None:
        raise KeyMissing(
            f"the host key of {site.services[tunnel.service].host} is not written down, so nobody could tell it from"
            " another",
            remedy=f"At home, `{deeds.RENEW_TUNNEL(peer.tunnel)}` looks at it and writes it.",
        )
    server, own = keys_of(site, key)
    forwards = forwards_of(site, key)
    everything = into_for(site, peer) == ("everything",)
    return SshProfile(
        key,
        peer.tunnel,
        at(where),
        own,
        server,
        tuple(f"localhost:{one.local} ({one.service})" for one in forwards) or ("everything, by a proxy",),
        where.host,
        where.port,
        tunnel.login or LOGIN,
        forwards,
        dynamic_port(site) if everything else 0,
    )


# --- the peer


def config_block(topology: Topology, profile: SshProfile) -> str:
    """The block for ssh_config(5), a file of its own."""
    name = profile.name
    lines = [
        f"# {profile.peer}: a way into {title_of(topology.site)}. Made by Hooper. For this one device alone.",
        f"Host {name}",
        f"    HostName {profile.host}",
        f"    Port {profile.port}",
        f"    User {profile.login}",
        f"    IdentityFile ~/.ssh/{name}.key",
        "    IdentitiesOnly yes",
        f"    HostKeyAlias {name}",
        f"    HostKeyAlgorithms {_algorithms(profile.server)}",
        f"    UserKnownHostsFile ~/.ssh/{name}.known",
        "    GlobalKnownHostsFile none",
        "    StrictHostKeyChecking yes",
        "    PreferredAuthentications publickey",
        "    ExitOnForwardFailure yes",
        f"    ServerAliveInterval {ALIVE_S}",
        "    ServerAliveCountMax 3",
        "    RequestTTY no",
        *(f"    LocalForward 127.0.0.1:{one.local} {one.address}:{one.port}" for one in profile.forwards),
        *([f"    DynamicForward 127.0.0.1:{profile.proxy}"] if profile.proxy else []),
    ]
    return "\n".join(lines) + "\n"


def _algorithms(public: str) -> str:
    """The signatures of a host key, so that the server shows the one that is pinned (RFC 8332 for RSA)."""
    kind = public.split()[0]
    return "rsa-sha2-512,rsa-sha2-256" if kind == "ssh-rsa" else kind


def known_host(profile: SshProfile) -> str:
    """The pinned host key, as sshd(8) has it for known hosts."""
    return f"{profile.name} {profile.server}\n"


def one_line(profile: SshProfile) -> str:
    """The same as one command, for who has put the key and the host key in their places."""
    ways = [f"-L 127.0.0.1:{one.local}:{one.address}:{one.port}" for one in profile.forwards]
    ways += [f"-D 127.0.0.1:{profile.proxy}"] if profile.proxy else []
    name = profile.name
    return " ".join((
        f"ssh -N -p {profile.port} -i ~/.ssh/{name}.key -o IdentitiesOnly=yes -o HostKeyAlias={name}"
        f" -o UserKnownHostsFile=~/.ssh/{name}.known -o StrictHostKeyChecking=yes -o ExitOnForwardFailure=yes",
        *ways,
        f"{profile.login}@{profile.host}",
    ))  # fmt: skip


def start(profile: SshProfile) -> str:
    """The command that starts it, with the files in their places."""
    return f"ssh -N -F ~/.ssh/{profile.name}.config {profile.name}"


def peer_files(topology: Topology, profile: SshProfile, ring: KeyRing) -> dict[str, str]:
    """The files for the peer's ~/.ssh, by name; without the key where it has its own. Raises: MachineError."""
    private, name = ring.private(profile.public_key), profile.name
    files = {f"{name}.config": config_block(topology, profile), f"{name}.known": known_host(profile)}
    return {f"{name}.key": private.reveal(), **files} if private is not None else files


def archive(files: Mapping[str, str]) -> bytes:
    """The files as one, each for its owner alone."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as out:
        for name, text in files.items():
            entry = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
            entry.external_attr = 0o100600 << 16
            out.writestr(entry, text)
    return made.getvalue()


# --- the server


def permitted(site: Site, key: str) -> Iterator[str]:
    """The targets of a peer, as `permitopen` has them; nothing: all that the server reaches."""
    if into_for(site, site.peers[key]) == ("everything",):
        return
    for grant in grants(site, key):
        where = str(grant.network.network_address)
        if grant.ports is None:
            yield f"{where}:*"
        else:
            yield from (f"{where}:{port}" for port in range(grant.ports.first, grant.ports.last + 1))


def key_line(site: Site, key: str) -> str:
    """A peer's line in authorized_keys(5): no shell, no other way, the planned targets alone, until its last day."""
    peer = site.peers[key]
    targets = list(permitted(site, key))
    nowhere = not targets and into_for(site, peer) != ("everything",)
    options = [
        "restrict",
        *(["port-forwarding"] if not nowhere else []),
        'command="/bin/false"',
        'permitlisten="127.0.0.1:1"',  # of those that it could open at the server: one that no user may
        *(f'permitopen="{target}"' for target in targets),
        *([f'expiry-time="{peer.until:%Y%m%d}235959"'] if peer.until is not None else []),
    ]
    return f"{','.join(options)} {peer.public_key} {key}"


def server_mark(topology: Topology, key: str, today: date) -> str:
    """What the server's files are known by: it changes when they have to be put there anew."""
    return mark_of("".join(server_texts(topology.site, key, today, FOLDER).values()))


def server_files(topology: Topology, key: str, today: date, folder: str = FOLDER) -> ServerFiles:
    """All that the server takes. today: peers whose time is over are left out. folder: where the keys will stand."""
    return ServerFiles(server_texts(topology.site, key, today, folder), frozenset(), server_mark(topology, key, today))


def server_texts(site: Site, key: str, today: date, folder: str) -> dict[str, str]:
    """The keys of all peers, and what sshd_config(5) says of the user that they log in as."""
    tunnel, name = site.tunnels[key], interface_name(key)
    login = tunnel.login or LOGIN
    head = f"# {key}: the way into {title_of(site)}. Made by Hooper from its site file: change that, make it again."
    keys = [head, *(key_line(site, peer) for peer in let_in(site, key, today))]
    settings = [
        head,
        f"Match User {login}",
        f"    AuthorizedKeysFile {folder}/{name}.keys",
        "    AuthenticationMethods publickey",
        "    AllowTcpForwarding local",
        "    AllowStreamLocalForwarding no",
        "    AllowAgentForwarding no",
        "    X11Forwarding no",
        "    PermitTunnel no",
        "    PermitTTY no",
        "    PermitUserRC no",
        "    GatewayPorts no",
        "    ForceCommand /bin/false",
        "Match all",
    ]
    return {f"{name}.keys": "\n".join(keys) + "\n", f"{name}.conf": "\n".join(settings) + "\n"}
