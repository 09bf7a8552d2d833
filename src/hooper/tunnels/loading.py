"""What to do on a server with the files that were made for it, in words. Pure."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from ipaddress import IPv4Network
from typing import TYPE_CHECKING

from hooper.planning.access import ends, enforced, handing, interface_name
from hooper.planning.tunnel_edits import LOGIN
from hooper.site.references import detours, far_ends

if TYPE_CHECKING:
    from hooper.site.model import Site
    from hooper.site.tunnel_tables import Tunnel


def of_wireguard(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of WireGuard with the files that we made."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, port = site.services[tunnel.service].host, site.services[tunnel.service].used_ports
    if tunnel.server == "linux":
        carries = key in detours(site)
        if carries:
            yield from _to_rented(site, key, folder)
        else:
            yield f"Copy both files to {host}, into {folder}, for root alone: chmod 600 {folder}/{name}.conf."
        yield f"On {host}, once: apt install wireguard nftables (or what your Linux has in their place)."
        if again:
            new = f"/run/{name}.new"
            rules = f"nft -f {folder}/{name}.nft && " + (f"nft -f {folder}/{name}-forwards.nft && " if carries else "")
            yield (
                f"On {host}, without interrupting those who are connected: umask 077; {rules}wg-quick strip"
                f" {folder}/{name}.conf > {new} && wg syncconf {name} {new}; rm {new}"
            )
            yield f"Where its address, port or start-up lines are new, instead: systemctl restart wg-quick@{name}."
        else:
            yield f"On {host}: systemctl enable --now wg-quick@{name}. It then starts by itself after a power cut."
        yield f"Where {host} has a firewall of its own: let UDP {port} in."
        return
    app = "the app WireGuard"
    peers = f"InterfaceAlias -eq '{name}'"
    yield f"Bring {name}.conf to {host} on a stick or a share at home, and import it into {app}; then delete the copy."
    if tunnel.server == "windows":
        yield f"Activate it there: {app} for Windows runs as a service, and starts by itself after a power cut."
    else:
        yield "Activate it there, and have it start on demand, so that it is up after a power cut."
    yield from _through_this(tunnel, {name: tunnel.subnet}, {f"UDP {port}": name}, peers)


def _through_this(
    tunnel: Tunnel, subnets: Mapping[str, IPv4Network | None], ports: Mapping[str, str], peers: str
) -> Iterator[str]:
    """What lets peers get further than the computer that is their server, by the means of Windows or macOS.

    subnets: by name of the tunnel's interface. ports: what the firewall lets in, by transport and port, and its name.
    peers: picks the tunnel's interfaces in PowerShell.
    """
    if tunnel.server == "windows":
        yield (
            "In PowerShell as administrator, so that peers get further than this computer: Get-NetIPInterface |"
            f" Where-Object {{ $_.{peers} }} | Set-NetIPInterface -Forwarding Enabled; the same for the interface of"
            " the LAN."
        )
        if tunnel.way_back == "nat":
            for name, subnet in subnets.items():
                yield f"And: New-NetNat -Name {name} -InternalIPInterfaceAddressPrefix {subnet}."
        for port, name in ports.items():
            transport, _, number = port.partition(" ")
            yield (
                f"In its firewall: New-NetFirewallRule -DisplayName {name} -Protocol {transport} -LocalPort {number}"
                " -Action Allow."
            )
    else:
        yield "In a terminal: sudo sysctl -w net.inet.ip.forwarding=1, and the same line in /etc/sysctl.conf."
        if tunnel.way_back == "nat":
            lines = "; ".join(f"nat on en0 from {subnet} to any -> (en0)" for subnet in subnets.values())
            yield f"And in /etc/pf.conf, after its other nat lines: {lines}; then sudo pfctl -ef /etc/pf.conf."
    yield "Keep the machine from sleeping."
    yield "These steps are as the system's own guides have them, and were not tried by us: look whether each one took."
    if enforced(tunnel) == "nowhere":
        yield "Nothing there keeps a peer to what it may reach: let in only whom you would let into the whole LAN."


def _to_rented(site: Site, key: str, folder: str) -> Iterator[str]:
    """Which files of a tunnel to a rented machine go where."""
    name, host = interface_name(key), site.services[site.tunnels[key].service].host
    yield (
        f"Copy {name}.conf, {name}.nft and {name}-forwards.nft to {host}, into {folder}, for root alone: chmod 600"
        f" {folder}/{name}.conf."
    )
    for peer, gateway in far_ends(site, key).items():
        own = interface_name(peer)
        yield (
            f"Copy {own}-forwards.nft to the machine at home that is {gateway} ({site.gateways[gateway].lan.ip}), into"
            f" {folder}, beside the file that `{handing(site, peer)}` gives it."
        )


def of_ssh(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of SSH with them."""
    tunnel, name = site.tunnels[key], interface_name(key)
    host, login = site.services[tunnel.service].host, tunnel.login or LOGIN
    if not again:
        yield f"On {host}, once: useradd -r -s /bin/false -p '*' {login}; mkdir -p {folder}"
    yield f"Copy {name}.keys to {host} as {folder}/{name}.keys, for root to write and all to read: chmod 644."
    yield f"Copy {name}.conf there as /etc/ssh/sshd_config.d/hooper-{name}.conf."
    if again:
        yield f"On {host}, where {name}.conf is new: sshd -t && systemctl reload ssh. Keys are read at each login."
        yield f"Who is connected stays so: end the session of a key that was taken away with pkill -u {login}."
    else:
        yield f"On {host}: sshd -t && systemctl reload ssh. A session that is open stays open: try another one first."
    yield (
        f"A device where only the authorized_keys of a user can be changed: put the lines of {name}.keys there instead."
    )


def _of_openvpn_by_app(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on Windows or macOS."""
    tunnel = site.tunnels[key]
    there, host = ends(site, key), site.services[tunnel.service].host
    windows = tunnel.server == "windows"
    if not again:
        where = "by its maker's installer, with its service" if windows else "with brew install openvpn"
        yield f"On {host}, once: install OpenVPN 2.5 or later {where}."
    yield f"Copy all of them to {host}, into {folder}, for administrators alone; take out what is not here any more."
    if windows:
        if len(there) > 1 and not again:
            yield 'There, as administrator, an adapter more: "C:\\Program Files\\OpenVPN\\bin\\tapctl.exe" create.'
        restart = "Restart-Service OpenVPNService" if again else "Set-Service OpenVPNService -StartupType Automatic"
        yield f"In PowerShell as administrator: {restart}{'' if again else '; Restart-Service OpenVPNService'}."
    else:
        for end in there:
            plist = f"/Library/LaunchDaemons/{end.name}.plist"
            yield (
                f"In a terminal: sudo cp {folder}/{end.name}.plist {plist}; sudo launchctl unload {plist};"
                f" sudo launchctl load -w {plist}"
            )
    subnets = {end.name: next((net for net in end.subnets if isinstance(net, IPv4Network)), None) for end in there}
    served = [(site.services[end.service], end.name) for end in there]
    ports = {f"{one.used_transport.upper()} {one.used_ports}": name for one, name in served}
    yield from _through_this(tunnel, subnets, ports, "InterfaceAlias -match 'OpenVPN'")


def of_openvpn(site: Site, key: str, folder: str, *, again: bool) -> Iterator[str]:
    """What to do on a server of OpenVPN with them."""
    names = [end.name for end in ends(site, key)]
    host = site.services[site.tunnels[key].service].host
    only = " ".join(f"{folder}/{name}.conf" for name in names)
    if site.tunnels[key].server != "linux":
        yield from _of_openvpn_by_app(site, key, folder, again=again)
        return
    if again:
        yield (
            f"Copy all of them to {host}, into {folder}, in the place of the old ones; there, take out of"
            f" {' and '.join(f'{name}-peers' for name in names)} what is not here any more. For root alone: chmod 600"
            f" {only}."
        )
        rules = " && ".join(f"nft -f {folder}/{name}.nft" for name in names)
        yield (
            f"On {host}, without interrupting those who are connected: {rules}. Who was taken away reaches nothing from"
            " then on, and is turned away when it connects again; nothing has to be restarted."
        )
        restart = " ".join(f"openvpn-server@{name}" for name in names)
        yield f"Where its address, port or network is new, instead: systemctl restart {restart}."
    else:
        yield f"Copy all of them to {host}, into {folder}, for root alone: chmod 600 {only}."
        yield f"On {host}, once: apt install openvpn nftables (or what your Linux has in their place)."
        enable = " ".join(f"openvpn-server@{name}" for name in names)
        yield f"On {host}: systemctl enable --now {enable}. It then starts by itself after a power cut."
    ports = (site.services[end.service] for end in ends(site, key))
    words = " and ".join(f"{one.used_transport.upper()} {one.used_ports}" for one in ports)
    yield f"Where {host} has a firewall of its own: let {words} in."
