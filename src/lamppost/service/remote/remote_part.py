"""A part of an answer that a remote endpoint gives.

Calls that come while others are out gather, and go together as columns: one call with the rows of many costs little more than one with a
single row. Whoever waits has a deadline of its own.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from lamppost.core.endpoint.remote_endpoints import RemoteAddress, RemoteDescription, broken_promise
from lamppost.core.endpoint.states import LaneCondition
from lamppost.core.errors import BadRequest, DeadlinePassed, InvalidRows, LampPostError, LaneFull, ModelFault, shift_fault_rows
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column, columns_from_rows, join_columns, slice_columns
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.grpc.columns import read_answer_columns, write_columns, write_value
from lamppost.service.remote.connections import RemoteConnections
from lamppost.service.remote.hops import Hop

_CALL_S = 30.0
"""Longest that a call waits for a remote endpoint where its caller set no deadline."""
_MOST_ROWS = 1_024
"""Rows of calls that gather into one; a call with more goes alone."""
_MOST_BYTES = 4 * 2**20
"""Of the columns of one call; a service takes messages of ten megabytes unless its operator says otherwise."""
_MOST_WAITING = 20_000
"""Rows that may wait."""


Group = tuple[tuple[str, ...], tuple[tuple[str, Any], ...]]
"""What calls have in common that can go together: the endpoints that they have come through, and their options."""


@dataclass(slots=True, eq=False)
class _Waiting:
    """A call that waits. group : calls of one group can go together."""

    columns: Sequence[Column]
    rows: int
    size_bytes: int
    options: Mapping[str, Any]
    terms: RequestOptions
    hop: Hop
    since: float
    done: asyncio.Future[LaneAnswer] = field(default_factory=lambda: asyncio.get_running_loop().create_future())

    @property
    def group(self) -> Group:
        return (self.hop.passed, tuple(self.options.items()))

    @property
    def is_given_up(self) -> bool:
        return self.done.done() or (self.terms.is_abandoned is not None and self.terms.is_abandoned())


class RemoteEndpoint:
    """A remote endpoint, for every part that asks it.

    now : what it promises, as it last said. said : the same as it came. stale : whether it may have changed while it slept.
    """

    def __init__(self, connections: RemoteConnections, address: RemoteAddress) -> None:
        self.connections = connections
        self.address = address
        self.now: RemoteDescription | None = None
        self.said = b""
        self.stale = True


class RemotePart:
    """A remote endpoint as a setup knows it. name : its address. columns, answers : as promised when the setup was made."""

    def __init__(self, endpoint: RemoteEndpoint, promised: RemoteDescription) -> None:
        self.name = str(endpoint.address)
        self.columns = promised.columns
        self.answers = promised.answers
        self._endpoint = endpoint
        self._promised = promised
        self._judged: tuple[RemoteDescription | None, str | None] = (None, None)
        self._waiting: dict[Group, deque[_Waiting]] = {}
        self._waiting_rows = 0
        self._out: set[asyncio.Task[None]] = set()

    @property
    def version(self) -> str:
        """The version that answers there, as records and answers name it: ``pole-net@3 (models)``."""
        return f"{(self._endpoint.now or self._promised).version} ({self._endpoint.address.service})"

    @property
    def broken(self) -> str | None:
        """Why the endpoint cannot stand in any more for what the setup was made with; None where it can."""
        now = self._endpoint.now
        if now is not self._judged[0]:
            self._judged = (now, None if now is None else broken_promise(self._promised, now))
        return self._judged[1]

    @property
    def condition(self) -> LaneCondition:
        """State and reason, as those of a lane."""
        if (reason := self.broken) is not None:
            return LaneCondition(self.name, "down", f"it has changed: {reason}; make the setup again to use it as it is now")
        connections = self._endpoint.connections
        return LaneCondition(self.name, "serving") if connections.answers else LaneCondition(self.name, "down", connections.trouble)

    @property
    def trouble(self) -> str | None:
        """What is wrong with some nodes of the service while others answer; None where nothing is."""
        connections = self._endpoint.connections
        return connections.trouble if connections.answers else None

    async def predict(self, rows: Sequence[Row], terms: RequestOptions, hop: Hop) -> LaneAnswer:
        """Answer rows of the promised schema; raise what the endpoint raised, LaneFull, DeadlinePassed, Unavailable or ModelFault."""
        if (reason := self.broken) is not None:
            raise ModelFault(f"{self.name} has changed since this endpoint was set up: {reason}; make the setup again")
        if self._waiting_rows + len(rows) > _MOST_WAITING:
            raise LaneFull(f"{self._waiting_rows:,} rows wait for {self.name} already; try again in a second", retry_after_s=1)
        inputs, options = self._promised.inputs, self._promised.options or ()
        chosen = {field.name: _plain(rows[0][field.name]) for field in options}
        columns = columns_from_rows(inputs, list(rows))
        step = max(1, _MOST_BYTES * len(rows) // max(_size(columns), 1))
        pieces = {at: slice_columns(columns, at, min(at + step, len(rows))) for at in range(0, len(rows), step)}
        now = asyncio.get_running_loop().time()
        jobs = [_Waiting(piece, min(step, len(rows) - at), _size(piece), chosen, terms, hop, now) for at, piece in pieces.items()]
        if len(jobs) == 1:
            return await self._wait(jobs[0])
        answers = await asyncio.gather(*(self._wait_for_piece(job, at) for job, at in zip(jobs, pieces, strict=True)))
        joined = join_columns(self.answers, [answer.columns or [] for answer in answers])
        queue_s, worker_s = max(answer.queue_s for answer in answers), max(answer.worker_s for answer in answers)
        return LaneAnswer([], queue_s, worker_s, max(answer.batch_rows for answer in answers), joined)

    async def _wait_for_piece(self, job: _Waiting, first: int) -> LaneAnswer:
        """The answer to a piece of a call. first : its first row in the call."""
        try:
            return await self._wait(job)
        except InvalidRows as error:
            raise shift_fault_rows(error, lambda row: row + first) from error

    async def _wait(self, job: _Waiting) -> LaneAnswer:
        """The answer to what is small enough for one message."""
        terms = job.terms
        self._waiting.setdefault(job.group, deque()).append(job)
        self._waiting_rows += job.rows
        self._send_more()
        try:
            async with asyncio.timeout_at(terms.deadline):
                return await job.done
        except TimeoutError:
            raise DeadlinePassed(f"the answer was wanted sooner than {self.name} gave it") from None

    def _send_more(self) -> None:
        while self._waiting and len(self._out) < self._endpoint.connections.calls_at_once:
            batch = self._take()
            if batch:
                task = asyncio.create_task(self._send(batch), name=f"call of {self.name}")
                self._out.add(task)
                task.add_done_callback(self._sent)

    def _sent(self, task: asyncio.Task[None]) -> None:
        self._out.discard(task)
        self._send_more()

    def _take(self) -> list[_Waiting]:
        """The calls that go next, all of one group; calls that nobody waits for are left out."""
        group, jobs = next(iter(self._waiting.items()))
        batch: list[_Waiting] = []
        rows = size_bytes = 0
        while jobs:
            job = jobs[0]
            if batch and not job.is_given_up and (rows + job.rows > _MOST_ROWS or size_bytes + job.size_bytes > _MOST_BYTES):
                break
            jobs.popleft()
            self._waiting_rows -= job.rows
            if job.is_given_up:
                job.done.cancel()
                continue
            batch.append(job)
            rows += job.rows
            size_bytes += job.size_bytes
        del self._waiting[group]
        if jobs:
            self._waiting[group] = jobs  # behind the other groups
        return batch

    async def _send(self, batch: list[_Waiting]) -> None:
        begun = asyncio.get_running_loop().time()
        try:
            columns = await self._ask(batch, begun)
        except InvalidRows as error:
            if len(batch) == 1:
                _fail(batch, error)
            else:  # one of them is to blame; the others are answered
                for job in batch:
                    await self._send([job])
        except LampPostError as error:
            _fail(batch, error)
        except Exception as error:
            _fail(batch, ModelFault(f"asking {self.name} failed on a fault of our own ({type(error).__name__})"))
            raise
        else:
            taken, at = asyncio.get_running_loop().time() - begun, 0
            total = sum(job.rows for job in batch)
            for job in batch:
                part = slice_columns(columns, at, at + job.rows)
                at += job.rows
                if not job.done.done():
                    job.done.set_result(LaneAnswer([], begun - job.since, taken, total, list(part)))

    async def _ask(self, batch: list[_Waiting], now: float) -> list[Column]:
        """The answer to the rows of all."""
        first, rows = batch[0], sum(job.rows for job in batch)
        inputs = self._promised.inputs
        columns = first.columns if len(batch) == 1 else join_columns(inputs, [job.columns for job in batch])
        message = pb.PredictRequest(endpoint=self._endpoint.address.endpoint, columns=write_columns(inputs, columns))
        for field_of, value in zip(self._promised.options or (), first.options.values(), strict=True):
            message.options[field_of.name].CopyFrom(write_value(field_of, value))
        deadlines = [job.terms.deadline for job in batch]
        left_s = [deadline - now for deadline in deadlines if deadline is not None]
        timeout_s = min(_CALL_S, max(left_s)) if len(left_s) == len(batch) else _CALL_S
        trace = next((job.hop.trace for job in batch if job.hop.trace), None)
        metadata = first.hop._replace(trace=trace).to_metadata()
        try:
            reply = await self._endpoint.connections.ask("Predict", message, max(timeout_s, 0.001), metadata)
        except BadRequest as error:
            if not isinstance(error, InvalidRows):
                raise ModelFault(f"{self.name} cannot read what it was asked: {error.detail}") from error
            raise
        try:
            return read_answer_columns(self.answers, reply.columns, rows)
        except ModelFault as error:
            raise ModelFault(f"{self.name}: {error.detail}") from error


def _size(columns: Sequence[Column]) -> int:
    """About how many bytes columns take in a message."""
    return sum(_size_of_values(column.values) for column in columns)


def _size_of_values(values: Any) -> int:
    if isinstance(values, list):
        return sum(len(value) if isinstance(value, str | bytes) else getattr(value, "nbytes", 1) for value in values)
    return int(values.nbytes)


def _plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, datetime) else value


def _fail(batch: list[_Waiting], error: LampPostError) -> None:
    for job in batch:
        if not job.done.done():
            job.done.set_exception(type(error)(error.detail, **error.extra))
