"""A connection that a front has moved to the node. It goes back to a front once a usual prediction was answered on it."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from lamppost.service.http.connection import HttpConnection
from lamppost.service.http.fast_path import FastPathCall


class MovedConnection(HttpConnection):
    """unanswered : bytes that the front has read. give_back : moves the connection of a transport back to the front."""

    def __init__(self, unanswered: bytes, give_back: Callable[[asyncio.Transport], None], **of_uvicorn: Any) -> None:
        super().__init__(**of_uvicorn)
        self._unanswered = unanswered
        self._give_back = give_back

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Go on with what the front has read."""
        super().connection_made(transport)
        unanswered, self._unanswered = self._unanswered, b""
        if unanswered and not transport.is_closing():
            self.data_received(unanswered)
            # the transport begins to read after this method, whatever was asked of it here; a body that is to wait would be read whole
            self.loop.call_soon(self._keep_paused)

    def _keep_paused(self) -> None:
        if self.flow.read_paused and not self.transport.is_closing():
            self.transport.pause_reading()

    def note_answered(self) -> None:
        """Go back to the front, unless more was asked already."""
        super().note_answered()
        self.loop.call_soon(self._go_back)

    def _go_back(self) -> None:
        call: Any = self.cycle
        answered = type(call) is FastPathCall and call.response_complete
        if answered and self.is_between_requests and not self.transport.is_closing():
            self._give_back(self.transport)
