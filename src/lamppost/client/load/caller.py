"""One process of a load: keeps connections open, asks, and counts what comes back.

A connection sends a request when it is free and measures until the whole answer has come. In an open loop latency counts from when the
request was due, so that a service which stalls is not flattered (coordinated omission). Answers are parsed by httptools, because a client
that costs more than the service would measure itself.
"""

from __future__ import annotations

import asyncio
import random
import ssl
import time
from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlsplit

import httptools

from lamppost.core.load.load_plan import Order, due_times
from lamppost.core.load.load_result import LoadSlice, LoadStep
from lamppost.core.monitoring.latency_histogram import bucket_of

_CONNECT_S = 10.0
_DRAIN_S = 10.0
_PAUSE_S = 0.1
_WANTED = (b"model-version", b"server-timing", b"connection")


@dataclass(frozen=True, slots=True)
class ProcessTask:
    """What one process does in a step. bodies : by endpoint. process, processes : which of how many it is."""

    url: str
    token: str
    bodies: dict[str, list[str]]
    clients: int
    seconds: float
    warm_s: float
    rate: float | None
    order: Order
    process: int
    processes: int


@dataclass(slots=True)
class _Job:
    """A request. due : on the monotonic clock. at : which endpoint."""

    due: float
    at: int
    data: bytes


class _Connection(asyncio.Protocol):
    """A connection of the load, one request after the other."""

    def __init__(self, load: _Load) -> None:
        self._load = load
        self._transport: asyncio.Transport | None = None
        self._parser: Any = None
        self._job: _Job | None = None
        self._sent = 0.0
        self._headers: dict[bytes, bytes] = {}

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport  # type: ignore[assignment]
        self.ask()

    def connection_lost(self, exc: Exception | None) -> None:
        if self._job is not None:
            self._load.failed(type(exc).__name__ if exc is not None else "connection closed", self._sent)
            self._job = None
        self._load.lost(self)

    def ask(self) -> None:
        """Send the next request, if one is due."""
        job = self._load.next_job(self)
        if job is None:
            return
        assert self._transport is not None
        self._job = job
        self._headers = {}
        self._parser = httptools.HttpResponseParser(self)
        self._sent = time.monotonic()
        self._transport.write(job.data)

    def close(self) -> None:
        """End the connection; a request that is on its way is not counted."""
        self._job = None
        if self._transport is not None:
            self._transport.close()

    def data_received(self, data: bytes) -> None:
        if self._job is None:
            return
        try:
            self._parser.feed_data(data)
        except httptools.HttpParserError:
            self._load.failed("no HTTP", self._sent)
            self.close()

    def on_header(self, name: bytes, value: bytes) -> None:
        if (lower := name.lower()) in _WANTED:
            self._headers[lower] = value

    def on_message_complete(self) -> None:
        job, self._job = self._job, None
        assert job is not None
        self._load.answered(job, self._parser.get_status_code(), self._headers, time.monotonic())
        if self._headers.get(b"connection", b"").lower() == b"close":
            self.close()
        else:
            self.ask()


@dataclass(slots=True)
class _Load:
    """The load of one process in one step."""

    task: ProcessTask
    started: float = 0.0
    idle: deque[_Connection] = field(default_factory=deque)
    waiting: deque[_Job] = field(default_factory=deque)
    connections: set[_Connection] = field(default_factory=set)
    step: LoadStep = field(init=False)
    requests: list[list[bytes]] = field(init=False)
    names: list[str] = field(init=False)
    done: asyncio.Event = field(default_factory=asyncio.Event)
    _asked: int = 0
    _places: list[int] = field(init=False)
    _random: random.Random = field(init=False)
    _open: bool = True
    _missing: int = 0

    def __post_init__(self) -> None:
        task = self.task
        self.step = LoadStep(task.clients, task.seconds, [LoadSlice() for _ in range(max(1, round(task.seconds)))])
        self.names = list(task.bodies)
        self.requests = [[_request(task, name, body) for body in bodies] for name, bodies in task.bodies.items()]
        self._places = [task.process] * len(self.names)
        self._random = random.Random(task.process)
        self._asked = task.process

    # -- what connections ask and tell ----------------------------------------------------------------------------------

    def next_job(self, connection: _Connection) -> _Job | None:
        """What a free connection sends now; None where it waits."""
        if not self._open:
            return None
        if self.task.rate is None:
            return self.make_job(time.monotonic())
        if self.waiting:
            self.step.late += 1
            return self.waiting.popleft()
        self.idle.append(connection)
        return None

    def make_job(self, due: float) -> _Job:
        """The next request: of endpoints in turn or at random, and of each its rows in turn."""
        many = len(self.names)
        at = self._random.randrange(many) if self.task.order == "random" else self._asked % many
        self._asked += self.task.processes
        bodies = self.requests[at]
        place = self._places[at]
        self._places[at] = place + self.task.processes
        return _Job(due, at, bodies[place % len(bodies)])

    def slice_of(self, now: float) -> LoadSlice | None:
        """The second in which something ended; None during the warm-up and after the end."""
        at = now - self.started - self.task.warm_s
        return self.step.slices[int(at)] if 0 <= at < len(self.step.slices) else None

    def answered(self, job: _Job, status: int, headers: dict[bytes, bytes], now: float) -> None:
        """Count an answer."""
        part = self.slice_of(now)
        if part is None:
            return
        if status != 200:
            part.errors += 1
            self.step.errors[str(status)] = self.step.errors.get(str(status), 0) + 1
            return
        us = int((now - job.due) * 1e6)
        bucket = bucket_of(us)
        part.calls += 1
        part.latency[bucket] = part.latency.get(bucket, 0) + 1
        self.step.most_us = max(self.step.most_us, us)
        name = self.names[job.at]
        counts = self.step.endpoints.setdefault(name, {})
        counts[bucket] = counts.get(bucket, 0) + 1
        versions = self.step.versions.setdefault(name, {})
        version = headers.get(b"model-version", b"?").decode("latin-1")
        versions[version] = versions.get(version, 0) + 1
        for phase, took in _phases(headers.get(b"server-timing", b"")):
            known = self.step.phases.setdefault(phase, {})
            bucket = bucket_of(took)
            known[bucket] = known.get(bucket, 0) + 1

    def failed(self, what: str, sent: float) -> None:
        """Count a request that got no answer."""
        if (part := self.slice_of(time.monotonic())) is not None and sent:
            part.errors += 1
            self.step.errors[what] = self.step.errors.get(what, 0) + 1

    def lost(self, connection: _Connection) -> None:
        """A connection ended; another takes its place while the load goes on."""
        self.connections.discard(connection)
        if self._open:
            self._missing += 1

    # -- what the load does -----------------------------------------------------------------------------------------------

    async def run(self) -> LoadStep:
        """Carry out the step. Raise OSError where no connection can be made at all."""
        parts = urlsplit(self.task.url)
        port = parts.port or (443 if parts.scheme == "https" else 80)
        secure = ssl.create_default_context() if parts.scheme == "https" else None
        self.started = time.monotonic()
        end = self.started + self.task.warm_s + self.task.seconds
        for _ in range(self.task.clients):
            await self._connect(parts.hostname or "127.0.0.1", port, secure)
        pacing = None if self.task.rate is None else asyncio.create_task(self._pace(self.task.rate, end))
        try:
            while (now := time.monotonic()) < end:
                await asyncio.sleep(min(_PAUSE_S, end - now))
                while self._missing and time.monotonic() < end:
                    try:
                        await self._connect(parts.hostname or "127.0.0.1", port, secure)
                        self._missing -= 1
                    except OSError as error:
                        self.failed(type(error).__name__, self.started)
                        break
        finally:
            self._open = False
            if pacing is not None:
                pacing.cancel()
                await asyncio.gather(pacing, return_exceptions=True)
        self._count_unanswered(end)
        for connection in list(self.connections):
            connection.close()
        return self.step

    def _count_unanswered(self, end: float) -> None:
        """In an open loop, requests that were due and never sent are no answers: they are counted as errors."""
        overdue = sum(job.due < end for job in self.waiting)
        if overdue:
            self.step.slices[-1].errors += overdue
            self.step.errors["not sent in time"] = overdue

    async def _connect(self, host: str, port: int, secure: ssl.SSLContext | None) -> None:
        loop = asyncio.get_running_loop()
        connection = _Connection(self)
        self.connections.add(connection)
        try:
            async with asyncio.timeout(_CONNECT_S):
                await loop.create_connection(lambda: connection, host, port, ssl=secure)
        except BaseException:
            self.connections.discard(connection)
            raise

    async def _pace(self, rate: float, end: float) -> None:
        """Hand out requests when they are due, whether or not a connection is free."""
        for due in due_times(rate, self.task.process, self.task.processes, end - self.started):
            at = self.started + due
            while (wait := at - time.monotonic()) > 0:
                await asyncio.sleep(wait)
            job = self.make_job(at)
            self.waiting.append(job)
            if self.idle:
                self.idle.popleft().ask()
            if len(self.waiting) % 256 == 255:
                await asyncio.sleep(0)


def _request(task: ProcessTask, endpoint: str, body: str) -> bytes:
    parts = urlsplit(task.url)
    raw = body.encode()
    head = (
        f"POST {parts.path.rstrip('/')}/predict/{quote(endpoint, safe='')} HTTP/1.1\r\nHost: {parts.netloc}\r\n"
        f"Authorization: Bearer {task.token}\r\nContent-Type: application/json\r\nContent-Length: {len(raw)}\r\n\r\n"
    )
    return head.encode() + raw


def _phases(header: bytes) -> Sequence[tuple[str, float]]:
    """Phases of a Server-Timing header, in microseconds."""
    found = []
    for part in header.decode("latin-1").split(","):
        name, _, took = part.strip().partition(";dur=")
        try:
            found.append((name, float(took) * 1e3))
        except ValueError:
            continue
    return found


async def run_task(task: ProcessTask) -> LoadStep:
    """The step of one process."""
    return await _Load(task).run()
