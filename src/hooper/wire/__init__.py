"""Codecs and state machines, one protocol a module: bytes in, values out. No socket, no clock, no random number."""

__all__ = (
    "body", "ftp", "gena", "head", "icmp", "ike", "images", "ip4", "lab_link", "mdns", "meeting_talk", "nat64",
    "natpmp", "ntp", "openvpn", "ovpnfile", "pcp", "recognise", "rfb", "rtnetlink", "smb2", "socks5", "ssdp", "ssh",
    "sshkex", "stand_in", "stun", "upnp", "wgfile", "wireguard", "witness_talk", "x224",
)  # fmt: skip
