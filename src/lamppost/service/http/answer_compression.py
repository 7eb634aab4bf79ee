"""Compresses answers with gzip for callers that ask for it (RFC 9110, section 12.5.3), away from the event loop where they are large."""

from __future__ import annotations

import asyncio
import gzip
import zlib
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

Message = MutableMapping[str, Any]
Send = Callable[[Message], Awaitable[None]]

_LEAST_BYTES = 1_400
"""About what one packet carries: a smaller answer gains nothing."""
_ON_LOOP_BYTES = 32 * 1024
_LEVEL = 4
_TYPES = (b"application/json", b"application/problem+json", b"application/x-ndjson", b"text/", b"application/openmetrics-text")
_GZIP = 31
"""For zlib: with gzip's header and checksum."""


def takes_gzip(headers: list[tuple[bytes, bytes]]) -> bool:
    """Whether a request's ``Accept-Encoding`` names gzip with another weight than 0.

    >>> takes_gzip([(b"accept-encoding", b"br, gzip;q=0.5")]), takes_gzip([(b"accept-encoding", b"gzip;q=0")])
    (True, False)
    """
    for name, value in headers:
        if name == b"accept-encoding":
            for part in value.lower().split(b","):
                coding, _, weight = part.partition(b";")
                if coding.strip() in (b"gzip", b"*"):
                    return weight.replace(b" ", b"").rstrip(b"0.") != b"q="
    return False


class CompressedSend:
    """Sends one answer on, compressed if it is text of more than a packet. A stream is compressed piece by piece, without waiting."""

    def __init__(self, send: Send) -> None:
        self._send = send
        self._start: Message | None = None
        self._packer: Any = None

    async def __call__(self, message: Message) -> None:
        """Send one ASGI message on."""
        if message["type"] == "http.response.start":
            if _is_compressible(message):
                self._start = message
            else:
                await self._send(message)
        elif message["type"] != "http.response.body":
            await self._send(message)
        elif self._packer is not None:
            await self._send_piece(message)
        elif self._start is None:
            await self._send(message)
        else:
            await self._send_first(message)

    async def _send_first(self, message: Message) -> None:
        assert self._start is not None
        start, self._start = self._start, None
        body, more = message.get("body", b""), message.get("more_body", False)
        if not more and len(body) < _LEAST_BYTES:
            await self._send({**start, "headers": [*start["headers"], (b"vary", b"accept-encoding")]})
            await self._send(message)
            return
        headers = [header for header in start["headers"] if header[0].lower() != b"content-length"]
        headers += [(b"content-encoding", b"gzip"), (b"vary", b"accept-encoding")]
        if more:
            self._packer = zlib.compressobj(_LEVEL, zlib.DEFLATED, _GZIP)
            await self._send({**start, "headers": headers})
            await self._send_piece(message)
            return
        packed = gzip.compress(body, _LEVEL) if len(body) <= _ON_LOOP_BYTES else await asyncio.to_thread(gzip.compress, body, _LEVEL)
        await self._send({**start, "headers": [*headers, (b"content-length", b"%d" % len(packed))]})
        await self._send({"type": "http.response.body", "body": packed})

    async def _send_piece(self, message: Message) -> None:
        body, more = message.get("body", b""), message.get("more_body", False)
        last = zlib.Z_SYNC_FLUSH if more else zlib.Z_FINISH
        packed = self._pack(body, last) if len(body) <= _ON_LOOP_BYTES else await asyncio.to_thread(self._pack, body, last)
        await self._send({"type": "http.response.body", "body": packed, "more_body": more})

    def _pack(self, body: bytes, last: int) -> bytes:
        packed: bytes = self._packer.compress(body) + self._packer.flush(last)
        return packed


def _is_compressible(start: Message) -> bool:
    headers = {name.lower(): value for name, value in start["headers"]}
    return b"content-encoding" not in headers and headers.get(b"content-type", b"").startswith(_TYPES)
