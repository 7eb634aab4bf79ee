"""What a proxy in front changes about a request: a path before every address, the sender's own address, and https on the outside.

Headers that say where a request came from (``X-Forwarded-For``, ``X-Forwarded-Proto``) count only if the proxy that sent them is trusted.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable, MutableMapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from lamppost.core.errors import SetupError

Network = ipaddress.IPv4Network | ipaddress.IPv6Network
_SCHEMES = {b"http": "http", b"https": "https"}


def read_network(text: str) -> Network:
    """An address or a network such as ``10.0.0.0/8``; raise SetupError for what is none."""
    try:
        return ipaddress.ip_network(text, strict=False)
    except ValueError as error:
        raise SetupError(f"--trust-proxy {text} is no address and no network; write 10.0.0.7 or 10.0.0.0/8") from error


class Forwarding:
    """How requests reach a node from outside.

    public_urls : addresses that people use; the path of the first stands before every address. trusted : networks of proxies that are
    believed.
    """

    def __init__(self, public_urls: Sequence[str] = (), trusted: Iterable[Network] = ()) -> None:
        parts = [urlsplit(url) for url in public_urls]
        self.base = parts[0].path.rstrip("/") if parts else ""
        """The path before every address, without a slash at its end; empty for none."""
        self.origins = frozenset(f"{part.scheme}://{part.netloc}".lower() for part in parts)
        self._base = self.base.encode()
        self._https_hosts = frozenset(part.netloc.lower().encode() for part in parts if part.scheme == "https")
        self._trusted = tuple(trusted)

    def strip_base(self, target: bytes) -> bytes:
        """The target of a request without the path before it; proxies that take it away themselves send none.

        >>> Forwarding(["https://town.example/lamps"]).strip_base(b"/lamps/predict/x?y=1")
        b'/predict/x?y=1'
        """
        base = self._base
        if not base or not target.startswith(base):
            return target
        rest = target[len(base) :]
        if not rest or rest[:1] == b"?":
            return b"/" + rest
        return rest if rest[:1] == b"/" else target

    def note_origin(self, scope: MutableMapping[str, Any]) -> None:
        """Put the sender's address and the outer scheme into an ASGI scope."""
        peer = scope["client"][0] if scope["client"] else ""
        host = forwarded_for = scheme = b""
        for name, value in scope["headers"]:
            if name == b"host":
                host = value
            elif name == b"x-forwarded-for":
                forwarded_for = forwarded_for + b"," + value if forwarded_for else value
            elif name == b"x-forwarded-proto":
                scheme = value
        if host.lower() in self._https_hosts:
            scope["scheme"] = "https"
        if not self._is_trusted(peer):
            return
        if scheme.lower() in _SCHEMES:
            scope["scheme"] = _SCHEMES[scheme.lower()]
        for hop in reversed(forwarded_for.decode("latin-1").split(",")):
            if not is_address(address := hop.strip()):
                break
            scope["client"] = (address, 0)
            if not self._is_trusted(address):
                break

    def _is_trusted(self, address: str) -> bool:
        if not self._trusted or not is_address(address):
            return False
        parsed = ipaddress.ip_address(address)
        return any(parsed in network for network in self._trusted)


def is_address(text: str) -> bool:
    """Whether a text is an IP address in digits."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
