"""The one door to the network: the operating system, one of its interfaces, a proxy, or the lab behind it."""

__all__ = (
    "acceptor", "bounded", "dns", "exchange", "http", "interfaces", "lab_door", "limits", "nat64", "opening", "passing",
    "plain_http", "presence", "proxy", "relay", "relayed", "running", "serving", "stun", "system", "tls", "types",
    "whereabouts",
)  # fmt: skip
