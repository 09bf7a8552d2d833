"""--mask: public addresses, names, MACs and the user's own keys replaced consistently, so that output can be posted."""

from __future__ import annotations

import re
from collections.abc import Iterable
from ipaddress import ip_address

from hooper.addresses import classify

_IPV4 = r"(?<![\d.])(?:\d{1,3}\.){3}\d{1,3}(?![\d.]*\d)"
_IPV6 = r"(?<![0-9A-Fa-f:.])(?=[0-9A-Fa-f:]*:[0-9A-Fa-f:]*:)[0-9A-Fa-f:]{2,39}(?![0-9A-Fa-f:])"
_MAC = r"(?<![0-9A-Fa-f:-])(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}(?![0-9A-Fa-f:-])"
_FINGERPRINT = r"sha256:[0-9a-f]{64}"
_KEY = r"(?<![A-Za-z0-9+/=])[A-Za-z0-9+/]{43}=(?![A-Za-z0-9+/=])"  # of a tunnel, 32 bytes in Base64
_ANY = re.compile(f"({_FINGERPRINT}|{_KEY})|({_MAC})|({_IPV4})|({_IPV6})")


class Mask:
    """One run's replacements: the same thing gets the same label wherever it stands."""

    def __init__(self, words: Iterable[str] = ()) -> None:
        """words: names and titles of the user's own that are to be replaced, in any case."""
        kept = sorted({word for word in words if word}, key=len, reverse=True)
        self._words = re.compile("|".join(re.escape(word) for word in kept), re.I) if kept else None
        self._labels: dict[str, str] = {}

    def _label(self, kind: str, value: str) -> str:
        if value not in self._labels:
            number = 1 + sum(label.startswith(f"{kind}-") for label in self._labels.values())
            self._labels[value] = f"{kind}-{number}"
        return self._labels[value]

    def _address(self, text: str) -> str:
        try:
            address = ip_address(text)
        except ValueError:
            return text
        return self._label("address", str(address)) if classify(address).reachable else text

    def text(self, text: str) -> str:
        """`text` with everything replaced that tells whose it is."""

        def replace(match: re.Match[str]) -> str:
            if match[1]:
                return self._label("key", match[1])
            if match[2]:
                return self._label("mac", match[2].lower().replace("-", ":"))
            return self._address(match[0])

        if self._words is not None:
            text = self._words.sub(lambda match: self._label("name", match[0].lower()), text)
        return _ANY.sub(replace, text)
