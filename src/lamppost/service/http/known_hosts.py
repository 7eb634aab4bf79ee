"""The names under which a node is asked.

A browser that sends a request for another name is on a page that only pretends to be of this host (DNS rebinding).
"""

from __future__ import annotations

import socket
from collections.abc import Iterable
from urllib.parse import urlsplit

from lamppost.core.errors import Misdirected
from lamppost.service.forwarding import is_address

_MOST_REMEMBERED = 1_000
_LONGEST = 300


class KnownHosts:
    """Names of a node: loopback, addresses in digits, this machine's own name, and those of its public addresses (URLs)."""

    def __init__(self, urls: Iterable[str]) -> None:
        own = socket.gethostname().lower()
        self._names = {"localhost", own, own.partition(".")[0]} | {_name(urlsplit(url).netloc) for url in urls}
        self.seen: set[bytes] = set()
        """Values of the header Host that were found to be known, for the fast path."""

    def require(self, host: bytes) -> None:
        """Raise Misdirected for a value of the header Host (RFC 9110, section 7.2) that is no name of this node."""
        if host in self.seen:
            return
        name = _name(host.decode("latin-1")) if len(host) <= _LONGEST else ""
        if name not in self._names and not is_address(name):
            raise Misdirected(
                f"this service is not known as {name[:80] or 'that'!r}; ask it by its address, or start it with --public-url and that name"
            )
        if len(self.seen) < _MOST_REMEMBERED:
            self.seen.add(host)


def _name(netloc: str) -> str:
    """The name without its port, in lower case; an IPv6 address without its brackets."""
    if netloc.startswith("["):
        return netloc[1:].partition("]")[0].lower()
    return netloc.rpartition("@")[2].partition(":")[0].lower().rstrip(".")
