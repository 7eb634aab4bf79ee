"""A lane: one version on this node, with its queue, its batches and its worker process.

A lane opens the package in a worker, proves it there, and only then takes requests. A free worker takes at once whatever
waits; while it is busy, requests gather. While the service reads the answers of one batch, the worker is on the next already.
A batch whose worker dies is tried once more in a new one; a batch that the model fails on is tried again request by request,
so that a bad row fails alone.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from statistics import median
from typing import Any, Literal

from lamppost.core.backoff import Backoff
from lamppost.core.batch import BatchPolicy, Waiting
from lamppost.core.columns import Column, check, from_rows, to_rows
from lamppost.core.errors import BY_CODE, LampPostError, ModelFault, ProofFailed, Unavailable
from lamppost.core.fields import Schema
from lamppost.core.manifest import Manifest
from lamppost.core.measured import BATCH_ROWS, Measured
from lamppost.core.plan import Plan, Row
from lamppost.core.privacy import Kept
from lamppost.core.proof import USUAL_CAUSES, Proof, Verdict, compare
from lamppost.runtime.process import WorkerGone, WorkerProcess
from lamppost.runtime.supply import WorkerSupply
from lamppost.runtime.wire import WireError, pack_columns, pack_frame, unpack_columns

log = logging.getLogger("lamppost.lane")

ALONE = 32
"""Most proof rows that are also asked one by one."""

_MEASURE_S = 0.06

State = Literal["opening", "lit", "restarting", "out", "closed"]


@dataclass(frozen=True, slots=True)
class LaneSettings:
    """formats : artifact formats that may be opened. original : serve the original even where there is a compiled form.

    open_s, run_s : bounds on opening a package and on one batch, in seconds. tries : workers a request may end.
    """

    formats: frozenset[str] = frozenset({"skops"})
    original: bool = False
    batch: BatchPolicy = field(default_factory=BatchPolicy)
    open_s: float = 120.0
    run_s: float = 30.0
    tries: int = 2


@dataclass(frozen=True, slots=True)
class LaneAnswer:
    """Answer rows, and where the time went. queue_s, worker_s : seconds waiting, and there and back. batch_rows : rows run together.

    columns : the answers of a request that came as columns; ``rows`` is empty then.
    """

    rows: list[dict[str, Any]]
    queue_s: float
    worker_s: float
    batch_rows: int
    columns: list[Column] | None = None


@dataclass(slots=True, eq=False)
class _Request:
    rows: Sequence[Row]
    done: asyncio.Future[LaneAnswer]
    columns: Sequence[Column] | None = None
    since: float = field(default_factory=time.perf_counter)
    tries: int = 0
    alone: bool = False


_Batch = list[tuple[_Request, int, int]]


@dataclass(slots=True)
class _Running:
    batch: _Batch
    rows: int
    started: float
    reply: asyncio.Future[tuple[dict[str, Any], bytes]]


class Lane:
    """See the module. `open` once, then `predict` from any number of tasks, then `close`."""

    def __init__(self, name: str, folder: Path, manifest: Manifest, proof: Proof, settings: LaneSettings, supply: WorkerSupply) -> None:
        self.name = name
        self.plan = Plan(manifest.inputs, options=manifest.options)
        self.keeps = Kept(manifest.inputs, manifest.options, manifest.answers)
        self.state: State = "opening"
        self.why: str | None = None
        self.verdict: Verdict | None = None
        self.memory_bytes = 0
        self.measured: Measured | None = None
        self._folder = folder
        self._manifest = manifest
        self._proof = proof
        self._settings = settings
        self._supply = supply
        self._waiting: Waiting[_Request] = Waiting(settings.batch)
        self._wake = asyncio.Event()
        self._worker: WorkerProcess | None = None
        self._pump: asyncio.Task[None] | None = None

    async def open(self, measure: bool = False) -> Verdict:
        """Open and prove in a fresh worker, measure if asked to, then take traffic.

        Raise ProofFailed or whatever the worker says; the lane is out then.
        """
        try:
            self._worker = await self._open_worker(measure)
        except BaseException as error:
            self.state, self.why = "out", str(error)
            raise
        self.state = "lit"
        self._pump = asyncio.create_task(self._run(), name=f"lane {self.name}")
        self._pump.add_done_callback(self._pump_ended)
        assert self.verdict is not None
        return self.verdict

    async def predict(self, rows: Sequence[Row], size_bytes: int) -> LaneAnswer:
        """Answers to rows of this lane's `plan`; raise LaneFull, Unavailable or ModelFault. ``size_bytes``: of the request's body."""
        return await self._enqueued(_Request(rows, asyncio.get_running_loop().create_future()), len(rows), size_bytes)

    async def predict_columns(self, columns: Sequence[Column], rows: int, size_bytes: int) -> LaneAnswer:
        """The same for many rows at once, as columns in and out; they are a batch of their own."""
        return await self._enqueued(_Request((), asyncio.get_running_loop().create_future(), columns), rows, size_bytes)

    async def _enqueued(self, request: _Request, rows: int, size_bytes: int) -> LaneAnswer:
        if self.state in ("out", "closed", "opening"):
            raise Unavailable(f"{self.name} is not serving: {self.why or self.state}; see lamppost show {self.name}")
        self._waiting.add(request, rows, size_bytes)
        self._wake.set()
        return await request.done

    @property
    def manifest(self) -> Manifest:
        """What is in its package."""
        return self._manifest

    @property
    def answers(self) -> Schema:
        """The schema of this lane's answers."""
        return self._manifest.answers

    @property
    def columns(self) -> Schema:
        """Inputs and options, as `predict_columns` takes them."""
        return self._manifest.columns

    @property
    def waiting_rows(self) -> int:
        """Rows in the queue now."""
        return self._waiting.rows

    @property
    def worker_pid(self) -> int | None:
        """Process id of the worker, if one runs."""
        return self._worker.pid if self._worker else None

    async def close(self, drain_s: float = 30.0) -> None:
        """Finish what waits, for at most ``drain_s`` seconds, then end the worker."""
        deadline = time.perf_counter() + drain_s
        while self._pump is not None and not self._idle() and time.perf_counter() < deadline and self.state != "out":
            await asyncio.sleep(0.005)
        self.state, self.why = "closed", "the lane was closed"
        if self._pump is not None:
            self._pump.cancel()
            await asyncio.gather(self._pump, return_exceptions=True)
        self._refuse_all(self.why)
        if self._worker is not None:
            await self._worker.close()

    def _idle(self) -> bool:
        return not len(self._waiting) and not self._wake.is_set()

    # -- the worker ---------------------------------------------------------------------------------------------------

    async def _open_worker(self, measure: bool = False) -> WorkerProcess:
        start = time.perf_counter()
        worker = await self._supply.take(self.name, "graphs" if self._serves_graph else "sklearn")
        try:
            ask = pack_frame(
                {"op": "open", "folder": str(self._folder), "formats": sorted(self._settings.formats), "original": self._settings.original}
            )
            header, _ = await worker.call(ask, self._settings.open_s)
            if header.get("op") != "opened":
                raise _said(header)
            self.memory_bytes = int(header.get("memory_bytes", 0))
            self.verdict = await self._prove(worker)
            if not self.verdict.passed:
                raise ProofFailed(
                    f"{self.name} does not reproduce its training: {self.verdict.sentence()}; it takes no traffic. {USUAL_CAUSES}",
                    differences=[diff.sentence() for diff in self.verdict.differences],
                )
            if measure:
                self.measured = await self._measure(worker, time.perf_counter() - start)
        except WorkerGone as error:
            await worker.close()
            raise Unavailable(f"the worker for {self.name} ended while opening it: {error}") from error
        except BaseException:
            await worker.close()
            raise
        return worker

    @property
    def _serves_graph(self) -> bool:
        return not self._settings.original and self._manifest.serves_graphs

    async def _prove(self, worker: WorkerProcess) -> Verdict:
        """Replay the proof the way requests go: validated, as columns, over the wire; as one batch, and row by row alone.

        Alone matters: preprocessing that is fitted again on the request is right on a large batch and wrong on a single row.
        """
        rows = self.plan.read_rows(self._proof.rows)
        together = await self._ask(worker, rows)
        verdict = compare(self._manifest.answers, self._proof, together)
        if not verdict.passed:
            return verdict
        alone = [(await self._ask(worker, [row]))[0] for row in rows[:ALONE]]
        return compare(self._manifest.answers, self._proof, alone + together[len(alone) :])

    async def _measure(self, worker: WorkerProcess, open_s: float) -> Measured:
        """How long one row takes and how long 64 take, rows of the proof in turn, there and back."""
        rows = self.plan.read_rows(self._proof.rows)
        took = [await self._median_ms(worker, [rows[at % len(rows)] for at in range(count)]) for count in (1, BATCH_ROWS)]
        return Measured(round(open_s, 4), self.memory_bytes, round(took[0], 4), round(took[1], 4))

    async def _median_ms(self, worker: WorkerProcess, rows: Sequence[Row]) -> float:
        took: list[float] = []
        end = time.perf_counter() + _MEASURE_S
        while len(took) < 3 or time.perf_counter() < end:
            start = time.perf_counter()
            await self._ask(worker, rows)
            took.append((time.perf_counter() - start) * 1e3)
        return median(took)

    async def _ask(self, worker: WorkerProcess, rows: Sequence[Row]) -> list[dict[str, Any]]:
        header, body = await worker.call(self._frame(rows), self._settings.run_s)
        return to_rows(self._manifest.answers, self._columns(header, body, len(rows)), len(rows))

    def _frame(self, rows: Sequence[Row]) -> bytes:
        return self._framed(from_rows(self._manifest.columns, rows), len(rows))

    def _framed(self, columns: Sequence[Column], rows: int) -> bytes:
        entries, body = pack_columns(columns)
        return pack_frame({"op": "run", "rows": rows, "columns": entries}, body)

    def _columns(self, header: dict[str, Any], body: bytes, rows: int) -> list[Column]:
        if header.get("op") != "answers" or header.get("rows") != rows:
            raise _said(header)
        try:
            return unpack_columns(self._manifest.answers, rows, header.get("columns"), body)
        except WireError as error:
            raise ModelFault(f"{self.name} gave an answer that does not fit its schema: {error}") from error

    # -- batches ------------------------------------------------------------------------------------------------------

    async def _run(self) -> None:
        """Send batch after batch; the answers of one are read while the worker is on the next."""
        finished: tuple[_Running, dict[str, Any], bytes] | None = None
        while True:
            running = self._send_next()
            if finished is not None:
                self._finish(*finished)
                finished = None
            if running is None:
                self._wake.clear()
                if not len(self._waiting):
                    await self._wake.wait()
                continue
            assert self._worker is not None
            try:
                finished = (running, *await self._worker.answer(running.reply, self._settings.run_s))
            except WorkerGone as error:
                self._put_back(running, str(error))
                await self._restart(str(error))

    def _pump_ended(self, pump: asyncio.Task[None]) -> None:
        """A fault of our own must not leave requests waiting for ever."""
        if not pump.cancelled() and (error := pump.exception()) is not None:
            log.error("%s: the lane stopped on a fault of its own", self.name, exc_info=error)
            self.state, self.why = "out", f"the lane stopped on a fault of its own ({type(error).__name__})"
            self._refuse_all(self.why)

    def _send_next(self) -> _Running | None:
        batch: _Batch = []
        while not batch and len(self._waiting):
            batch = [entry for entry in self._waiting.take() if not entry[0].done.done()]  # whose client has gone is dropped
        if not batch:
            return None
        if any(entry[0].alone or entry[0].columns is not None for entry in batch) and len(batch) > 1:
            self._waiting.put_back(batch[1:])
            batch = batch[:1]
        assert self._worker is not None
        first, count, _ = batch[0]
        if first.columns is not None:
            return _Running(batch, count, time.perf_counter(), self._worker.send(self._framed(first.columns, count)))
        rows = first.rows if len(batch) == 1 else [row for request, _, _ in batch for row in request.rows]
        return _Running(batch, len(rows), time.perf_counter(), self._worker.send(self._frame(rows)))

    def _finish(self, running: _Running, header: dict[str, Any], body: bytes) -> None:
        worker_s = time.perf_counter() - running.started
        try:
            columns = self._columns(header, body, running.rows)
            first = running.batch[0][0]
            if first.columns is not None:
                check(self._manifest.answers, columns, running.rows)
                if not first.done.done():
                    first.done.set_result(LaneAnswer([], running.started - first.since, worker_s, running.rows, columns))
                return
            if len(running.batch) == 1:
                answers = [to_rows(self._manifest.answers, columns, running.rows)]
            else:
                answers, start = [], 0
                everything = to_rows(self._manifest.answers, columns, running.rows)
                for _, rows, _ in running.batch:
                    answers.append(everything[start : start + rows])
                    start += rows
        except LampPostError as error:
            self._failed(running, error)
            return
        for (request, _, _), rows_out in zip(running.batch, answers, strict=True):
            if not request.done.done():
                request.done.set_result(LaneAnswer(rows_out, running.started - request.since, worker_s, running.rows))

    def _failed(self, running: _Running, error: LampPostError) -> None:
        """A batch of one fails; of a larger one, each request is tried alone."""
        if len(running.batch) == 1:
            request = running.batch[0][0]
            if not request.done.done():
                request.done.set_exception(error)
            return
        for request, _, _ in running.batch:
            request.alone = True
        self._waiting.put_back(running.batch)
        self._wake.set()

    def _put_back(self, running: _Running, why: str) -> None:
        again: _Batch = []
        for entry in running.batch:
            request = entry[0]
            request.tries += 1
            if request.done.done():
                continue
            if request.tries < self._settings.tries:
                again.append(entry)
            else:
                request.done.set_exception(
                    ModelFault(f"the worker of {self.name} ended {request.tries} times on this request ({why}); it was given up")
                )
        self._waiting.put_back(again)

    async def _restart(self, why: str) -> None:
        """A new worker for the one that ended, with growing pauses; after three tries what waits is refused meanwhile."""
        log.warning("%s: the worker ended (%s), starting another", self.name, why)
        self.state, self.why = "restarting", why
        if self._worker is not None:
            await self._worker.close()
            self._worker = None
        backoff = Backoff().failed(time.monotonic())
        while self._worker is None:
            await asyncio.sleep(backoff.wait(time.monotonic()))
            try:
                self._worker = await self._open_worker()
            except LampPostError as error:
                backoff = backoff.failed(time.monotonic())
                self.why = error.detail
                log.error("%s: %s", self.name, error.detail)
                if backoff.failures > 3:
                    self.state = "out"
                    self._refuse_all(error.detail)
        self.state, self.why = "lit", None
        self._wake.set()

    def _refuse_all(self, why: str) -> None:
        for request in self._waiting.drain():
            if not request.done.done():
                request.done.set_exception(Unavailable(f"{self.name} is not serving: {why}"))


def _said(header: dict[str, Any]) -> LampPostError:
    """The error that a worker's frame reports."""
    kind = BY_CODE.get(str(header.get("code")), ModelFault)
    faults = header.get("faults")
    extra = {"faults": faults} if isinstance(faults, list) else {}
    return kind(str(header.get("detail", "the worker sent an answer to something else"))[:2_000], **extra)
