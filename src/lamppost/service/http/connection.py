"""HTTP/1.1 connections of uvicorn with bounds: how many there are, bytes and number of headers, time to send them, time between two pieces
of a body. What passes a bound gets a problem document, and the connection ends.

A request that asks for an upgrade to another protocol is answered as if it had not: the parser would take its body for the next request.
"""

from __future__ import annotations

import asyncio
from typing import Any, ClassVar

import httptools
import orjson
from uvicorn.protocols.http.httptools_impl import STATUS_LINE, HttpToolsProtocol

from lamppost.core.errors import BadRequest, HeadersTooLarge, LampPostError, RequestTooSlow, Unavailable
from lamppost.core.limits import BODY_PAUSE_S, HEAD_S, MAX_HEADER_BYTES, MAX_HEADERS
from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.forwarding import Forwarding
from lamppost.service.http.connection_limits import ConnectionLimits, Place
from lamppost.service.http.fast_path import FastPath, FastPathCall
from lamppost.service.http.predict_handler import ADMITTED_CALL, REQUEST_OPTIONS
from lamppost.service.http.problems import PROBLEM_TYPE, problem_headers

_REST_S = 0.25
_LINGER_S = 2.0
_LINGER_BYTES = 16 * 2**20
_HEALTH = b"/health/"
_OF_UPGRADES = frozenset((b"upgrade", b"connection", b"http2-settings"))
_FULL = Unavailable("this node has as many connections as it takes; keep connections open and use them again", retry_after_s=1)


class _LingeringTransport:
    """The transport of a connection as an exchange sees it: it is not closed while the caller is still sending."""

    def __init__(self, transport: asyncio.Transport, connection: HttpConnection) -> None:
        self._transport = transport
        self._connection = connection

    def __getattr__(self, name: str) -> Any:
        return getattr(self._transport, name)

    def close(self) -> None:
        """Close, at once or when the caller has had time to read the answer."""
        if self._connection.is_reading_body:
            self._connection.linger()
        else:
            self._transport.close()


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
        node = getattr(self.app, "node", None)
        self._fast_path: FastPath | None = getattr(node, "fast_path", None)
        self._forwarding: Forwarding | None = getattr(node, "forwarding", None)
        self._limits: ConnectionLimits | None = getattr(node, "connection_limits", None)
        self._address = ""
        self._place: Place = "usual"
        self._upgrading = False
        self._lingering = False

    def _is_lost(self) -> bool:
        return self._lost

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Start the time limit for headers."""
        super().connection_made(transport)
        if self._limits is not None:
            self._address = self.client[0] if self.client is not None else ""
            self._place = self._limits.enter(self._address)
            if self._place == "none":
                self._refuse(_FULL)
                return
        self._last = self.loop.time()
        self._check_time_in(self.head_s)

    def connection_lost(self, exc: Exception | None) -> None:
        """Cancel the time limits."""
        self._lost = True
        if self._limits is not None:
            self._limits.leave(self._address, self._place)
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
        if self._forwarding is not None:
            self.url = self._forwarding.strip_base(self.url)
        many = len(self.headers) > MAX_HEADERS
        if many or (size > MAX_HEADER_BYTES and sum(len(name) + len(value) for name, value in self.headers) > MAX_HEADER_BYTES):
            self._refuse_head()
            return
        if self._place == "spare" and not self.url.startswith(_HEALTH):
            self._refuse(_FULL)
            return
        self._upgrading = self.parser.should_upgrade()
        if self._upgrading:
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
        if self._forwarding is not None:
            self._forwarding.note_origin(self.scope)  # type: ignore[arg-type]
        self.scope[REQUEST_OPTIONS] = self.request_options  # type: ignore[literal-required]
        super().on_headers_complete()
        self.cycle.transport = _LingeringTransport(self.transport, self)  # type: ignore[assignment]

    def on_message_complete(self) -> None:
        """The body of the request is complete."""
        if self._upgrading:
            return
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
        if self._lingering:
            self._came += len(data)
            if self._came > _LINGER_BYTES:
                self.transport.abort()
            return
        if self._in_head:
            self._came += len(data)
        self._unset_keepalive_if_required()
        self._feed(data)
        if self.transport is None or self.transport.is_closing():
            return
        if self._in_head and self._came > MAX_HEADER_BYTES:
            self._refuse_head()
        elif self._came or self._body_open:
            now = self.loop.time()
            if self._body_open:
                self._last = now
            self._check_time_in(self.head_s if self._in_head else self.pause_s)

    def _feed(self, data: bytes) -> None:
        try:
            self.parser.feed_data(data)
        except httptools.HttpParserUpgrade as upgrade:
            self._go_on_without_upgrade(data[upgrade.args[0] :])
        except httptools.HttpParserError:
            self.send_400_response("Invalid HTTP request received.")

    def _go_on_without_upgrade(self, rest: bytes) -> None:
        """Read the present request again, without the headers that ask for another protocol. rest : what came after its headers."""
        method, self._upgrading = self.parser.get_method(), False
        if method == b"CONNECT":
            self._refuse(BadRequest("this service is no proxy: CONNECT is not answered"))
            return
        lines = [b"%s %s HTTP/%s" % (method, self.url, self.parser.get_http_version().encode())]
        lines += [b"%s: %s" % header for header in self.headers if header[0] not in _OF_UPGRADES]
        self.parser = httptools.HttpRequestParser(self)
        self._in_head = True
        self._feed(b"\r\n".join(lines) + b"\r\n\r\n" + rest)

    def linger(self) -> None:
        """End the connection after an answer that came before the whole body: the caller may still be sending, and is to read the answer.

        A socket that is closed with unread bytes takes the answer back from the caller (RFC 9112, section 9.6).
        """
        if self._lingering or self.transport.is_closing():
            return
        self._lingering, self._came = True, 0
        if self._watch is not None:
            self._watch.cancel()
        if self.transport.can_write_eof():
            self.transport.write_eof()
        self.flow.resume_reading()
        self._watch = self.loop.call_later(_LINGER_S, self.transport.close)

    @property
    def is_between_requests(self) -> bool:
        """Whether nothing of a next request has come, and reading does not rest."""
        return not (self._in_head or self._body_open or self.pipeline or self._lingering) and self._resting is None

    @property
    def is_reading_body(self) -> bool:
        """Whether a body is not whole."""
        return self._body_open

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

    def _refuse(self, error: LampPostError) -> None:
        """A problem document, if no answer has begun, and the end of the connection."""
        cycle = self.cycle
        if cycle is None or not cycle.response_started or cycle.response_complete:
            body = orjson.dumps(error.to_problem())
            headers = [*problem_headers(error), (b"content-type", PROBLEM_TYPE), (b"content-length", b"%d" % len(body))]
            lines = b"".join(b"%s: %s\r\n" % header for header in (*headers, (b"connection", b"close")))
            self.transport.write(STATUS_LINE[error.status] + lines + b"\r\n" + body)
        if cycle is not None and not cycle.response_complete:
            cycle.disconnected = True
            cycle.message_event.set()
        self.transport.close()
