"""What a service can speak: usual transport and port, and what that means for exposing it. Data, kept in one place.

Ports are those of the IANA registry of service names and port numbers (RFC 6335).
"""

from __future__ import annotations

from typing import NamedTuple


class Speech(NamedTuple):
    """One application protocol.

    transport: tcp, udp, both, or an IP protocol's number. port: the usual one, or None where there is none.
    clear_text: a passer-by can read along. desktop: gives full control of a machine's screen. sharing: hands out
    files. lan_only: made for networks where everyone is trusted, it asks for no login or is used against others.
    mute: a stranger gets no answer, so that silence proves nothing; silence: why, in words. safer: the encrypted
    kind. either: it may run over the other transport too. more: what else it needs, in words, and as transport and
    port: 0 for a range of ports. probe: how it is probed, "tcp" where it can only be connected to.
    """

    key: str
    transport: str
    port: int | None
    title: str
    clear_text: bool = False
    desktop: bool = False
    sharing: bool = False
    lan_only: bool = False
    mute: bool = False
    safer: str = ""
    either: bool = False
    more: str = ""
    more_ports: tuple[str, int] = ("", 0)
    probe: str = "tcp"
    silence: str = ""

    @property
    def tunnel(self) -> bool:
        """Whether it is a way into a network for other protocols."""
        return self.key in TUNNELS

    @property
    def told(self) -> bool:
        """Whether a probe can tell that it is this protocol that answers."""
        return self.probe != "tcp"


TUNNELS = ("wireguard", "openvpn", "ike", "ipsec-nat", "esp", "l2tp", "pptp", "gre")
SPEECHES: dict[str, Speech] = {
    speech.key: speech
    for speech in (
        Speech("http", "tcp", 80, "a web page without encryption", clear_text=True, safer="https", probe="http"),
        Speech("https", "tcp", 443, "a web page with encryption", either=True, probe="https"),
        Speech("tls", "tcp", None, "something inside TLS", either=True, probe="tls"),
        Speech("tcp", "tcp", None, "anything over TCP"),
        Speech("ssh", "tcp", 22, "a secure shell", probe="ssh"),
        Speech("telnet", "tcp", 23, "a shell without encryption", clear_text=True, safer="ssh"),
        Speech("rdp", "tcp", 3389, "a remote desktop", desktop=True, either=True, probe="rdp"),
        Speech("vnc", "tcp", 5900, "a remote screen (RFB)", clear_text=True, desktop=True, probe="vnc"),
        Speech(
            "rtsp",
            "tcp",
            554,
            "a camera's film",
            clear_text=True,
            safer="rtsps",
            either=True,
            probe="rtsp",
        ),
        Speech("rtsps", "tcp", 322, "a camera's film inside TLS", probe="tls"),
        Speech(
            "ftp",
            "tcp",
            21,
            "file transfer without encryption",
            clear_text=True,
            sharing=True,
            safer="ssh",
            more="a range of TCP ports for its data (passive mode)",
            more_ports=("tcp", 0),
            probe="ftp",
        ),
        Speech(
            "ftps",
            "tcp",
            990,
            "file transfer inside TLS",
            more="a range of TCP ports for its data (passive mode)",
            more_ports=("tcp", 0),
        ),
        Speech("smb", "tcp", 445, "file sharing (SMB)", sharing=True, probe="smb"),
        Speech("nfs", "tcp", 2049, "file sharing (NFS)", clear_text=True, sharing=True),
        Speech("rsync", "tcp", 873, "copying of files (rsync)", clear_text=True, sharing=True, safer="ssh"),
        Speech("smtp", "tcp", 25, "incoming mail"),
        Speech("submission", "tcp", 587, "outgoing mail"),
        Speech("imap", "tcp", 143, "a mailbox without encryption", clear_text=True, safer="imaps"),
        Speech("imaps", "tcp", 993, "a mailbox inside TLS", probe="tls"),
        Speech("mqtt", "tcp", 1883, "messages of devices without encryption", clear_text=True, safer="mqtts"),
        Speech("mqtts", "tcp", 8883, "messages of devices inside TLS", probe="tls"),
        Speech("ldap", "tcp", 389, "a directory without encryption", clear_text=True, lan_only=True),
        Speech(
            "sip",
            "both",
            5060,
            "telephony without encryption",
            clear_text=True,
            safer="sips",
            more="the UDP ports of the voice (RTP)",
            more_ports=("udp", 0),
        ),
        Speech(
            "sips",
            "tcp",
            5061,
            "telephony inside TLS",
            more="the UDP ports of the voice (RTP)",
            more_ports=("udp", 0),
            probe="tls",
        ),
        Speech("dns", "both", 53, "name service", lan_only=True, probe="dns"),
        Speech("ntp", "udp", 123, "time service", lan_only=True, probe="ntp"),
        Speech("snmp", "udp", 161, "device management (SNMP)", clear_text=True, lan_only=True),
        Speech("ipp", "tcp", 631, "printing", lan_only=True),
        Speech("modbus", "tcp", 502, "control of machines (Modbus)", clear_text=True, lan_only=True),
        Speech("bacnet", "udp", 47808, "control of buildings (BACnet)", clear_text=True, lan_only=True),
        Speech("knx", "udp", 3671, "control of buildings (KNXnet/IP)", clear_text=True, lan_only=True),
        Speech(
            "wireguard",
            "udp",
            51820,
            "a WireGuard tunnel",
            mute=True,
            silence="a WireGuard server answers only those whose key it knows, and no tunnel of the file has one",
        ),
        Speech(
            "openvpn",
            "udp",
            1194,
            "an OpenVPN tunnel",
            mute=True,
            either=True,
            probe="openvpn",
            silence="an OpenVPN server with a key that its clients share answers nobody else, and this look has none",
        ),
        Speech(
            "ike",
            "udp",
            500,
            "the start of an IPsec tunnel (IKE)",
            mute=True,
            more="UDP 4500, for NAT on the way (RFC 3947)",
            more_ports=("udp", 4500),
            probe="ike",
            silence="an IPsec server may answer nobody whom it does not expect",
        ),
        Speech(
            "ipsec-nat",
            "udp",
            4500,
            "an IPsec tunnel through NAT",
            mute=True,
            more="UDP 500, where it starts (RFC 7296)",
            more_ports=("udp", 500),
            probe="ike",
            silence="an IPsec server may answer nobody whom it does not expect",
        ),
        Speech(
            "esp",
            "50",
            None,
            "an IPsec tunnel without NAT (ESP)",
            mute=True,
            more="UDP 500, where it starts (RFC 7296)",
            more_ports=("udp", 500),
        ),
        Speech("l2tp", "udp", 1701, "an L2TP tunnel", clear_text=True, mute=True),
        Speech(
            "pptp",
            "tcp",
            1723,
            "a PPTP tunnel, whose encryption is broken",
            clear_text=True,
            more="the IP protocol 47 (GRE)",
            more_ports=("47", 0),
        ),
        Speech("gre", "47", None, "a GRE tunnel", clear_text=True, mute=True),
        Speech("unknown", "tcp", None, "a maker's own protocol", either=True),
    )
}
