"""One version on this node: its queue, its batches, and its seats in workers.

A lane opens the package in a worker, proves it there, and only then takes requests. A free worker takes at once whatever waits, up to
the rows of a batch; while all its workers are busy, requests gather. A batch whose worker dies is tried once more in another; a batch
that the model fails on is tried again in halves, so that a bad row fails alone and is named.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar
from weakref import WeakKeyDictionary

from lamppost.core.artifact.proof import USUAL_CAUSES, ProofVerdict
from lamppost.core.endpoint.states import LaneCondition, LaneState
from lamppost.core.engine.backoff import Backoff
from lamppost.core.engine.batch_queue import BatchQueue, Job, JobSlice
from lamppost.core.engine.opening_measurement import OpeningMeasurement
from lamppost.core.errors import DeadlinePassed, LampPostError, LaneFull, ModelFault, ProofFailed, Unavailable
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.columns import Column, check_answer_columns, join_columns, slice_columns
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.fork_server import Needs
from lamppost.runtime.lane_load import LaneLoad
from lamppost.runtime.lane_options import LIVE_REQUEST, AnswerReceiver, LaneAnswer, LaneSettings, RequestOptions, SeatOpening
from lamppost.runtime.lane_requests import LaneBatch, LaneRequest, error_in_request, is_over, names_row
from lamppost.runtime.seat_opening import LaneSpec, open_seat
from lamppost.runtime.wire import pack_columns
from lamppost.runtime.worker_driver import FramePart, WorkerDriver
from lamppost.runtime.worker_pool import MAX_QUEUED_BYTES, WorkerPool
from lamppost.runtime.worker_process import WorkerGone
from lamppost.runtime.worker_supply import needed_worker

log = logging.getLogger("lamppost.lane")

T = TypeVar("T")
_MOST_SILENT = 2
"""With so many silent workers no further one is opened: the lane's own rows may be what silences them."""
_GIVE_UP_S = 0.005
_LIGHT_BYTES = 4 * 2**20


class Lane:
    """Call `open` once, then `predict` from any number of tasks, then `close`."""

    def __init__(self, spec: LaneSpec, settings: LaneSettings, pool: WorkerPool[Lane]) -> None:
        manifest = spec.manifest
        self.name = spec.name
        self.plan = spec.plan
        self.redaction = RedactionPolicy(manifest.inputs, manifest.options, manifest.answers)
        self.private = not self.redaction.keeps_everything
        self.manifest = manifest
        self.digest = spec.folder.name
        self.answers = manifest.answers
        self.columns = manifest.columns
        self.proof = spec.proof
        self.settings = settings
        self.state: LaneState = "opening"
        self.reason: str | None = None
        self.proof_verdict: ProofVerdict | None = None
        self.memory_bytes = 0
        self.measurement: OpeningMeasurement | None = None
        self.seats: list[WorkerDriver] = []
        self._opened_as: WeakKeyDictionary[WorkerDriver, SeatOpening] = WeakKeyDictionary()
        self.dedicated_worker = spec.dedicated_worker
        self.exclusive_frame = False
        self.overlay: Path | None = spec.overlay
        self.used_at = asyncio.get_running_loop().time()
        self.load = LaneLoad(settings)
        self._loop = asyncio.get_running_loop()
        self._spec = spec
        self._frames = spec.frames
        self._pool = pool
        self._waiting: BatchQueue[LaneRequest] = BatchQueue(settings.batch, pool.queued)
        self._running = 0
        self._seating: asyncio.Task[None] | None = None
        self._lingering: asyncio.TimerHandle | None = None

    @property
    def serving(self) -> bool:
        """Whether it takes requests now."""
        return self.state == "serving"

    @property
    def run_s(self) -> float:
        """Longest time for one batch."""
        return self.settings.run_s

    @property
    def keep_warm(self) -> bool:
        """Whether it is never let go for want of memory."""
        return self.settings.keep_warm

    @property
    def needs(self) -> Needs:
        """The kind of worker that it needs."""
        return needed_worker(self.manifest, self.settings)

    @property
    def light(self) -> bool:
        """Whether it may share a worker: data only, and small."""
        size = sum(member.size_bytes for path, member in self.manifest.members.items() if path not in self.manifest.notes_of_training)
        return self.needs == "graphs" and self.overlay is None and size <= _LIGHT_BYTES

    @property
    def waiting_rows(self) -> int:
        """Rows in the queue now."""
        return self._waiting.rows

    @property
    def waiting(self) -> int:
        """Requests in the queue now."""
        return len(self._waiting)

    @property
    def worker_pid(self) -> int | None:
        """Process id of its first worker, if one runs."""
        return self.seats[0].worker.pid if self.seats else None

    @property
    def idle(self) -> bool:
        """Whether nothing waits or runs."""
        return not self.waiting and not self._running and self._seating is None

    # -- opening and closing ------------------------------------------------------------------------------------------

    async def open(self, measure_s: float = 0.0) -> ProofVerdict:
        """Open and prove the package in a worker, measure it for so long, then take traffic. Raise ProofFailed, or the error that the
        worker reports; the lane then takes no requests.
        """
        try:
            await self._pool.make_room(self, self._spec.expected_bytes)
            await self._seat(measure_s)
        except BaseException as error:
            self.state, self.reason = "down", str(error)
            raise
        self.state, self.reason = "serving", None
        self._pool.lanes.add(self)
        assert self.proof_verdict is not None
        return self.proof_verdict

    async def _seat(self, measure_s: float = 0.0) -> None:
        opening = self.settings.opening
        seat = await open_seat(self._spec, self.settings, self, self._pool, measure_s)
        self._opened_as[seat.driver] = opening
        driver, self.proof_verdict = seat.driver, seat.verdict
        self.memory_bytes = max(self.memory_bytes, seat.memory_bytes)
        self.measurement = seat.measurement or self.measurement
        if not seat.verdict.passed:
            self._pool.give_up_seat(self, driver)
            raise ProofFailed(
                f"{self.name} does not reproduce its training: {seat.verdict.sentence()}; it takes no traffic. {USUAL_CAUSES}",
                differences=[difference.sentence() for difference in seat.verdict.differences],
            )
        if self.state == "closed":
            self._pool.give_up_seat(self, driver)
            raise Unavailable(f"{self.name} was closed while it was opened")
        self.seats.append(driver)
        if len(self._waiting):
            driver.schedule_lane(self)

    async def close(self, drain_s: float = 30.0) -> None:
        """Finish what waits, for at most ``drain_s`` seconds, then give up the seats."""
        deadline = time.perf_counter() + drain_s
        while (self.waiting or self._running) and time.perf_counter() < deadline and self.state != "down":
            await asyncio.sleep(0.005)
        self.state, self.reason = "closed", "the lane was closed"
        self._pool.lanes.discard(self)
        if self._seating is not None:
            self._seating.cancel()
            await asyncio.gather(self._seating, return_exceptions=True)
        self._refuse_all(self.reason)
        seats, self.seats = self.seats, []
        for driver in seats:
            self._pool.give_up_seat(self, driver)

    def apply_settings(self, settings: LaneSettings) -> None:
        """Apply other settings. Waiting requests stay in the queue."""
        self.settings = settings
        self._waiting.policy = settings.batch
        self.load.apply_settings(settings)

    @property
    def _stale_seat(self) -> WorkerDriver | None:
        """A seat that was opened for other settings than the present ones."""
        return next((seat for seat in self.seats if self._opened_as.get(seat, self.settings.opening) != self.settings.opening), None)

    def needs_maintenance(self, since: float) -> bool:
        """Whether the lane was used since that time, has requests in hand, or has copies that it may not need."""
        return self.used_at >= since or not self.idle or len(self.seats) != 1 or self._stale_seat is not None

    def adapt_to_load(self, now: float) -> int:
        """Adapt to the load since the last call of this method. Returns how many copies there should be, 0 for none."""
        copies = self.load.wanted_copies(now, len(self.seats), self.waiting, now - self.used_at)
        self._waiting.rows_s = self.load.rows_s
        if self.state == "serving" and self._seating is None and self.seats:
            if (stale := self._stale_seat) is not None:
                self._seating = asyncio.create_task(self._replace_stale(stale), name=f"{self.name} with other settings")
            elif copies > len(self.seats) and self._pool.memory_bytes + self.memory_bytes <= self._pool.budget_bytes:
                self._seating = asyncio.create_task(self._another(), name=f"another copy of {self.name}")
            elif 0 < copies < len(self.seats):
                free = next((seat for seat in reversed(self.seats) if not seat.busy), None)
                if free is not None:
                    self.seats.remove(free)
                    self._pool.give_up_seat(self, free)
        return copies if self.state == "serving" else len(self.seats)

    def relieve(self) -> None:
        """Let requests that wait for a silent worker go elsewhere: to a seat that is free, or to one more."""
        if not len(self._waiting) or self.state != "serving":
            return
        if any(not seat.busy for seat in self.seats):
            self._kick()
            return
        fits = self._pool.memory_bytes + self.memory_bytes <= self._pool.budget_bytes
        if fits and self._seating is None and sum(seat.hangs for seat in self.seats) < _MOST_SILENT:
            self._seating = asyncio.create_task(self._another(), name=f"{self.name} without a silent worker")

    def usual_s(self, rows: int) -> float:
        """Seconds that so many rows usually take; 0 while that is not known."""
        return rows / self.load.rows_s if self.load.rows_s > 0 else 0.0

    @property
    def condition(self) -> LaneCondition:
        """State and reason, as they are now."""
        if self.state == "serving" and (silent := [seat for seat in self.seats if seat.hangs]):
            mine = any(self in seat.lanes_in_hand for seat in silent)
            return LaneCondition(self.name, "silent", "its worker does not answer" if mine else "a worker that it shares does not answer")
        return LaneCondition(self.name, self.state, self.reason)

    async def _replace_stale(self, stale: WorkerDriver) -> None:
        """Open a seat for the present settings, then give up one of earlier settings once it has answered what it has in hand."""
        await self._another()
        if all(self._opened_as.get(seat) != self.settings.opening for seat in self.seats):
            return  # it could not be opened, and the earlier one goes on
        if stale in self.seats:
            self.seats.remove(stale)
            while self in stale.lanes_in_hand:
                await asyncio.sleep(_GIVE_UP_S)
            self._pool.give_up_seat(self, stale)

    async def _another(self) -> None:
        """Open one more copy. A failure is logged, and the other copies go on serving."""
        try:
            await self._seat()
        except (LampPostError, OSError) as error:
            log.warning("%s: another copy could not be opened: %s", self.name, error)
        finally:
            self._seating = None

    # -- requests -----------------------------------------------------------------------------------------------------

    async def predict(self, rows: Sequence[Row], size_bytes: int, terms: RequestOptions = LIVE_REQUEST) -> LaneAnswer:
        """Answer rows that this lane's `plan` has read. size_bytes : of the body.

        Raise LaneFull, DeadlinePassed, Unavailable or ModelFault.
        """
        done: asyncio.Future[LaneAnswer] = self._loop.create_future()
        self.submit(rows, size_bytes, terms, done, terms.request_id)
        return await done

    async def predict_columns(
        self, columns: Sequence[Column], rows: int, size_bytes: int, terms: RequestOptions = LIVE_REQUEST
    ) -> LaneAnswer:
        """Answer many rows as columns, in columns. Requests with columns are batches of their own."""
        done: asyncio.Future[LaneAnswer] = self._loop.create_future()
        self._enqueue(LaneRequest((), done, time.monotonic(), terms, columns, terms.request_id), rows, size_bytes)
        return await done

    def submit(self, rows: Sequence[Row], size_bytes: int, terms: RequestOptions, done: AnswerReceiver, request_id: str = "") -> None:
        """Queue rows; ``done`` gets the answer or an error later, from the event loop. Raise LaneFull or Unavailable if the rows are not
        queued.
        """
        self._enqueue(LaneRequest(rows, done, time.monotonic(), terms, None, request_id), len(rows), size_bytes)

    def _enqueue(self, request: LaneRequest, rows: int, size_bytes: int) -> None:
        if self.state in ("down", "closed", "opening"):
            raise Unavailable(f"{self.name} is not serving: {self.reason or self.state}; see lamppost show {self.name}")
        if self._pool.queued.size_bytes + size_bytes > MAX_QUEUED_BYTES:
            raise LaneFull("too many bytes of requests are waiting on this node; try again in a second", retry_after_s=1)
        self.used_at = request.since
        terms = request.terms
        self._waiting.add(Job(request, rows, size_bytes, terms.bulk, terms.deadline, request.since))
        self.load.requests += 1
        enough = len(self._waiting) >= self.load.enough
        at_once = enough and self.load.busy
        if self._lingering is None:
            if self.settings.batch.linger_s:
                self._lingering = self._loop.call_later(self.settings.batch.linger_s, self._kick)
            else:
                self._kick(at_once)
        elif enough or self._waiting.rows >= self.load.max_rows:
            self._kick(at_once)

    def _kick(self, at_once: bool = False) -> None:
        if self._lingering is not None:
            self._lingering.cancel()
            self._lingering = None
        for driver in self.seats:
            if not driver.busy:
                driver.schedule_lane(self, at_once)
                return
        for driver in self.seats:
            driver.schedule_lane(self)

    # -- what a driver asks and tells ---------------------------------------------------------------------------------

    def take_batch(self, room: int, now: float) -> FramePart | None:
        """The next batch, up to ``room`` rows, as columns on the wire; None if nothing waits, or if waiting for more rows pays."""
        if (wait_s := self.load.gather_s(now, len(self._waiting))) > 0:
            if self._lingering is None:
                self._lingering = self._loop.call_later(wait_s, self._kick)
            return None
        pieces, late = self._waiting.take_batch(now, is_over, min(room, self.load.max_rows))
        for job in late:
            if not job.item.done.done():
                job.item.done.set_exception(
                    DeadlinePassed(f"the answer was wanted sooner than {self.name} could give it; it was not asked")
                )
        if not pieces:
            return None
        first = pieces[0].job.item
        if any(piece.job.item.columns is not None for piece in pieces) and len(pieces) > 1:
            # columns are a batch of their own: they need not become rows
            keep = 1 if first.columns is not None else next(at for at, piece in enumerate(pieces) if piece.job.item.columns is not None)
            self._waiting.put_back(pieces[keep:])
            pieces = pieces[:keep]
        rows = sum(piece.rows for piece in pieces)
        if first.columns is not None:
            entries, body = pack_columns(slice_columns(first.columns, pieces[0].start, pieces[0].stop))
        elif len(pieces) == 1 and pieces[0].rows == len(first.rows):
            entries, body = self._frames.pack(first.rows)
        else:
            entries, body = self._frames.pack([row for piece in pieces for row in piece.job.item.rows[piece.start : piece.stop]])
        self._running += 1
        self.load.note_sent(rows, len(pieces), len(self._waiting), now)
        request = first.request_id if len(pieces) == 1 else ""
        return FramePart(
            self,
            LaneBatch(pieces, rows, first.columns is not None),
            rows,
            entries,
            body,
            request,
            self.private,
            self._frames.most_bytes(rows),
        )

    def keep_private(self) -> None:
        """Let nothing of failing rows reach messages and logs: an endpoint that this lane answers for has private fields."""
        self.private = True

    def deliver_answers(self, part: FramePart, header: dict[str, Any], body: bytes, sent: float) -> None:
        """Deliver the answers of a batch to the requests that wait for them."""
        self._running -= 1
        self.exclusive_frame = False
        batch: LaneBatch = part.batch
        now = time.monotonic()
        took = now - sent
        try:
            columns: list[Column] | None = None
            rows: list[Row] = []
            if batch.as_columns:
                columns = self._frames.read_columns(header, body, batch.rows)
                check_answer_columns(self.answers, columns, batch.rows)
            else:
                rows = self._frames.read_rows(header, body, batch.rows)
        except LampPostError as error:
            self._failed(batch, error)
            return
        at = 0
        for piece in batch.pieces:
            request, size = piece.job.item, piece.rows
            if batch.as_columns:
                answer = LaneAnswer([], sent - request.since, took, batch.rows, columns)
            else:
                answer = LaneAnswer(rows[at : at + size], sent - request.since, took, batch.rows)
            at += size
            if not request.done.done():
                self._settle(piece, answer)
        alone = header.get("us")
        alone_s = alone / 1e6 if isinstance(alone, int) and 0 <= alone <= took * 1e6 else took
        self.load.note_ran(batch.rows, alone_s, [now - piece.job.item.since for piece in batch.pieces])

    def _settle(self, piece: JobSlice[LaneRequest], answer: LaneAnswer) -> None:
        """Deliver the answer of a request once all slices of the request are answered."""
        job = piece.job
        request = job.item
        if piece.rows == job.rows:
            request.done.set_result(answer)
            return
        request.answers[piece.start] = answer
        if (
            sum(len(answer.rows) if answer.columns is None else len(answer.columns[0].values) for answer in request.answers.values())
            < job.rows
        ):
            return
        parts = [request.answers[start] for start in sorted(request.answers)]
        joined = [row for part in parts for row in part.rows]
        columns = None
        if request.columns is not None:
            columns = join_columns(self.answers, [part.columns or [] for part in parts])
        times = min(part.queue_s for part in parts), sum(part.worker_s for part in parts)
        request.done.set_result(LaneAnswer(joined, *times, max(part.batch_rows for part in parts), columns))

    def _failed(self, batch: LaneBatch, error: LampPostError) -> None:
        """Try a batch again on which the model failed: request by request, and a request of several rows in halves, to find the bad row."""
        again: list[JobSlice[LaneRequest]] = []
        for piece in batch.pieces:
            request = piece.job.item
            if request.done.done():
                continue
            piece.exclusive_batch = True
            if len(batch.pieces) > 1:
                again.append(piece)
            elif piece.rows > 1 and not names_row(error):
                again += piece.split(piece.rows // 2)
            else:
                request.done.set_exception(error_in_request(error, piece))
        self._waiting.put_back(again)
        self._kick()

    def retry_interrupted(self, part: FramePart, reason: str, together: bool) -> None:
        """Try a batch once more over which the worker ended. together : whether other lanes had batches in the same frame."""
        self._running -= 1
        batch: LaneBatch = part.batch
        again: list[JobSlice[LaneRequest]] = []
        for piece in batch.pieces:
            piece.tries += 1
            request = piece.job.item
            if request.done.done():
                continue
            if piece.tries < self.settings.tries:
                again.append(piece)
            else:
                message = f"the worker of {self.name} ended {piece.tries} times on this request ({reason}); it was given up"
                request.done.set_exception(ModelFault(message))
        self.exclusive_frame = True
        self.dedicated_worker = self.dedicated_worker or not together
        self._waiting.put_back(again)

    def replace_seat(self, driver: WorkerDriver, reason: str) -> None:
        """Replace a seat whose worker has ended."""
        if driver in self.seats:
            self.seats.remove(driver)
        self._pool.end_worker(driver)
        if self.state not in ("serving", "restarting"):
            return
        if self.seats:
            self._kick()
            return
        self.state, self.reason = "restarting", reason
        if self._seating is None:
            self._seating = asyncio.create_task(self._restart(), name=f"restart of {self.name}")

    async def _restart(self) -> None:
        """Open a new seat, with growing pauses. After three failures the requests that wait are refused."""
        backoff = Backoff().failed(time.monotonic())
        try:
            while not self.seats:
                await asyncio.sleep(backoff.wait(time.monotonic()))
                try:
                    await self._seat()
                except (LampPostError, WorkerGone, OSError) as error:
                    if self.state == "closed":
                        return
                    backoff = backoff.failed(time.monotonic())
                    self.reason = str(error)
                    log.error("%s: %s", self.name, error)
                    if backoff.failures > 3:
                        self.state = "down"
                        self._refuse_all(self.reason)
        finally:
            self._seating = None
        self.state, self.reason = "serving", None
        self._kick()

    def _refuse_all(self, reason: str) -> None:
        for request in self._waiting.drain():
            if not request.done.done():
                request.done.set_exception(Unavailable(f"{self.name} is not serving: {reason}"))
