"""Measures the load of a lane, and applies the rules for rows of a batch and number of copies."""

from __future__ import annotations

from collections import Counter, deque
from typing import TYPE_CHECKING

from lamppost.core.engine.scaling import LaneUsage, could_spare, next_copies, next_rows

if TYPE_CHECKING:
    from lamppost.runtime.lane_options import LaneSettings

_KEPT_S = 600
_ANSWERS = 400
_LOOK_S = 0.4
_GATHER_S = 0.002
_GATHER_RUNS = 4
_MANY = 8


class LaneLoad:
    """The lane reports its batches here; `wanted_copies` applies the rules. Times are seconds of the loop's clock.

    max_rows : rows that a batch may have now. rows_s : rows a second that the lane ran of late while it worked. batches : how often a
    batch had so many rows, in powers of two. copies : how many there were, and since when.
    """

    def __init__(self, settings: LaneSettings) -> None:
        self.max_rows = settings.batch.max_rows
        self.rows_s = 0.0
        self.batches: Counter[int] = Counter()
        self.copies: deque[tuple[float, int]] = deque(maxlen=200)
        self.requests = 0
        self._settings = settings
        self._waited: deque[float] = deque(maxlen=_ANSWERS)
        self._run_s = 0.0
        self._peak = 1.0
        self._sent_requests = self._sent_rows = self._left = self._flow_rows = 0
        self._flow_s = 0.0
        self._sent_at = 0.0
        self._each_s = 0.0
        self._rows = 0
        self._work_s = 0.0
        self._full = False
        self._seen_at: float | None = None
        self._spare_since: float | None = None

    def apply_settings(self, settings: LaneSettings) -> None:
        """Apply other bounds."""
        self._settings = settings
        self.max_rows = settings.batch.max_rows

    @property
    def enough(self) -> float:
        """The number of waiting requests at which a batch goes at once: half of those that recently waited together."""
        return self._peak / 2

    @property
    def busy(self) -> bool:
        """Whether enough requests recently waited together that half of them can be sent while the others are still being read."""
        return self._peak >= _MANY

    def gather_s(self, now: float, waiting: int) -> float:
        """Seconds that waiting requests should wait for more; 0 to send them now. A small batch costs nearly as much as a larger one. So a
        batch waits until half of the requests that recently waited together are there again, but never longer than a few times the duration
        of a batch, and 2 ms at most. One or two callers never wait.
        """
        if waiting >= self.enough:
            return 0.0
        return self._sent_at + min(_GATHER_S, _GATHER_RUNS * self._each_s) - now

    def note_sent(self, rows: int, requests: int, left: int, now: float) -> None:
        """Note that a batch of so many requests was sent. left : requests that stayed in the queue."""
        self.batches[1 << max(0, rows - 1).bit_length()] += 1
        self._full = self._full or (left > 0 and rows >= self.max_rows)
        if self._left:
            self._flow_s += now - self._sent_at
            self._flow_rows += self._sent_rows
        self._left, self._sent_rows = left, rows
        self._peak = max(float(requests + left + self._sent_requests), 0.95 * self._peak)
        self._sent_requests = requests
        self._sent_at = now

    def note_ran(self, rows: int, took_s: float, waited_s: list[float]) -> None:
        """Note that a batch was answered. waited_s : seconds since each of its requests came."""
        self._rows += rows
        self._work_s += took_s
        self._each_s = took_s if not self._each_s else 0.9 * self._each_s + 0.1 * took_s
        self._run_s = max(self._run_s, took_s)
        self._waited.extend(waited_s)

    def wanted_copies(self, now: float, copies: int, waiting: int, quiet_s: float) -> int:
        """Apply the rules to the load since the last call; returns the number of copies that there should be."""
        if not self.copies or self.copies[-1][1] != copies:
            self.copies.append((now, copies))
        if self._seen_at is None:
            self._seen_at = now
            return copies
        past_s = now - self._seen_at
        if past_s < _LOOK_S:
            return copies
        busy = min(1.0, self._work_s / past_s / max(1, copies))
        self._seen_at = now
        if self._flow_s or self._work_s:
            # as long as requests stay behind, what goes out in a second is what all of this machine can do, not only the workers
            rate = self._flow_rows / self._flow_s if self._flow_s else self._rows / self._work_s * max(1, copies)
            self._flow_s, self._flow_rows = 0.0, 0
            self.rows_s = rate if not self.rows_s else 0.5 * self.rows_s + 0.5 * rate
        target = self._settings.target_ms
        if target is not None and len(self._waited) >= 50:
            p99 = sorted(self._waited)[int(len(self._waited) * 0.99)] * 1e3
            self.max_rows = next_rows(self.max_rows, self._settings.batch.max_rows, target, p99, self._run_s * 1e3, self._full)
            self._waited.clear()
        self._rows, self._work_s, self._run_s, self._full = 0, 0.0, 0.0, False
        spare = could_spare(copies, busy)
        self._spare_since = (self._spare_since or now) if spare else None
        load = LaneUsage(busy, waiting, now - self._spare_since if self._spare_since is not None else 0.0, quiet_s)
        return next_copies(copies, load, self._settings.copies)
