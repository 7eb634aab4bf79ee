"""The front processes of a node: starts them, tells them what they may answer, answers their questions, and replaces one that ends.

With fronts the node itself does not listen: connections reach it only from fronts, when something is asked on them that is not usual.
"""

from __future__ import annotations

import asyncio
import logging
import signal
import socket
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from lamppost.core.engine.backoff import Backoff
from lamppost.core.errors import LampPostError, SetupError
from lamppost.core.payload.validation_plan import Row
from lamppost.core.roles import principal_to_dict
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.fronts.connection_mover import ConnectionMover
from lamppost.service.fronts.front_routes import version_of_route, write_route
from lamppost.service.fronts.messages import Message, MessageLink, error_to_values
from lamppost.service.http.connection_limits import ConnectionLimits
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.processes.child_logs import log_lines_of
from lamppost.service.records.record_buffer import RecordBuffer
from lamppost.service.settings import Settings

log = logging.getLogger("lamppost.fronts")

MODULE = "lamppost.service.fronts.front_process"
_ROUTES_AT_ONCE = 100
_FINISH_S = 10.0
_MOST_TRIES = 4
"""Starts of a front that may fail before the node gives up its own start."""
TakeConnection = Callable[[socket.socket, bytes, Callable[[asyncio.Transport], None]], None]
"""Takes a connection over: its socket, the bytes that were read from it, and what gives it back to the front it came from."""


@dataclass(frozen=True, slots=True)
class FrontFacts:
    """A front process. connections : open now. calls : that it has asked the node to answer."""

    pid: int
    connections: int
    calls: int


class _AskedCall:
    """A question of a front; receives the answer of a lane."""

    __slots__ = ("_front", "_hooks", "_request_id", "_rows", "_seq", "_since", "_token", "_version", "gone")

    def __init__(
        self, front: _Front, seq: int, version: str, hooks: AnswerHooks | None, rows: list[Row], token: str, request_id: str
    ) -> None:
        self.gone = False
        self._front = front
        self._seq = seq
        self._version = version
        self._hooks = hooks
        self._rows = rows
        self._token = token
        self._request_id = request_id
        self._since = time.perf_counter()

    def done(self) -> bool:
        """Whether nobody waits for the answer any more."""
        return self.gone

    def set_result(self, answer: LaneAnswer) -> None:
        """Bring the answer to the front."""
        front = self._front
        front.asked.pop(self._seq, None)
        if self._hooks is not None:
            try:
                ms = (time.perf_counter() - self._since) * 1e3
                self._hooks.after_answer(self._version, self._rows, answer.rows, ms, self._request_id, self._token)
            except Exception:
                log.exception("request %s failed on a fault of our own", self._request_id, extra={"request_id": self._request_id})
                self._refuse(LampPostError("the service failed on this request; the log has more"))
                return
        front.link.send("answer", self._seq, answer.rows, answer.queue_s, answer.worker_s, answer.batch_rows)

    def set_exception(self, error: LampPostError) -> None:
        """Bring an error to the front."""
        self._front.asked.pop(self._seq, None)
        if error.status >= 500 and self._hooks is not None:
            self._hooks.after_failure(error.version or self._version)
        self._refuse(error)

    def _refuse(self, error: LampPostError) -> None:
        self._front.link.send("refuse", self._seq, *error_to_values(error))


class _Front:
    """One front process and what it has asked."""

    def __init__(self, fronts: FrontSet, number: int) -> None:
        self.asked: dict[int, _AskedCall] = {}
        self.calls = 0
        self.connections = 0
        self.listening = asyncio.Event()
        self.lost = asyncio.Event()
        self.link = MessageLink(self._take, fronts.recorder.add_bundle, self._lose)
        self.process: asyncio.subprocess.Process | None = None
        self._fronts = fronts
        self._number = number
        self._mover: ConnectionMover | None = None
        self._logging: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Start the process, and tell it its settings."""
        messages, its_messages = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        moving, its_moving = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with its_messages, its_moving:
            theirs = (its_messages.fileno(), its_moving.fileno())
            self.process = await asyncio.create_subprocess_exec(
                sys.executable,
                "-m",
                MODULE,
                *map(str, theirs),
                stdin=asyncio.subprocess.DEVNULL,
                stderr=asyncio.subprocess.PIPE,
                pass_fds=theirs,
            )
        assert self.process.stderr is not None
        self._logging = asyncio.create_task(log_lines_of(self.process.stderr), name=f"log of front {self._number}")
        messages.setblocking(False)
        self._mover = ConnectionMover(moving, self._take_connection)
        await asyncio.get_running_loop().create_connection(lambda: self.link, sock=messages)
        self.link.send("settings", self._fronts.settings_of_front())

    def _take(self, message: Message) -> None:
        name, *values = message
        if name == "ask":
            self._ask(*values)
        elif name == "gone":
            if (call := self.asked.pop(values[0], None)) is not None:
                call.gone = True
        elif name == "counts":
            self._fronts.recorder.meter.add(values[0])
            self.connections = values[1]
        elif name == "listening":
            self.listening.set()

    def _ask(self, seq: int, endpoint: str, version: str, serial: int, token: str, request_id: str, rows: list[Row], size: int) -> None:
        """Have a lane answer. Where anything has changed since the front read it, the node takes the connection over instead."""
        fronts = self._fronts
        self.calls += 1
        route = fronts.table.by_endpoint.get(endpoint)
        found = None if route is None or fronts.serials.get(endpoint) != serial else version_of_route(route, version)
        if route is None or found is None:
            self.link.send("take-over", seq)
            return
        try:
            principal = fronts.auth.principal_named(token)
            principal.require_permission("predict", endpoint)
            fronts.auth.charge(principal)
        except LampPostError:  # which the node says itself, and whose rate is charged then
            self.link.send("take-over", seq)
            return
        call = self.asked[seq] = _AskedCall(self, seq, version, route.hooks, rows, token, request_id)
        try:
            found.lane.submit(rows, size, RequestOptions(is_abandoned=call.done), call, request_id)
        except LampPostError as error:
            call.set_exception(error)

    def _take_connection(self, moved: socket.socket, unanswered: bytes) -> None:
        self._fronts.take_connection(moved, unanswered, self._give_back)

    def _give_back(self, transport: asyncio.Transport) -> None:
        if self._mover is not None and not self.lost.is_set():
            self._mover.move(transport, b"")

    def _lose(self) -> None:
        for call in self.asked.values():
            call.gone = True
        self.asked.clear()
        self.connections = 0
        self.lost.set()

    async def end(self) -> None:
        """Wait for the end of the process, by force if the link is gone and it goes on."""
        if self._mover is not None:
            self._mover.close()
        self.link.close()
        if self.process is not None:
            try:
                await asyncio.wait_for(self.process.wait(), 1.0)
            except TimeoutError:
                self.process.kill()
                await self.process.wait()
        if self._logging is not None:
            await asyncio.gather(self._logging, return_exceptions=True)


class FrontSet:
    """All fronts of a node. serials : by endpoint, the number of its present route, which changes with it."""

    def __init__(self, settings: Settings, table: RouteTable, auth: Auth, recorder: RecordBuffer, limits: ConnectionLimits) -> None:
        self.count = settings.fronts if settings.fronts > 1 else 0
        self.table = table
        self.auth = auth
        self.recorder = recorder
        self.serials: dict[str, int] = {}
        self._take_connection: TakeConnection | None = None
        self._held: list[tuple[socket.socket, bytes, Callable[[asyncio.Transport], None]]] = []
        self.restarts = 0
        self._settings = settings
        self._limits = limits
        self._listen_at: tuple[str, int] = ("", 0)
        self._fronts: dict[int, _Front] = {}
        self._serial = 0
        self._changed: set[str] = set()
        self._telling: asyncio.Task[None] | None = None
        self._keeping: list[asyncio.Task[None]] = []
        self._ending = asyncio.Event()

    async def start(self, listen_at: tuple[str, int]) -> None:
        """Start the fronts, and return when each listens. listen_at : address and port."""
        self._listen_at = listen_at
        self.table.changed = self.note_route
        self.auth.changed = self._tell_tokens
        for endpoint in self.table.by_endpoint:
            self.note_route(endpoint)
        self._keeping = [asyncio.create_task(self._keep(number), name=f"front {number}") for number in range(self.count)]
        while not all(number in self._fronts and self._fronts[number].listening.is_set() for number in range(self.count)):
            if self.restarts > _MOST_TRIES * self.count:
                raise SetupError(f"front processes cannot listen on {listen_at[0]}:{listen_at[1]}; the lines above say why")
            await asyncio.sleep(0.01)

    def admit(self, take_connection: TakeConnection) -> None:
        """Take the connections that fronts move here; those that came before this wait for it."""
        self._take_connection = take_connection
        held, self._held = self._held, []
        for connection in held:
            take_connection(*connection)

    def take_connection(self, moved: socket.socket, unanswered: bytes, give_back: Callable[[asyncio.Transport], None]) -> None:
        """Take a connection that a front moves here."""
        if self._take_connection is None:
            self._held.append((moved, unanswered, give_back))
        else:
            self._take_connection(moved, unanswered, give_back)

    @property
    def facts(self) -> list[FrontFacts]:
        """Each front that listens."""
        return [
            FrontFacts(front.process.pid, front.connections, front.calls)
            for front in self._fronts.values()
            if front.process is not None and front.listening.is_set() and not front.lost.is_set()
        ]

    def settings_of_front(self) -> dict[str, Any]:
        """What a front is told first."""
        settings = self._settings
        return {
            "host": self._listen_at[0],
            "port": self._listen_at[1],
            "address": settings.address,
            "public_urls": settings.public_urls,
            "connections": max(64, self._limits.most // self.count),
            "records": settings.records,
            "otlp": settings.otlp,
        }

    def note_route(self, endpoint: str) -> None:
        """Note that a route has changed: fronts that ask by the one before are told that the node answers from now on."""
        self._serial += 1
        self.serials[endpoint] = self._serial
        self._changed.add(endpoint)
        if self._telling is None or self._telling.done():
            self._telling = asyncio.create_task(self._tell_routes(), name="routes for fronts")

    async def _tell_routes(self) -> None:
        await asyncio.sleep(0)  # what follows from a route (hooks, leases) is set up in the same turn of the loop
        while self._changed:
            endpoints = [self._changed.pop() for _ in range(min(_ROUTES_AT_ONCE, len(self._changed)))]
            written = self._written_routes(endpoints)
            for front in self._fronts.values():
                front.link.send("routes", written)
            await asyncio.sleep(0)

    def _written_routes(self, endpoints: list[str]) -> dict[str, Any]:
        return {endpoint: write_route(self.table.by_endpoint.get(endpoint), self.serials[endpoint]) for endpoint in endpoints}

    def _tell_tokens(self) -> None:
        for front in self._fronts.values():
            self._tell_tokens_to(front)

    def _tell_tokens_to(self, front: _Front) -> None:
        written = {hashed.hex(): principal_to_dict(principal) for hashed, principal in self.auth.principals.items()}
        front.link.send("tokens", written)

    async def _keep(self, number: int) -> None:
        """Have one front, and another one after it has ended, until the node ends."""
        backoff = Backoff()
        loop = asyncio.get_running_loop()
        while not self._ending.is_set():
            front = _Front(self, number)
            try:
                await front.start()
            except OSError as error:
                self.restarts += 1
                log.error("front %d cannot be started, trying again: %s", number, error)
                backoff = backoff.failed(loop.time())
                await asyncio.sleep(backoff.wait(loop.time()))
                continue
            self._tell_tokens_to(front)
            self._fronts[number] = front
            endpoints = list(self.table.by_endpoint)
            for at in range(0, len(endpoints), _ROUTES_AT_ONCE):
                front.link.send("routes", self._written_routes(endpoints[at : at + _ROUTES_AT_ONCE]))
                await asyncio.sleep(0)
            await front.lost.wait()
            await front.end()
            if self._ending.is_set():
                return
            status = None if front.process is None else front.process.returncode
            log.error("front %d ended (%s); its open connections are lost, and another one is started", number, _cause(status))
            self.restarts += 1
            backoff = backoff.failed(loop.time()) if not front.listening.is_set() else Backoff()
            await asyncio.sleep(backoff.wait(loop.time()))

    async def finish(self) -> None:
        """Have the fronts answer what they have in hand, and end."""
        self._ending.set()
        self.table.changed = self.auth.changed = None
        for front in self._fronts.values():
            front.link.send("finish")
        if self._keeping:
            _, late = await asyncio.wait(self._keeping, timeout=_FINISH_S)
            for task in late:
                task.cancel()
            for front in self._fronts.values():
                if front.process is not None and front.process.returncode is None:
                    front.process.kill()
            await asyncio.gather(*self._keeping, return_exceptions=True)
        if self._telling is not None:
            self._telling.cancel()


def _cause(status: int | None) -> str:
    return f"by signal {signal.Signals(-status).name}" if status is not None and status < 0 else f"with status {status}"
