"""One front process of a node: ``python -m lamppost.service.fronts.front_process MESSAGES MOVING``, two open sockets to the node."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import itertools
import logging
import os
import signal
import socket
import sys
from typing import Any

import uvloop

from lamppost.core.payload.validation_plan import Row
from lamppost.core.roles import Principal, principal_from_dict
from lamppost.runtime.confinement.system_calls import keep_memory_private
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.auth import TokenPrincipals
from lamppost.service.forwarding import Forwarding
from lamppost.service.fronts.connection_mover import ConnectionMover
from lamppost.service.fronts.front_connection import FrontConnection
from lamppost.service.fronts.front_routes import FrontRoutes
from lamppost.service.fronts.messages import Message, MessageLink, error_from_values
from lamppost.service.http.connection_limits import ConnectionLimits, available_connections
from lamppost.service.http.fast_path import FastPath, FastPathCall
from lamppost.service.http.known_hosts import KnownHosts
from lamppost.service.processes.child_logs import send_log_lines
from lamppost.service.records.record_buffer import RecordBuffer

_SEND_S = 0.1
_FINISH_S = 9.0
_BACKLOG = 2048


class _FrontTokens(TokenPrincipals):
    """The tokens that the node knows. Rates are the node's: it charges each call that a front asks about."""

    def charge(self, principal: Principal) -> None:
        """Charge nothing here."""


class _FrontRecords(RecordBuffer):
    """Records on their way to the node."""

    def send(self, link: MessageLink) -> None:
        """Send every record that is here."""
        self._bundle()
        while self._bundles:
            bundle = self._bundles.popleft()
            self._count(bundle, -1)
            link.send_records(bundle)


class Front:
    """The parts of the process, and its end of the conversation with the node."""

    def __init__(self, messages: socket.socket, moving: socket.socket) -> None:
        self.connections: set[FrontConnection] = set()
        self.finishing = False
        self._messages = messages
        self._link = MessageLink(self._take, _take_no_records, self._lose)
        self._mover = ConnectionMover(moving, self._take_connection)
        self._auth = _FrontTokens()
        self._routes = FrontRoutes(self)
        self._asked: dict[int, FastPathCall] = {}
        self._numbers = itertools.count(1)
        self._server: asyncio.Server | None = None
        self._starting: asyncio.Task[None] | None = None
        self._over = asyncio.Event()
        self._sent_connections = -1

    async def run(self) -> None:
        """Serve until the node ends, or asks for the end."""
        await asyncio.get_running_loop().create_connection(lambda: self._link, sock=self._messages)
        while not self._over.is_set():
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._over.wait(), _SEND_S)
            if self._server is not None:
                self._send_records()
        if self._link.lost:
            os._exit(0)  # the node is gone: nobody can answer, and nobody takes the records
        await self._finish()

    # -- what the node says ------------------------------------------------------------------------------------------------

    def _take(self, message: Message) -> None:
        name, *values = message
        if name == "answer":
            seq, rows, queue_s, worker_s, batch_rows = values
            if (call := self._asked.pop(seq, None)) is not None:
                call.set_result(LaneAnswer(rows, queue_s, worker_s, batch_rows))
        elif name == "refuse":
            if (call := self._asked.pop(values[0], None)) is not None:
                call.set_exception(error_from_values(values[1], values[2]))
        elif name == "take-over":
            call = self._asked.pop(values[0], None)
            if call is not None and isinstance(call.connection, FrontConnection):
                call.connection.move()
        elif name == "routes":
            self._routes.put(values[0])
        elif name == "tokens":
            self._auth.put_in_force({bytes.fromhex(hashed): principal_from_dict(token) for hashed, token in values[0].items()})
        elif name == "settings":
            self._starting = asyncio.create_task(self._start(values[0]), name="start")
            self._starting.add_done_callback(_end_where_failed)
        elif name == "finish":
            self._over.set()

    async def _start(self, settings: dict[str, Any]) -> None:
        self._records = _FrontRecords(settings["otlp"])
        self._records.enabled = settings["records"]
        self._records.sampling_percent = self._routes.sampling_percent
        self._records.spans.start()
        self.hosts = KnownHosts((settings["address"], *settings["public_urls"]))
        self.forwarding = Forwarding(settings["public_urls"])
        self.limits = ConnectionLimits(min(settings["connections"], available_connections()))
        self.fast_path = FastPath(self._auth, self.hosts, self._routes, self._records)
        self._server = await asyncio.get_running_loop().create_server(
            lambda: FrontConnection(self), settings["host"], settings["port"], reuse_port=True, backlog=_BACKLOG
        )
        gc.freeze()
        self._link.send("listening")

    def _lose(self) -> None:
        self._over.set()

    # -- what connections need ---------------------------------------------------------------------------------------------

    def ask(self, call: FastPathCall, version: str, serial: int, rows: list[Row], size_bytes: int) -> None:
        """Have the node answer rows; the call gets the answer."""
        seq = next(self._numbers)
        self._asked[seq] = call
        assert isinstance(call.connection, FrontConnection)
        call.connection.asked_number = seq
        asked = call.call
        self._link.send("ask", seq, asked.endpoint, version, serial, asked.token, asked.request_id, rows, size_bytes)

    def leave_call(self, number: int) -> None:
        """Tell the node that nobody waits for the answer of a call any more."""
        if self._asked.pop(number, None) is not None:
            self._link.send("gone", number)

    def move_to_node(self, connection: FrontConnection, unanswered: bytes) -> None:
        """Give a connection to the node."""
        self._mover.move(connection.transport, unanswered)

    def _take_connection(self, moved: socket.socket, unanswered: bytes) -> None:
        """Take a connection that the node gives back."""
        del unanswered  # the node gives back only connections on which all was answered
        moved.setblocking(False)
        task = asyncio.ensure_future(asyncio.get_running_loop().connect_accepted_socket(lambda: FrontConnection(self), moved))
        task.add_done_callback(_note_failure)

    # -- records and the end -----------------------------------------------------------------------------------------------

    def _send_records(self) -> None:
        self._records.send(self._link)
        counts = self._records.meter.take()
        if counts["calls"] or len(self.connections) != self._sent_connections:
            self._sent_connections = len(self.connections)
            self._link.send("counts", counts, self._sent_connections)

    async def _finish(self) -> None:
        """Answer what is asked, send the records, and end."""
        self.finishing = True
        if self._starting is not None:
            await asyncio.gather(self._starting, return_exceptions=True)
        if self._server is None:
            return
        self._server.close()
        for connection in list(self.connections):
            connection.finish()
        deadline = asyncio.get_running_loop().time() + _FINISH_S
        while self.connections and asyncio.get_running_loop().time() < deadline and not self._link.lost:
            await asyncio.sleep(0.01)
        self._send_records()
        await self._records.spans.close()
        self._link.close()
        await asyncio.sleep(0.05)


def _end_where_failed(starting: asyncio.Task[None]) -> None:
    """End the process where it cannot start; the node starts another one, and gives up after a few."""
    if not starting.cancelled() and (error := starting.exception()) is not None:
        logging.getLogger("lamppost.fronts").error("this front cannot start: %s", error)
        os._exit(1)


def _take_no_records(_: object) -> None:
    """The node sends no records."""


def _note_failure(task: asyncio.Future[Any]) -> None:
    if not task.cancelled() and task.exception() is not None:
        logging.getLogger("lamppost.fronts").debug("a connection did not come back: %s", task.exception())


async def _run() -> None:
    messages, moving = (socket.socket(fileno=int(number)) for number in sys.argv[1:3])
    messages.setblocking(False)
    await Front(messages, moving).run()


def main() -> None:
    """Run until the node ends."""
    keep_memory_private()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, signal.SIG_IGN)
    send_log_lines(logging.WARNING)
    with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
        runner.run(_run())


if __name__ == "__main__":
    main()
