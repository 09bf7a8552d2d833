"""Codecs and state machines, one protocol a module: bytes in, values out. No socket, no clock, no random number."""
