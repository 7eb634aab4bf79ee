"""Reads request bodies that come compressed with gzip (RFC 9110, section 8.4). They are unpacked in pieces, so that the usual bounds count
what comes out.
"""

from __future__ import annotations

import zlib
from collections.abc import Awaitable, Callable, MutableMapping
from typing import Any

from lamppost.core.errors import BadBody, WrongContentType

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]

_PIECE_BYTES = 256 * 1024
"""What is unpacked in one go: more would hold up everything else."""
GZIP = 31
"""For zlib: with gzip's header and checksum."""
_NAMES = {b"gzip", b"x-gzip"}
_PLAIN = {b"", b"identity"}


def unpacking_receive(headers: list[tuple[bytes, bytes]], receive: Receive) -> Receive:
    """A function that gives the pieces of a body as they were before they were compressed; ``receive`` itself for a plain body.

    Raise WrongContentType for another coding, or several.
    """
    codings = [coding.strip().lower() for name, value in headers if name == b"content-encoding" for coding in value.split(b",")]
    named = [coding for coding in codings if coding not in _PLAIN]
    if not named:
        return receive
    if len(named) > 1 or named[0] not in _NAMES:
        shown = b", ".join(named).decode("latin-1")[:80]
        raise WrongContentType(f"the content encoding {shown!r} is not read here; send the body as it is, or with gzip")
    return _Unpacking(receive).receive


class _Unpacking:
    """Unpacks one body."""

    def __init__(self, receive: Receive) -> None:
        self._receive = receive
        self._unpacker = zlib.decompressobj(GZIP)
        self._waiting = b""
        self._more = True
        self._filled = False

    async def receive(self) -> Message:
        """The next piece; raise BadBody for what is no gzip."""
        while True:
            if self._waiting or self._filled:
                piece = self._next_piece()
                if piece:
                    return {"type": "http.request", "body": piece, "more_body": True}
                continue
            if not self._more:
                if not self._unpacker.eof:
                    raise BadBody("the body is no gzip, or one that was cut short")
                return {"type": "http.request", "body": b"", "more_body": False}
            message = await self._receive()
            if message["type"] != "http.request":
                return message
            self._waiting += message.get("body", b"")
            self._more = bool(message.get("more_body", False))

    def _next_piece(self) -> bytes:
        try:
            piece = self._unpacker.decompress(self._waiting, _PIECE_BYTES)
        except zlib.error as error:
            raise BadBody(f"the body is no gzip: {error}") from error
        if self._unpacker.unused_data:
            raise BadBody("the body goes on behind the end of its gzip")
        self._waiting = self._unpacker.unconsumed_tail
        self._filled = len(piece) == _PIECE_BYTES  # there may be more of it inside
        return piece
