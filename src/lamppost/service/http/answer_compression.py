"""Compresses answers with gzip for callers that ask for it (RFC 9110, section 12.5.3), away from the event loop where they are large."""

from __future__ import annotations

import asyncio
import zlib
from collections.abc import Awaitable, Callable
from typing import Any

from lamppost.service.http.content_coding import GZIP, Message

Send = Callable[[Message], Awaitable[None]]

_LEAST_BYTES = 1_400
"""About what one packet carries: a smaller answer gains nothing."""
_ON_LOOP_BYTES = 32 * 1024
_LEVEL = 4
_TYPES = (b"application/json", b"application/problem+json", b"application/x-ndjson", b"text/", b"application/openmetrics-text")


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
        self._packer = zlib.compressobj(_LEVEL, zlib.DEFLATED, GZIP)
        packed = await self._pack(body, more)
        headers = [header for header in start["headers"] if header[0].lower() != b"content-length"]
        headers += [(b"content-encoding", b"gzip"), (b"vary", b"accept-encoding")]
        if not more:
            headers.append((b"content-length", b"%d" % len(packed)))
        await self._send({**start, "headers": headers})
        await self._send({"type": "http.response.body", "body": packed, "more_body": more})

    async def _send_piece(self, message: Message) -> None:
        more = message.get("more_body", False)
        packed = await self._pack(message.get("body", b""), more)
        await self._send({"type": "http.response.body", "body": packed, "more_body": more})

    async def _pack(self, body: bytes, more: bool) -> bytes:
        """A piece of the body compressed; what is large, in a thread."""
        end = zlib.Z_SYNC_FLUSH if more else zlib.Z_FINISH
        return self._compress(body, end) if len(body) <= _ON_LOOP_BYTES else await asyncio.to_thread(self._compress, body, end)

    def _compress(self, body: bytes, end: int) -> bytes:
        packed: bytes = self._packer.compress(body) + self._packer.flush(end)
        return packed


def _is_compressible(start: Message) -> bool:
    headers = {name.lower(): value for name, value in start["headers"]}
    return b"content-encoding" not in headers and headers.get(b"content-type", b"").startswith(_TYPES)
