"""The queue of a lane, sans I/O: bounded in rows and bytes, and work-conserving.

Whoever drives it calls `Waiting.take` as soon as a worker is free, so a lone request never waits; while all workers are busy,
requests gather and the next `take` gives them all, up to ``max_rows``.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

from lamppost.core.errors import LaneFull

T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class BatchPolicy:
    """Bounds of one lane.

    max_rows : most rows in one batch; a request with more goes alone, whole.
    queue_rows, queue_bytes : most that may wait; bytes are those of the request bodies.
    """

    max_rows: int = 1_024
    queue_rows: int = 20_000
    queue_bytes: int = 64 * 2**20


class Waiting(Generic[T]):
    """Requests that wait for a worker, first in first out."""

    def __init__(self, policy: BatchPolicy) -> None:
        self.policy = policy
        self.rows = 0
        self.size_bytes = 0
        self._items: deque[tuple[T, int, int]] = deque()

    def __len__(self) -> int:
        return len(self._items)

    def add(self, item: T, rows: int, size_bytes: int) -> None:
        """Let a request wait; raise LaneFull, changing nothing, when that would pass a bound. An empty queue takes any one."""
        policy = self.policy
        if self._items and (self.rows + rows > policy.queue_rows or self.size_bytes + size_bytes > policy.queue_bytes):
            raise LaneFull(
                f"{self.rows} rows in {len(self._items)} requests are waiting already; try again in a second",
                waiting_rows=self.rows,
                waiting_requests=len(self._items),
                retry_after_s=1,
            )
        self._items.append((item, rows, size_bytes))
        self.rows += rows
        self.size_bytes += size_bytes

    def put_back(self, items: Iterable[tuple[T, int, int]]) -> None:
        """Put a batch that was taken but not answered first in line again, in its order. Not held to the bounds."""
        for item, rows, size_bytes in reversed(list(items)):
            self._items.appendleft((item, rows, size_bytes))
            self.rows += rows
            self.size_bytes += size_bytes

    def take(self) -> list[tuple[T, int, int]]:
        """The next batch as (item, rows, bytes): whole requests in order, ``max_rows`` rows at most but at least one request."""
        batch: list[tuple[T, int, int]] = []
        total = 0
        while self._items and (not batch or total + self._items[0][1] <= self.policy.max_rows):
            item, rows, size_bytes = self._items.popleft()
            batch.append((item, rows, size_bytes))
            total += rows
            self.size_bytes -= size_bytes
        self.rows -= total
        return batch

    def drain(self) -> list[T]:
        """Everything that waits; the queue is empty afterwards."""
        items = [item for item, _, _ in self._items]
        self._items.clear()
        self.rows = self.size_bytes = 0
        return items
