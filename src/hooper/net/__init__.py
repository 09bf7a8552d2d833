"""The one door to the network: the operating system, one of its interfaces, a proxy, or the lab behind it."""
