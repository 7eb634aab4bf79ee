"""HTTP/1.1 as uvicorn speaks it, with bounds on what a caller may hold open: bytes and number of headers, time to send them, time between
two pieces of a body. What passes a bound gets a problem document and the connection ends.
"""

from __future__ import annotations

import asyncio
from typing import Any

import orjson
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from lamppost.core.errors import BadRequest, HeadersTooLarge, TooSlow
from lamppost.core.limits import BODY_PAUSE_S, HEAD_S, MAX_HEADER_BYTES, MAX_HEADERS
from lamppost.runtime.lane import Terms


class Ingress(HttpToolsProtocol):
    """One connection. head_s : seconds for the headers. pause_s : seconds without a byte of a body that is not whole."""

    head_s = HEAD_S
    pause_s = BODY_PAUSE_S

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self._in_head = True
        self._came = 0
        self._body_open = False
        self._last = 0.0
        self._watch: asyncio.TimerHandle | None = None
        self._lost = False
        self._terms = Terms(gone=self._is_lost)

    def _is_lost(self) -> bool:
        return self._lost

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait for headers."""
        super().connection_made(transport)
        self._last = self.loop.time()
        self._watch = self.loop.call_later(self.head_s, self._look)

    def connection_lost(self, exc: Exception | None) -> None:
        """Forget the clock; nobody waits for answers any more."""
        self._lost = True
        if self._watch is not None:
            self._watch.cancel()
            self._watch = None
        super().connection_lost(exc)

    def on_message_begin(self) -> None:
        """A request begins."""
        super().on_message_begin()
        self._in_head = True

    def on_headers_complete(self) -> None:
        """Hand it to the app, unless its headers are too many."""
        size = self._came
        self._in_head, self._came, self._body_open = False, 0, True
        many = len(self.headers) > MAX_HEADERS
        if many or (size > MAX_HEADER_BYTES and sum(len(name) + len(value) for name, value in self.headers) > MAX_HEADER_BYTES):
            self._refuse_head()
            return
        self.scope["lamppost.terms"] = self._terms  # type: ignore[typeddict-unknown-key]
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        """Its body is whole."""
        self._body_open = False
        if not self.transport.is_closing():
            super().on_message_complete()

    def on_body(self, body: bytes) -> None:
        """A piece of it, unless it was refused by its headers."""
        if not self.transport.is_closing():
            super().on_body(body)

    def data_received(self, data: bytes) -> None:
        """Bytes, with a look at whether they are still those of headers."""
        if self._in_head:
            self._came += len(data)
        super().data_received(data)
        if self.transport is None or self.transport.is_closing():
            return
        if self._in_head and self._came > MAX_HEADER_BYTES:
            self._refuse_head()
        elif self._came or self._body_open:
            now = self.loop.time()
            if self._body_open or self._watch is None:
                self._last = now
            if self._watch is None:
                self._watch = self.loop.call_later(self.head_s if self._in_head else self.pause_s, self._look)

    def _look(self) -> None:
        """Whether the caller is too slow; a body that waits for us, and a connection that is only kept, are not."""
        self._watch = None
        if self.transport.is_closing():
            return
        late = self.loop.time() - self._last
        if self._in_head and (self._came or self.cycle is None):
            if late < self.head_s - 0.05:
                self._watch = self.loop.call_later(self.head_s - late, self._look)
            elif self._came:
                self._refuse(TooSlow(f"the headers did not come within {self.head_s:g} s"))
            else:
                self.transport.close()  # nothing ever came
        elif self._body_open:
            if self.flow.read_paused:
                self._last, late = self.loop.time(), 0.0
            if late < self.pause_s - 0.05:
                self._watch = self.loop.call_later(self.pause_s - late, self._look)
            else:
                self._refuse(
                    TooSlow(f"nothing of the body came for {self.pause_s:g} s, and it is not whole; send it faster, or in several requests")
                )

    def _refuse_head(self) -> None:
        self._refuse(HeadersTooLarge(f"a request may have {MAX_HEADERS} headers of {MAX_HEADER_BYTES:,} bytes in all; this one has more"))

    def send_400_response(self, msg: str) -> None:
        """What is no HTTP at all."""
        self._refuse(BadRequest(f"this is no HTTP request ({msg.rstrip('.').lower()})"))

    def _refuse(self, error: BadRequest) -> None:
        """A problem document, if no answer has begun, and the end of the connection."""
        cycle = self.cycle
        if cycle is None or not cycle.response_started or cycle.response_complete:
            body = orjson.dumps(error.to_problem())
            head = b"content-type: application/problem+json\r\ncontent-length: %d\r\nconnection: close\r\n\r\n" % len(body)
            self.transport.write(STATUS_LINE[error.status] + head + body)
        if cycle is not None and not cycle.response_complete:
            cycle.disconnected = True
            cycle.message_event.set()
        self.transport.close()
