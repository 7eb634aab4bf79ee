"""Moves open connections between two processes: the file of the socket, and the bytes that were read from it and not answered.

They travel over a Unix socket that keeps messages apart (SOCK_SEQPACKET). The first message of a connection carries its file
(SCM_RIGHTS, unix(7)); bytes beyond the bound of a message follow in further ones.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import socket
from collections import deque
from collections.abc import Callable

log = logging.getLogger("lamppost.fronts")

_PIECE = 60_000
"""Bytes in one message: well below the smallest usual bound on a socket's buffer (212,992 bytes)."""
_LAST, _MORE = b"l", b"m"
_LOOK_AGAIN_S = 0.01


class ConnectionMover:
    """One end. take_connection : gets the socket of each connection that came, and the bytes that were read from it."""

    def __init__(self, end: socket.socket, take_connection: Callable[[socket.socket, bytes], None]) -> None:
        end.setblocking(False)
        self._end = end
        self._take_connection = take_connection
        self._loop = asyncio.get_running_loop()
        self._leaving: deque[tuple[bytes, int | None]] = deque()
        self._came: tuple[int, bytearray] | None = None
        self._writing = False
        self._loop.add_reader(end.fileno(), self._receive)

    def move(self, transport: asyncio.Transport, unanswered: bytes) -> None:
        """Send the connection of a transport away. Nothing is read from it any more; what was written to it leaves first."""
        transport.pause_reading()
        if transport.get_write_buffer_size() and not transport.is_closing():
            self._loop.call_later(_LOOK_AGAIN_S, self.move, transport, unanswered)
            return
        if transport.is_closing():
            return
        file: int | None = os.dup(transport.get_extra_info("socket").fileno())
        transport.abort()  # closes this process's file of the socket, and not the connection, which has another one
        for start in range(0, max(1, len(unanswered)), _PIECE):
            piece = unanswered[start : start + _PIECE]
            self._leaving.append(((_LAST if start + _PIECE >= len(unanswered) else _MORE) + piece, file))
            file = None
        self._send()

    def _send(self) -> None:
        while self._leaving:
            message, file = self._leaving[0]
            try:
                socket.send_fds(self._end, [message], [] if file is None else [file])
            except BlockingIOError:
                if not self._writing:
                    self._writing = True
                    self._loop.add_writer(self._end.fileno(), self._send)
                return
            except OSError as error:
                log.debug("a connection could not be moved: %s", error)
            self._leaving.popleft()
            if file is not None:
                os.close(file)
        if self._writing:
            self._writing = False
            self._loop.remove_writer(self._end.fileno())

    def _receive(self) -> None:
        while True:
            try:
                message, files, _, _ = socket.recv_fds(self._end, _PIECE + 1, 1, socket.MSG_CMSG_CLOEXEC)
            except BlockingIOError:
                return
            except OSError:
                message, files = b"", []
            if not message:
                self._loop.remove_reader(self._end.fileno())
                return
            if files:
                self._came = (files[0], bytearray())
            if self._came is None:
                continue
            self._came[1].extend(message[1:])
            if message[:1] == _LAST:
                (file, unanswered), self._came = self._came, None
                self._take_connection(socket.socket(fileno=file), bytes(unanswered))

    def close(self) -> None:
        """Give up what has not left."""
        with contextlib.suppress(ValueError, OSError):
            self._loop.remove_reader(self._end.fileno())
            self._loop.remove_writer(self._end.fileno())
        for _, file in self._leaving:
            if file is not None:
                os.close(file)
        self._leaving.clear()
        self._end.close()
