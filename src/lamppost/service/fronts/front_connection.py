"""A connection of a front: reads one request after the other, answers the usual ones, and moves to the node with any other.

It reads a request only when its head, and then its body, are whole. A request that does not come at once, or that is not usual, goes to the
node as the bytes that came: bounds on slow and large requests are the node's.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from email.utils import formatdate
from typing import Protocol

import httptools
from uvicorn.protocols.http.httptools_impl import STATUS_LINE

from lamppost.core.errors import Misdirected
from lamppost.core.limits import HEAD_S
from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.forwarding import Forwarding
from lamppost.service.http.connection_limits import ConnectionLimits, Place
from lamppost.service.http.fast_path import FastPath, FastPathCall
from lamppost.service.http.known_hosts import KnownHosts

_HEAD_END = b"\r\n\r\n"
_MOST_BYTES = 64 * 1024
"""Of a request that is not whole, or of requests that wait for the one before: with more the connection moves, or rests."""
_WHOLE_S = 0.5
_KEPT_S = 75.0
_REST_S = 0.25


class FrontParts(Protocol):
    """What connections share. connections : that are open. finishing : whether connections end with their next answer."""

    fast_path: FastPath
    hosts: KnownHosts
    forwarding: Forwarding
    limits: ConnectionLimits
    connections: set[FrontConnection]
    finishing: bool

    def move_to_node(self, connection: FrontConnection, unanswered: bytes) -> None:
        """Give a connection to the node."""

    def leave_call(self, number: int) -> None:
        """Tell the node that nobody waits for the answer of a call any more. number : under which the call was asked."""


_date = (0, b"")


def _standing_headers() -> bytes:
    """The date of answers (RFC 9110, section 6.6.1), made once a second."""
    global _date
    now = int(time.time())
    if now != _date[0]:
        _date = (now, b"date: %s\r\n" % formatdate(now, usegmt=True).encode())
    return _date[1]


class FrontConnection(asyncio.Protocol):
    """See the module; it is what `lamppost.service.http.fast_path` needs of a connection, and what the parser tells of a request."""

    transport: asyncio.Transport

    def __init__(self, parts: FrontParts) -> None:
        self.url = b""
        self.headers: list[tuple[bytes, bytes]] = []
        self.parser = httptools.HttpRequestParser(self)
        self.request_options = RequestOptions()
        self.asked_number = 0
        self._parts = parts
        self._loop = asyncio.get_running_loop()
        self._came = b""
        self._pending: FastPathCall | None = None
        self._call: FastPathCall | None = None
        self._head_size = 0
        self._size = 0
        self._moving = False
        self._reading = False
        self._asked = False
        self._active = 0.0
        self._address = ""
        self._place: Place = "usual"
        self._timer: asyncio.TimerHandle | None = None
        self._whole_timer: asyncio.TimerHandle | None = None

    # -- what asyncio tells ------------------------------------------------------------------------------------------------

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """A connection is open; one beyond the bounds is the node's at once."""
        self.transport = transport
        self._active = self._loop.time()
        peer = transport.get_extra_info("peername")
        self._address = str(peer[0]) if peer else ""
        self._place = self._parts.limits.enter(self._address)
        self._parts.connections.add(self)
        if self._place != "usual":
            self._loop.call_soon(self.move)
            return
        self._timer = self._loop.call_later(HEAD_S, self._check_time)

    def connection_lost(self, exc: Exception | None) -> None:  # noqa: ARG002 - asyncio's signature
        """The connection is closed, or has moved."""
        self._parts.connections.discard(self)
        self._parts.limits.leave(self._address, self._place)
        for timer in (self._timer, self._whole_timer):
            if timer is not None:
                timer.cancel()
        if (call := self._call) is not None and not call.response_complete:
            call.disconnected = True
            self._parts.leave_call(self.asked_number)

    def data_received(self, data: bytes) -> None:
        """Bytes came."""
        self._came = self._came + data if self._came else data
        if self._call is None:
            self._read()
        elif len(self._came) - self._size > _MOST_BYTES:
            self.transport.pause_reading()

    # -- what the parser tells ---------------------------------------------------------------------------------------------

    def on_message_begin(self) -> None:
        """A request begins."""
        self.url, self.headers = b"", []

    def on_url(self, url: bytes) -> None:
        """A piece of the target."""
        self.url += url

    def on_header(self, name: bytes, value: bytes) -> None:
        """A header; a host that is a name of this node is known from then on."""
        name = name.lower()
        if name == b"host":
            with contextlib.suppress(Misdirected):
                self._parts.hosts.require(value)
        self.headers.append((name, value))

    # -- requests ----------------------------------------------------------------------------------------------------------

    def _read(self) -> None:
        """Answer the requests that came, until one is not whole, waits for its answer, or makes the connection move."""
        if self._reading:
            return
        self._reading = True
        try:
            while self._came and self._call is None and not self._moving and not self.transport.is_closing():
                if not self._head_size and not self._read_head():
                    return
                if len(self._came) < self._size:
                    self._wait_for_rest()
                    return
                self._run()
        finally:
            self._reading = False

    def _read_head(self) -> bool:
        """Read the head of a request, if it is whole; whether its call was admitted."""
        end = self._came.find(_HEAD_END)
        if end < 0:
            self._wait_for_rest()
            return False
        head = self._came[: end + len(_HEAD_END)]
        try:
            self.parser.feed_data(head)
        except (httptools.HttpParserError, httptools.HttpParserUpgrade):
            self.move()
            return False
        self.url = self._parts.forwarding.strip_base(self.url)
        call = None if self.parser.should_upgrade() else self._parts.fast_path.begin(self)
        if call is None:
            self.move()
            return False
        self._pending, self._head_size = call, len(head)
        self._size = len(head) + next(int(value) for name, value in self.headers if name == b"content-length")
        return True

    def _run(self) -> None:
        """Answer a request that is whole."""
        call = self._pending
        assert call is not None
        body = self._came[self._head_size : self._size]
        if self._whole_timer is not None:
            self._whole_timer.cancel()
            self._whole_timer = None
        self._asked = True
        try:
            self.parser.feed_data(body)
        except httptools.HttpParserError:
            self.move()
            return
        call.body = body
        call.keep_alive = call.keep_alive and not self._parts.finishing
        self._call = call
        if not call.run():
            self.move()

    def _wait_for_rest(self) -> None:
        if len(self._came) > _MOST_BYTES:
            self.move()
        elif self._whole_timer is None:
            self._whole_timer = self._loop.call_later(_WHOLE_S, self.move)

    def move(self) -> None:
        """Go to the node, with all bytes that were not answered."""
        if self._moving or self.transport.is_closing():
            return
        self._moving = True
        self._call = None
        self._parts.move_to_node(self, self._came)

    def _check_time(self) -> None:
        """Close a connection on which nothing was asked for long."""
        idle_s = self._loop.time() - self._active
        most_s = _KEPT_S if self._asked else HEAD_S
        if self._call is None and not self._came and idle_s >= most_s - 0.05:
            self.transport.close()
            return
        self._timer = self._loop.call_later(max(1.0, most_s - idle_s) if self._call is None else most_s, self._check_time)

    def finish(self) -> None:
        """Close the connection if nothing is asked on it; otherwise it closes with its answer."""
        if self._call is None:
            self.transport.close()
        else:
            self._call.keep_alive = False

    # -- what the fast path needs ------------------------------------------------------------------------------------------

    def status_line(self, status: int) -> bytes:
        """The first line of an answer."""
        return STATUS_LINE[status]

    def standing_headers(self) -> bytes:
        """Headers of every answer."""
        return _standing_headers()

    def note_answered(self) -> None:
        """Go on with what came after the request that was answered."""
        self._active = self._loop.time()
        self._came = self._came[self._size :]
        self._call, self._head_size, self._size = None, 0, 0
        if self._came and not self.transport.is_closing():
            self._loop.call_soon(self._go_on)

    def _go_on(self) -> None:
        if not self.transport.is_closing() and not self._moving:
            self.transport.resume_reading()
            self._read()

    def pause_reading(self) -> None:
        """Read nothing for a moment."""
        if not self.transport.is_closing():
            self.transport.pause_reading()
            self._loop.call_later(_REST_S, self._rested)

    def _rested(self) -> None:
        if not self.transport.is_closing() and not self._moving:
            self.transport.resume_reading()
