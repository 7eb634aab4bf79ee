"""The queue of a lane: bounded in rows and bytes, in two priorities, and cut into batches by rows. Does no I/O.

Whoever drives it calls `Waiting.take` as soon as a worker is free, so a lone request never waits; while all workers are busy,
requests gather and the next `take` gives as many rows as a batch may have. A request with more rows is given in several pieces, in
their order. Time comes in as a value, on the caller's clock.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

from lamppost.core.errors import LaneFull

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class BatchPolicy:
    """Bounds of one lane.

    max_rows : most rows in one batch. bulk_rows : most rows of bulk work in one batch, so that a live call never waits for more.
    queue_rows, queue_bytes : most that may wait; bytes are those of the request bodies. Bulk work may fill half of it.
    queue_s : longest that a request may be expected to wait, by the rows before it and the rows a second of late, and by how long the first
    in line has waited; None for no such bound.
    linger_s : how long a lone request waits for others before it goes.
    """

    max_rows: int = 1_024
    bulk_rows: int = 256
    queue_rows: int = 20_000
    queue_bytes: int = 64 * 2**20
    queue_s: float | None = None
    linger_s: float = 0.0


@dataclass(slots=True, eq=False)
class Job(Generic[T]):
    """A request that waits. since : when it came. deadline : when nobody waits for its answer any more, None for never."""

    item: T
    rows: int
    size_bytes: int
    bulk: bool = False
    deadline: float | None = None
    since: float = 0.0


@dataclass(slots=True, eq=False)
class JobSlice(Generic[T]):
    """Rows from ``start`` to ``stop`` of a job. exclusive_batch : whether it must be a batch of its own. tries : how often it was begun."""

    job: Job[T]
    start: int
    stop: int
    exclusive_batch: bool = False
    tries: int = 0

    @property
    def rows(self) -> int:
        """How many rows it is."""
        return self.stop - self.start

    def split(self, rows: int) -> tuple[JobSlice[T], JobSlice[T]]:
        """Its first rows, and the rest."""
        middle = self.start + rows
        first = JobSlice(self.job, self.start, middle, self.exclusive_batch, self.tries)
        return first, JobSlice(self.job, middle, self.stop, self.exclusive_batch, self.tries)


@dataclass(slots=True)
class QueuedTotals:
    """Rows and bytes that wait in several queues together."""

    size_bytes: int = 0


class BatchQueue(Generic[T]):
    """Requests that wait for a worker: live ones before bulk ones, each kind first in first out. tally : told of every byte too."""

    def __init__(self, policy: BatchPolicy, tally: QueuedTotals | None = None) -> None:
        self.policy = policy
        self._tally = tally or QueuedTotals()
        self.rows = 0
        self.size_bytes = 0
        self.rows_s = 0.0
        self._live: deque[JobSlice[T]] = deque()
        self._bulk: deque[JobSlice[T]] = deque()

    def __len__(self) -> int:
        return len(self._live) + len(self._bulk)

    def add(self, job: Job[T]) -> None:
        """Let a request wait; raise LaneFull, changing nothing, when that would pass a bound. An empty queue takes any one."""
        policy, share = self.policy, 2 if job.bulk else 1
        if self.rows:
            over = self.rows + job.rows > policy.queue_rows // share or self.size_bytes + job.size_bytes > policy.queue_bytes // share
            late, wait_s = False, 0.0
            if over or policy.queue_s is not None:
                wait_s = self.rows / self.rows_s if self.rows_s else 0.0
                if self._live and not job.bulk:  # whoever is first in line has waited for so long already
                    wait_s = max(wait_s, job.since - self._live[0].job.since)
                late = policy.queue_s is not None and wait_s > policy.queue_s
            if over or late:
                raise LaneFull(
                    f"{self.rows:,} rows in {len(self)} requests are waiting already{f', {wait_s:.2g} s of work' if wait_s else ''}; "
                    "try again in a second",
                    waiting_rows=self.rows,
                    waiting_requests=len(self),
                    retry_after_s=max(1, min(60, round(wait_s))),
                )
        (self._bulk if job.bulk else self._live).append(JobSlice(job, 0, job.rows))
        self.rows += job.rows
        self.size_bytes += job.size_bytes
        self._tally.size_bytes += job.size_bytes

    def put_back(self, pieces: Iterable[JobSlice[T]]) -> None:
        """Put slices that were taken but not answered back to the front, in their order. The bounds do not apply."""
        for piece in reversed(list(pieces)):
            (self._bulk if piece.job.bulk else self._live).appendleft(piece)
            self._count(piece, 1)

    def take_batch(self, now: float, gone: Callable[[T], bool], max_rows: int | None = None) -> tuple[list[JobSlice[T]], list[Job[T]]]:
        """The next batch, and the jobs that were dropped because their deadline has passed. Whoever is ``gone`` is dropped in silence.

        Live rows first; where bulk work waits too, an eighth of the batch is left to it.
        """
        most = self.policy.max_rows if max_rows is None else max_rows
        late: list[Job[T]] = []
        batch: list[JobSlice[T]] = []
        room = most - max(1, most // 8) if self._bulk and most > 1 else most
        used = self._fill(batch, self._live, max(1, room), now, gone, late)
        if not (batch and batch[0].exclusive_batch):
            left = min(self.policy.bulk_rows, most - used)
            if left > 0:
                self._fill(batch, self._bulk, left, now, gone, late)
        return batch, late

    def _fill(
        self, batch: list[JobSlice[T]], line: deque[JobSlice[T]], room: int, now: float, gone: Callable[[T], bool], late: list[Job[T]]
    ) -> int:
        used = 0
        while line and used < room:
            piece = line[0]
            job = piece.job
            if gone(job.item) or (job.deadline is not None and job.deadline < now):
                line.popleft()
                self._count(piece, -1)
                if not gone(job.item):
                    late.append(job)
                continue
            if piece.exclusive_batch and batch:
                break
            line.popleft()
            if piece.rows > room - used:
                piece, rest = piece.split(room - used)
                line.appendleft(rest)
            self._count(piece, -1)
            batch.append(piece)
            used += piece.rows
            if piece.exclusive_batch:
                break
        return used

    def _count(self, piece: JobSlice[T], sign: int) -> None:
        """Rows and bytes as pieces come and go; a piece has its share of the request's bytes."""
        job, rows = piece.job, piece.rows
        size = job.size_bytes
        if rows != job.rows:
            size = size * piece.stop // max(1, job.rows) - size * piece.start // max(1, job.rows)
        self.rows += sign * rows
        self.size_bytes += sign * size
        self._tally.size_bytes += sign * size

    def drain(self) -> list[T]:
        """Everything that waits, each request once; the queue is empty afterwards."""
        items = dict.fromkeys(piece.job.item for line in (self._live, self._bulk) for piece in line)
        self._live.clear()
        self._bulk.clear()
        self._tally.size_bytes -= self.size_bytes
        self.rows = self.size_bytes = 0
        return list(items)
