"""HTTP/1.1 connections of uvicorn with bounds: bytes and number of headers, time to send them, time between two pieces of a body. What
passes a bound gets a problem document, and the connection ends.
"""

from __future__ import annotations

import asyncio
from typing import Any, ClassVar

import orjson
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from lamppost.core.errors import BadRequest, HeadersTooLarge, RequestTooSlow
from lamppost.core.limits import BODY_PAUSE_S, HEAD_S, MAX_HEADER_BYTES, MAX_HEADERS
from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.http.fast_path import FastPath, FastPathCall
from lamppost.service.http.predict_handler import ADMITTED_CALL, REQUEST_OPTIONS

_REST_S = 0.25


class HttpConnection(HttpToolsProtocol):
    """One connection. head_s : seconds for the headers. pause_s : seconds without a byte of a body that is not whole."""

    head_s = HEAD_S
    pause_s = BODY_PAUSE_S
    _standing: ClassVar[tuple[list[tuple[bytes, bytes]], bytes]] = ([], b"")

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self._in_head = True
        self._came = 0
        self._body_open = False
        self._last = 0.0
        self._watch: asyncio.TimerHandle | None = None
        self._lost = False
        self._idle_since = 0.0
        self._resting: asyncio.TimerHandle | None = None
        self.request_options = RequestOptions(is_abandoned=self._is_lost)
        self._fast_path: FastPath | None = getattr(getattr(self.app, "node", None), "fast_path", None)

    def _is_lost(self) -> bool:
        return self._lost

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Start the time limit for headers."""
        super().connection_made(transport)
        self._last = self.loop.time()
        self._check_time_in(self.head_s)

    def connection_lost(self, exc: Exception | None) -> None:
        """Cancel the time limits."""
        self._lost = True
        if self._resting is not None:
            self._resting.cancel()
        if self._watch is not None:
            self._watch.cancel()
            self._watch = None
        super().connection_lost(exc)

    def on_message_begin(self) -> None:
        """A request begins. The ASGI scope is built only for requests that reach the app."""
        self.url = b""
        self.headers = []
        self.expect_100_continue = False
        self._in_head = True
        self._last = self.loop.time()

    def on_headers_complete(self) -> None:
        """Hand the request to the fast path or the app, unless its headers exceed the bounds."""
        size = self._came
        self._in_head, self._came, self._body_open = False, 0, True
        many = len(self.headers) > MAX_HEADERS
        if many or (size > MAX_HEADER_BYTES and sum(len(name) + len(value) for name, value in self.headers) > MAX_HEADER_BYTES):
            self._refuse_head()
            return
        before = self.cycle
        if (
            self._fast_path is not None
            and (before is None or before.response_complete)
            and (call := self._fast_path.begin(self)) is not None
        ):
            self.cycle = call  # type: ignore[assignment]
            return
        self._to_app()

    def _to_app(self) -> None:
        url, headers, expects = self.url, self.headers, self.expect_100_continue
        super().on_message_begin()
        self.url, self.headers, self.expect_100_continue = url, headers, expects
        self.scope["headers"] = headers
        self.scope[REQUEST_OPTIONS] = self.request_options  # type: ignore[literal-required]
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        """The body of the request is complete."""
        self._body_open = False
        if self.transport.is_closing():
            return
        call: Any = self.cycle
        if type(call) is FastPathCall:
            if not call.run():
                self._hand_over(call)
        else:
            super().on_message_complete()

    def _hand_over(self, call: FastPathCall) -> None:
        """Give a call of the fast path to the app after all, with the body that it has."""
        self.cycle = None  # type: ignore[assignment]
        self._to_app()
        self.scope[ADMITTED_CALL] = call.call  # type: ignore[literal-required]
        self.cycle.body += call.body
        super().on_message_complete()

    def note_answered(self) -> None:
        """Note that a call on the fast path was answered. A kept connection has one timer, not one for each answer."""
        if self.pipeline or self.transport.is_closing():
            self.on_response_complete()
            return
        self.server_state.total_requests += 1
        self._idle_since = self.loop.time()
        if self._watch is None:
            self._check_time_in(self.timeout_keep_alive)

    def pause_reading(self) -> None:
        """Stop reading for a moment, so that a caller that was refused and tries again at once does not delay others."""
        if self._resting is None and not self.transport.is_closing():
            self.flow.pause_reading()
            self._resting = self.loop.call_later(_REST_S, self._rested)

    def _rested(self) -> None:
        self._resting = None
        if not self.transport.is_closing():
            self.flow.resume_reading()

    def status_line(self, status: int) -> bytes:
        """The first line of an answer."""
        return STATUS_LINE[status]

    def standing_headers(self) -> bytes:
        """Headers of every answer, such as its date."""
        headers = self.server_state.default_headers
        if headers is not HttpConnection._standing[0]:  # uvicorn makes another list when the date changes
            HttpConnection._standing = (headers, b"".join([b"%s: %s\r\n" % header for header in headers]))
        return HttpConnection._standing[1]

    def on_body(self, body: bytes) -> None:
        """A piece of the body; ignored if the request was refused by its headers."""
        if not self.transport.is_closing():
            super().on_body(body)

    def data_received(self, data: bytes) -> None:
        """Received bytes, with a check of the bounds on headers."""
        if self._in_head:
            self._came += len(data)
        super().data_received(data)
        if self.transport is None or self.transport.is_closing():
            return
        if self._in_head and self._came > MAX_HEADER_BYTES:
            self._refuse_head()
        elif self._came or self._body_open:
            now = self.loop.time()
            if self._body_open:
                self._last = now
            self._check_time_in(self.head_s if self._in_head else self.pause_s)

    def _check_time_in(self, seconds: float) -> None:
        """Check the time limits after at most so many seconds."""
        at = self.loop.time() + seconds
        if self._watch is not None:
            if self._watch.when() <= at + 0.05:
                return
            self._watch.cancel()
        self._watch = self.loop.call_later(seconds, self._check_time)

    def _check_time(self) -> None:
        """Whether the caller is too slow, or a kept connection was idle for too long; a body that waits for us is not slow."""
        self._watch = None
        if self.transport.is_closing():
            return
        now = self.loop.time()
        if self._in_head and (self._came or self.cycle is None):
            if (late := now - self._last) < self.head_s - 0.05:
                self._check_time_in(self.head_s - late)
            elif self._came:
                self._refuse(RequestTooSlow(f"the headers did not come within {self.head_s:g} s"))
            else:
                self.transport.close()  # nothing ever came
        elif self._body_open:
            if self.flow.read_paused:
                self._last = now
            if (late := now - self._last) < self.pause_s - 0.05:
                self._check_time_in(self.pause_s - late)
            else:
                self._refuse(
                    RequestTooSlow(
                        f"nothing of the body came for {self.pause_s:g} s, and it is not whole; send it faster, or in several requests"
                    )
                )
        elif self.cycle is not None and self.cycle.response_complete and self.timeout_keep_alive_task is None:
            if (kept := now - self._idle_since) < self.timeout_keep_alive - 0.05:
                self._check_time_in(self.timeout_keep_alive - kept)
            else:
                self.transport.close()

    def _refuse_head(self) -> None:
        self._refuse(HeadersTooLarge(f"a request may have {MAX_HEADERS} headers of {MAX_HEADER_BYTES:,} bytes in all; this one has more"))

    def send_400_response(self, msg: str) -> None:
        """Answer bytes that are not HTTP."""
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
