"""Records on their way to PostgreSQL. An answer never waits for its record: `Recorder.add` only appends to a bounded buffer.

While the database is away the buffer grows to its bound; then the oldest records give way and are counted in `dropped`.
"""

from __future__ import annotations

import asyncio
import logging
from collections import deque
from datetime import date
from itertools import islice

import psycopg
from psycopg_pool import PoolTimeout

from lamppost.core.backoff import Backoff
from lamppost.store.database import Pool
from lamppost.store.records import Call, make_partition, write_calls

log = logging.getLogger("lamppost.records")

MAX_CALLS = 100_000
MAX_BYTES = 128 * 2**20
MAX_PAYLOAD_BYTES = 2**20
"""An input or answer above this is not kept with its record."""
_BATCH = 500
_DAY_1970 = date(1970, 1, 1).toordinal()
_PAUSE_S = 0.2


class Recorder:
    """Buffer and writer. `start` once, `add` from the event loop, `stop` writes what is left."""

    def __init__(self, pool: Pool) -> None:
        self.dropped = 0
        self.written = 0
        self._pool = pool
        self._calls: deque[Call] = deque()
        self._bytes = 0
        self._days: set[date] = set()
        self._task: asyncio.Task[None] | None = None
        self._stopping = asyncio.Event()

    def start(self) -> None:
        """Begin writing in the background."""
        self._task = asyncio.create_task(self._run(), name="records")

    def add(self, call: Call) -> None:
        """Take a record in; at the bound the oldest gives way."""
        self._calls.append(call)
        self._bytes += _size(call)
        while len(self._calls) > MAX_CALLS or self._bytes > MAX_BYTES:
            self._bytes -= _size(self._calls.popleft())
            self.dropped += 1

    @property
    def waiting(self) -> int:
        """Records that are not in the database yet."""
        return len(self._calls)

    async def stop(self, patience_s: float = 10.0) -> None:
        """Write what is left, for at most ``patience_s`` seconds; what cannot be written is counted as dropped."""
        self._stopping.set()
        if self._task is not None:
            try:
                await asyncio.wait_for(self._task, patience_s)
            except TimeoutError:
                log.error("%d records could not be written before the end", len(self._calls))
                self.dropped += len(self._calls)

    async def _run(self) -> None:
        backoff = Backoff()
        loop = asyncio.get_running_loop()
        while self._calls or not self._stopping.is_set():
            if len(self._calls) < _BATCH:
                await self._pause(_PAUSE_S)
            batch = list(islice(self._calls, _BATCH))
            if not batch:
                continue
            try:
                await self._write(batch)
            except (psycopg.OperationalError, PoolTimeout) as error:
                backoff = backoff.failed(loop.time())
                if backoff.failures in (1, 5):
                    log.warning("records wait, the database does not take them: %s", str(error).strip())
                await self._pause(min(5.0, max(_PAUSE_S, backoff.wait(loop.time()))))
            else:
                backoff = Backoff()
                self._drop(batch)

    async def _pause(self, seconds: float) -> None:
        try:
            await asyncio.wait_for(self._stopping.wait(), seconds)
        except TimeoutError:
            return
        if self._calls:  # stopping with something left: do not spin while the database is away
            await asyncio.sleep(0.02)

    async def _write(self, batch: list[Call]) -> None:
        try:
            for day in {date.fromordinal(_DAY_1970 + int(call.at // 86_400)) for call in batch} - self._days:
                await make_partition(self._pool, day)
                self._days.add(day)
            await write_calls(self._pool, batch)
            self.written += len(batch)
        except psycopg.DataError as error:  # one record the database cannot hold must not keep the others
            if len(batch) == 1:
                log.error("record %s was left out: %s", batch[0].request_id, str(error).strip())
                self.dropped += 1
                return
            middle = len(batch) // 2
            await self._write(batch[:middle])
            await self._write(batch[middle:])

    def _drop(self, batch: list[Call]) -> None:
        """Forget what was written; the buffer may have lost some of it to its bound meanwhile."""
        for call in batch:
            if self._calls and self._calls[0] is call:
                self._calls.popleft()
                self._bytes -= _size(call)


def _size(call: Call) -> int:
    return 300 + len(call.input or b"") + len(call.answer or b"")
