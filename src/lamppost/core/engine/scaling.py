"""Rules by which a lane follows its load: copies by how busy they are, rows of a batch by a latency target."""

from __future__ import annotations

from dataclasses import dataclass

BUSY = 0.8
"""A copy that worked for more than this share of the time, with requests waiting, wants company."""
_SPARE = 0.5
QUIET_S = 10.0
"""How long copies must be dispensable before one goes."""


@dataclass(frozen=True, slots=True)
class CopyBounds:
    """least, most : copies while it is open. sleep_after_s : quiet time after which it is let go, None for never."""

    least: int = 1
    most: int = 1
    sleep_after_s: float | None = None


@dataclass(frozen=True, slots=True)
class LaneUsage:
    """busy : share of the time, 0 to 1, that its copies worked, their mean. waiting : requests in the queue.

    spare_s : for how long one copy fewer would have done. quiet_s : since the last request.
    """

    busy: float
    waiting: int
    spare_s: float
    quiet_s: float


def next_copies(copies: int, load: LaneUsage, bounds: CopyBounds) -> int:
    """How many copies there should be now; one step at a time, 0 for a lane that may sleep.

    >>> next_copies(1, LaneUsage(busy=0.95, waiting=8, spare_s=0, quiet_s=0), CopyBounds(1, 4))
    2
    """
    if copies < bounds.least:
        return bounds.least
    if load.busy > BUSY and load.waiting and copies < bounds.most:
        return copies + 1
    if copies > bounds.most or (copies > max(1, bounds.least) and load.spare_s >= QUIET_S):
        return copies - 1
    if bounds.sleep_after_s is not None and load.quiet_s >= bounds.sleep_after_s and not load.waiting:
        return 0
    return copies


def could_spare(copies: int, busy: float) -> bool:
    """Whether one copy fewer would be busy for less than half of the time."""
    return copies > 1 and busy * copies / (copies - 1) < _SPARE


def next_rows(rows: int, most: int, target_ms: float, p99_ms: float, run_ms: float, full: bool) -> int:
    """Rows of a batch, after a while of answers: fewer when the batches themselves take too long, more when there is room and need.

    p99_ms : of all answers. run_ms : of the batches alone, their longest. full : whether batches were as large as they may be.
    Waiting is not shortened by smaller batches, so only the time of a batch makes them smaller.

    >>> next_rows(512, 1024, target_ms=10, p99_ms=25, run_ms=14, full=True), next_rows(512, 1024, 10, 5, 3, True)
    (358, 576)
    """
    if p99_ms > target_ms and run_ms > target_ms / 2:
        return max(1, int(rows * 0.7))
    if full and (run_ms < target_ms / 3 or p99_ms < 0.8 * target_ms):
        return min(most, rows + max(1, rows // 8))
    return rows
