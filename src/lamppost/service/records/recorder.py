"""Moves records from memory to the spool on disk, and from there to PostgreSQL. An answer never waits for its record.

`RecordBuffer.add_record` only appends to a bounded buffer; every tenth of a second what that holds becomes a frame of the spool, where it
survives the end of this process; another task brings frames to the database. While the database is away the spool grows to its
bound. Only where the disk takes nothing the buffer fills; past its bound the oldest records give way and are counted.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
from pathlib import Path

from lamppost.core.engine.backoff import Backoff
from lamppost.service.ended_tasks import end_tasks
from lamppost.service.records.record_buffer import RecordBuffer
from lamppost.service.records.record_writer import RecordSink
from lamppost.store.call_records import CallBundle, bundle_calls
from lamppost.store.database import is_away
from lamppost.store.set_aside import SetAsideFrames
from lamppost.store.spool import Spool, SpoolPortion

log = logging.getLogger("lamppost.records")

_PAUSE_S = 0.1
_QUICK_S = 0.02
_FRAME_CALLS = 2_000
_FRAME_BYTES = 4 * 2**20
_DELIVERY_BYTES = 4 * 2**20
_LONGEST_REST_S = 10.0


class Recorder(RecordBuffer):
    """Buffer, spool and delivery. `start` once, `add_record` from the event loop; `stop` leaves nothing in memory.

    sink : takes what is delivered.
    dropped : records lost from memory, because the disk did not take them, or the database could not hold them.
    """

    def __init__(self, sink: RecordSink, folder: Path, most_bytes: int, otlp: str | None = None) -> None:
        super().__init__(otlp)
        self.written = 0
        self.spool = Spool(folder, most_bytes)
        self.set_aside = SetAsideFrames(folder)
        self.sink = sink
        self._moving = 0
        self._tasks: list[asyncio.Task[None]] = []
        self._stopping = asyncio.Event()
        self._away = False
        self.spool_failure: str | None = None

    def trouble(self) -> tuple[str, ...]:
        """What is wrong with records on this node, in words."""
        if self.spool_failure is None:
            return ()
        return (f"records of calls cannot be written to the spool, and are lost once memory for them is full: {self.spool_failure}",)

    def start(self) -> None:
        """Begin writing in the background."""
        self.spans.start()
        self._tasks = [asyncio.create_task(self._fill(), name="spool"), asyncio.create_task(self._deliver(), name="records")]

    @property
    def waiting(self) -> int:
        """Records that are not in the database yet."""
        return len(self._calls) + self._bundled_calls + self._moving + self.spool.waiting

    async def stop(self, patience_s: float = 10.0) -> None:
        """Deliver what is left to the database, for at most ``patience_s`` seconds. The rest stays in the spool."""
        self._stopping.set()
        if self._tasks:
            _, late = await asyncio.wait(self._tasks, timeout=patience_s)
            await end_tasks(late)
            await asyncio.gather(*self._tasks, return_exceptions=True)
        await self.sink.close()
        await self.spans.close()
        with contextlib.suppress(OSError):
            await asyncio.to_thread(self.spool.close)
        if self.spool.waiting:
            log.warning("%d records are in the spool; the next start brings them to the database", self.spool.waiting)
        self._bundle()
        if self._bundled_calls:
            log.error("%d records could be written nowhere", self._bundled_calls)
            self.dropped += self._bundled_calls

    async def retry_set_aside(self) -> int:
        """Put the frames that were set aside into the spool again; returns how many calls they hold."""
        return await asyncio.to_thread(self._retry_set_aside)

    def _retry_set_aside(self) -> int:
        retried = 0
        for about in self.set_aside.list_frames():
            if about.kind == "counts":
                continue
            try:
                calls = self.set_aside.read_calls(about)
            except Exception as error:  # damaged in a way that only reading shows; it stays, and the others go
                log.error("%s cannot be read: %s", about.name, error)
                continue
            self.spool.append([bundle_calls(calls)])
            self.set_aside.remove_frame(about)
            retried += len(calls)
        return retried

    async def _fill(self) -> None:
        """Move records from memory to the spool until the recorder stops."""
        while self._calls or self._bundled_calls or not self._stopping.is_set():
            if self._bundled_calls < _FRAME_CALLS:
                await self._pause(_PAUSE_S)
            self._bundle()
            taken = self._frame()
            if not taken:
                continue
            self._moving = sum(bundle.calls for bundle in taken)
            try:
                await asyncio.to_thread(self._append, taken)
                if self.spool_failure is not None:
                    log.warning("the spool can be written again")
                self.spool_failure = None
            except OSError as error:
                self._moving = 0
                for bundle in reversed(taken):
                    self._bundles.appendleft(bundle)
                    self._count(bundle, 1)
                if self.spool_failure is None:
                    log.error("the spool cannot be written, records stay in memory: %s", error)
                self.spool_failure = error.strerror or str(error)
                if self._stopping.is_set():
                    return
                await self._pause(1.0)
            finally:
                self._moving = 0

    def _append(self, bundles: list[CallBundle]) -> None:
        self.spool.append(bundles)
        if self._away:
            self.spool.sync()

    def _frame(self) -> list[CallBundle]:
        """Take the bundles that go into one frame."""
        taken: list[CallBundle] = []
        calls = size = 0
        while self._bundles and calls < _FRAME_CALLS and size < _FRAME_BYTES:
            taken.append(bundle := self._bundles.popleft())
            self._count(bundle, -1)
            calls, size = calls + bundle.calls, size + len(bundle.payloads)
        return taken

    async def _deliver(self) -> None:
        """Move records from the spool to the database until the recorder stops."""
        backoff = Backoff()
        loop = asyncio.get_running_loop()
        while True:
            portion = await asyncio.to_thread(self.spool.take_portion, _DELIVERY_BYTES)
            if portion is None:
                if self._stopping.is_set() and self._tasks[0].done():
                    return
                await self._pause(_PAUSE_S)
                continue
            try:
                await self._store(portion)
            except Exception as error:
                # also a fault of our own must not end the delivery: the spool would grow to its bound, and nobody would see why
                away = is_away(error)
                self._away = self._away or away
                backoff = backoff.failed(loop.time())
                if backoff.failures in (1, 5) and away:
                    log.warning("records wait in the spool, the database does not take them: %s", str(error).strip())
                elif backoff.failures in (1, 5):
                    log.exception("records wait in the spool, delivering them failed")
                await self._pause(min(5.0, max(_PAUSE_S, backoff.wait(loop.time()))))
            else:
                self._away, backoff = False, Backoff()

    async def _store(self, portion: SpoolPortion) -> None:
        started = time.perf_counter()
        lost = await self.sink(portion)
        took = time.perf_counter() - started
        self.dropped += lost
        self.written += portion.calls - lost
        self.spool.mark_delivered(portion)
        if took > _QUICK_S:
            # under load the answers come first: records rest in the spool, the less the fuller that is
            room = max(0.0, 1.0 - 4 * self.spool.size / self.spool.most_bytes)
            await self._pause(min(_LONGEST_REST_S, 5 * took * room))

    async def _pause(self, seconds: float) -> None:
        try:
            await asyncio.wait_for(self._stopping.wait(), seconds)
        except TimeoutError:
            return
        await asyncio.sleep(0.02)  # stopping with something left: do not spin while the database is away
