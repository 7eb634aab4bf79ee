"""Makes the HTTP clients by which the service sends webhooks and spans.

Loading the certificate authorities takes 80 ms, so that is done once, in a thread, and only when an address needs TLS.
"""

from __future__ import annotations

import asyncio
import ssl
from functools import cache

import httpx


@cache
def _tls_context() -> ssl.SSLContext:
    return httpx.create_ssl_context()


async def outgoing_client(url: str, timeout_s: float) -> httpx.AsyncClient:
    """A client for requests to ``url``; the caller closes it. timeout_s : for each phase of a request."""
    plain = url.lower().startswith("http://")
    verify = False if plain else await asyncio.to_thread(_tls_context)
    return httpx.AsyncClient(timeout=timeout_s, trust_env=False, verify=verify)
