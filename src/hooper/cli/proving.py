"""The options of `hooper check` for the other ways to prove a service."""

from __future__ import annotations
